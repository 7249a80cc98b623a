package e2e

import (
	"encoding/json"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/e2e/driver"
)

const snoopedSite = `
site: Snooped
seed: 1
devices:
  - {id: listed, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, address: 192.168.1.20/24}
  - {id: unlisted, model: verrine-dome, mac: "02:e4:42:00:01:02", serial: B, address: 172.31.7.20/24}
  - {id: home, model: verrine-dome, mac: "02:e4:42:00:01:03", serial: C, address: 10.61.8.77/23}
`

// Through a bridge that snoops for members of groups: without a querier it lets the
// reports through, and a silent device in a subnet that nobody thought of is found. With
// one it keeps them for routers; what is swept is found all the same, and nothing is upset.
func TestASwitchThatSnoops(t *testing.T) {
	t.Parallel()
	program := driver.Built(t)
	for name, c := range map[string]struct {
		querier string
		least   []string
	}{
		"without a querier": {"0", []string{"02:e4:42:00:01:01", "02:e4:42:00:01:02", "02:e4:42:00:01:03"}},
		"with a querier":    {"1", []string{"02:e4:42:00:01:01", "02:e4:42:00:01:03"}},
	} {
		t.Run(name, func(t *testing.T) {
			l := newLAN(t)
			l.in("sw", "ip", "link", "set", "br0", "type", "bridge", "mcast_snooping", "1", "mcast_querier", c.querier)
			l.plug("laptop", "02:1a:70:00:00:01", "10.61.8.200/23")
			l.plug("bench", "02:be:00:00:00:01", "")
			l.attach(program, "bench", snoopedSite)
			job := filepath.Join(t.TempDir(), "job")
			l.in("laptop", program, "begin", job, "--subnet", "10.61.8.0/23", "--quiet")
			var survey struct {
				Devices []struct{ MAC, Access string }
			}
			require.NoError(t, json.Unmarshal([]byte(l.in("laptop", program, "--job", job, "survey", "--wire", "eth0", "--json", "--quiet")), &survey))
			found := map[string]string{}
			for _, d := range survey.Devices {
				found[d.MAC] = d.Access
			}
			for _, mac := range c.least {
				assert.Equal(t, "fresh", found[mac], mac)
			}
			t.Logf("found %v", found)
		})
	}
}
