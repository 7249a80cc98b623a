package cli

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const nextDoor = `
site: Two doors
seed: 5
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: new, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: VD1, restart: 1s}
  - {id: till, model: verrine-dome, mac: "02:e4:42:00:01:02", serial: VD2, address: 10.61.9.77/23, gateway: 10.61.9.254, name: Till, zone: CET-1CEST, restart: 1s}
  - {id: leased, model: verrine-bullet, mac: "02:e4:41:00:01:03", serial: VB3, dhcp: true, restart: 1s}
  - {id: station, model: oakhollow-door, mac: "02:0a:c0:00:05:01", serial: OPS-1, restart: 1s}
others:
  - {id: dhcp, role: dhcp, mac: "02:5c:00:00:00:02", address: 10.61.8.2/23, gateway: 10.61.8.1, pool: [10.61.9.100, 10.61.9.109]}
`

// What somebody has set up is no part of all; one that was taken by mistake is put back as it was
// found, users that the job made included, and what cannot be put back is said before.
func TestWhatIsSomebodysIsNamedAndPutBack(t *testing.T) {
	t.Parallel()
	c := hire(t, nextDoor, "--subnet", "10.61.8.0/23")
	out := strings.Join(strings.Fields(c.must("survey", "--quiet")), " ")
	assert.Contains(t, out, `was set up by somebody before (called "Till", at a fixed address of this network). Is it the site's?`)
	out = c.must("take", "all", "--yes", "--quiet")
	assert.Contains(t, out, "3 devices taken")
	assert.Contains(t, out, "janustat leave 02:e4:42:00:01:02")
	c.must("take", "02:e4:42:00:01:02", "--yes", "--quiet")
	c.sheet("users: [{name: guard, role: user}]\nnames: {C01: North, C02: South, C03: West}\ntimezone: GMT0\nblocks: {camera: 10.61.8.41-10.61.8.60}\n")
	out = c.must("allot")
	assert.Regexp(t, `02:e4:42:00:01:02 +10\.61\.9\.77 +10\.61\.9\.77/23 +right where it is`, out)
	till := c.decided("02:e4:42:00:01:02", "tag")
	c.must("allot", "--renumber", till)
	c.must("commission", "--yes", "--quiet")
	was := func(id string) (netip.Prefix, bool, []string) { return c.bench.Device(id).Look() }
	at, _, users := was("till")
	require.True(t, netip.MustParsePrefix("10.61.8.32/27").Contains(at.Addr()), at)
	require.Contains(t, users, "guard")

	lease, _, _ := was("leased")
	require.False(t, strings.HasPrefix(lease.String(), "10.61.9.1"), lease)
	tags := []string{till, c.decided("02:e4:41:00:01:03", "tag"), c.decided("02:0a:c0:00:05:01", "tag")}
	code, out, errs := c.run("", append([]string{"putback", "--yes", "--quiet"}, tags...)...)
	require.Equal(t, ExitDone, code, out+errs)
	assert.Contains(t, errs, `gets back address 10.61.9.77/23, gateway 10.61.9.254, name "Till", time zone CET-1CEST`)
	assert.Contains(t, strings.Join(strings.Fields(errs), " "), "its password, which is the keyring's from now on")
	at, dhcp, users := was("till")
	assert.Equal(t, "10.61.9.77/23", at.String())
	assert.False(t, dhcp)
	assert.NotContains(t, users, "guard")
	require.Eventually(t, func() bool { at, dhcp, _ := was("leased"); return dhcp && strings.HasPrefix(at.String(), "10.61.9.10") }, 20*time.Second, 20*time.Millisecond)
	assert.Equal(t, "left", c.decided(till, "job"))
	assert.Contains(t, c.must("log", till), "user guard removed")
	assert.Contains(t, c.must("prove", "--quiet"), "1 of 1 devices proved")
	_, out, errs = c.run("", "putback", till, "--yes")
	assert.Contains(t, out+errs, "not in the job")
}
