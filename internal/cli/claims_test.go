package cli

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/speak/arp"
	"janustat/internal/wire"
)

// Addresses that were only announced are nobody's: five hundred announcements, of a MAC
// each or of one, reserve nothing, make no row, and do not stop the job, in this survey or
// in a later one.
func TestAnnouncedAddressesReserveNothing(t *testing.T) {
	t.Parallel()
	c := hire(t, mumbling+`  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 3, restart: 1s}
others:
  - {id: silent, role: computer, mac: "02:9d:00:00:00:30", address: 10.61.8.41/23}
`, "--subnet", "10.61.8.0/23")
	rogue, err := wire.DialBench(strings.TrimPrefix(c.wire, "bench:"))
	require.NoError(t, err)
	defer rogue.Close()
	go func() {
		for {
			if _, err := rogue.Read(); err != nil {
				return
			}
		}
	}()
	stop, flood := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(flood)
		for n := uint16(0); ; n = (n + 1) % 508 {
			select {
			case <-stop:
				return
			default:
			}
			at := netip.AddrFrom4([4]byte{10, 61, 8 + byte(n/254), byte(n%254) + 1})
			for _, mac := range []device.MAC{{0x02, 0xba, 0xd0, 0, byte(n >> 8), byte(n)}, {0x02, 0xba, 0xd0, 1, 1, 1}} {
				if rogue.Write(arp.Announce(mac, at).Frame()) != nil {
					return
				}
			}
		}
	}()
	c.must("survey", "--quiet", "--for", "3s")
	close(stop)
	<-flood
	c.must("survey", "--quiet", "--for", "1s")
	c.must("take", "all", "--yes")
	out := c.must("allot")
	assert.Contains(t, out, "10.61.8.42", "who answers is there: .41 is in use")
	assert.NotContains(t, out, "full")
	assert.Contains(t, c.must("commission", "--yes", "--quiet"), "3 done, 0 need you")
	var all []struct{ MAC string }
	c.json(&all, "list", "--all")
	for _, d := range all {
		assert.NotContains(t, d.MAC, "02:ba:d0", "it was only announced")
	}
	assert.Len(t, all, 4)
}
