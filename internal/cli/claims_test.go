package cli

import (
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/bench"
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

// A host that answers every probe fills no block and stops nobody for longer than it is
// there; wire, survey and commission name it by its MAC, and say what to do about it.
func TestAHostThatAnswersEveryProbe(t *testing.T) {
	t.Parallel()
	c := hire(t, `
site: Grasping
seed: 1
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 3, restart: 1s}
`, "--subnet", "10.61.8.0/23")
	c.must("survey", "--quiet", "--for", "1s")
	c.must("take", "all", "--yes")
	culprit := device.MAC{0x02, 0xba, 0xd0, 2, 2, 2}
	leave := c.answersEveryProbe(culprit)
	c.must("survey", "--quiet", "--for", "3s")
	code, out, _ := c.run("", "wire")
	assert.NotZero(t, code)
	assert.Contains(t, out, culprit.String()+" answers for addresses that nobody has")
	assert.Contains(t, c.must("survey", "--quiet", "--for", "1s"), culprit.String())
	c.must("allot")
	code, out, _ = c.run("", "commission", "--yes", "--quiet")
	assert.NotZero(t, code)
	assert.Contains(t, out, culprit.String())
	assert.Contains(t, out, "proxy ARP")
	leave()
	assert.Contains(t, c.must("commission", "--yes", "--quiet"), "3 done, 0 need you")
	var all []struct{ Address, Why string }
	c.json(&all, "list")
	for _, d := range all {
		assert.NotContains(t, d.Why, culprit.String())
	}
}

// One MAC's burst of announcements, next to where a visitor would be, keeps nobody from
// commissioning: nothing of it is defended.
func TestABurstOfAnnouncementsStopsNobody(t *testing.T) {
	t.Parallel()
	c := hire(t, `
site: Burst
seed: 1
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 3, restart: 1s}
`, "--subnet", "10.61.8.0/23")
	c.must("survey", "--quiet", "--for", "1s")
	c.must("take", "all", "--yes")
	c.must("allot")
	for devices, macs := range map[string]byte{"C01": 1, "C02,C03": 250} { // one MAC without end, and many once
		stop, ended := make(chan struct{}), make(chan struct{})
		rogue := c.neighbour(nil)
		go func() {
			defer close(ended)
			for n := 0; macs == 1 || n < 766; n = (n + 1) % (766 + int(macs) - 1) {
				select {
				case <-stop:
					return
				default:
				}
				at := netip.AddrFrom4([4]byte{10, 61, 8 + byte(n>>8)%2, byte(n)})
				if n >= 512 {
					at = netip.AddrFrom4([4]byte{192, 168, 77, byte(n)})
				}
				if macs > 1 && at.As4()[3] >= 41 && at.As4()[3] <= 43 {
					continue // heard while it is probed, that is a conflict (RFC 5227, 2.1.1)
				}
				if rogue.Write(arp.Announce(device.MAC{0x02, 0xba, 0xd0, 3, 1, byte(n) % macs}, at).Frame()) != nil {
					return
				}
			}
		}()
		code, out, said := c.run("", "commission", "--yes", "--quiet", devices)
		close(stop)
		<-ended
		assert.Zero(t, code, "%s: %s %s", devices, out, said)
	}
}

// neighbour plugs a host into the site's switch that behaves as it likes.
func (c *crew) neighbour(react func(w *wire.Frames, frame []byte)) *wire.Frames {
	c.t.Helper()
	w, err := wire.DialBench(strings.TrimPrefix(c.wire, "bench:"))
	require.NoError(c.t, err)
	c.t.Cleanup(func() { w.Close() })
	go func() {
		for {
			f, err := w.Read()
			if err != nil {
				return
			}
			if react != nil {
				react(w, f)
			}
		}
	}()
	return w
}

// answersEveryProbe has a host answer for whatever address is asked for, until leave.
func (c *crew) answersEveryProbe(mac device.MAC) (leave func()) {
	w := c.neighbour(func(w *wire.Frames, frame []byte) {
		if p, err := arp.Parse(frame); err == nil && p.Op == arp.Request && p.SenderMAC != mac {
			_ = w.Write(arp.ReplyTo(p, mac).Frame())
		}
	})
	return func() { w.Close() }
}

// What the job sheet has under not_ours is listed and never asked, by IPv6 neither: the ban is
// of the host, and not of an address.
func TestWhatIsNotOursIsAskedNothing(t *testing.T) {
	t.Parallel()
	c := hire(t, `
site: Two tenants
seed: 1
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: ours, model: oakhollow-eye, mac: "02:0a:c0:00:02:01", serial: A, ipv6: true}
  - {id: theirs, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: B, ipv6: true, address: 10.99.3.20/24}
  - {id: factory, model: verrine-dome, mac: "02:e4:42:00:01:02", serial: C, ipv6: true}
  - {id: door, model: oakhollow-door, mac: "02:0a:c0:00:05:01", serial: OPS-1, address: 10.99.3.30/24}
`, "--subnet", "10.61.8.0/23")
	path := filepath.Join(c.dir, "jobsheet.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(text), "network:\n", "network:\n  not_ours: [10.99.0.0/16, 192.168.77.0/24]\n", 1)), 0o600))
	// Somebody answers at one of these addresses in the name of a device of ours.
	c.neighbour(func(w *wire.Frames, frame []byte) {
		if p, err := arp.Parse(frame); err == nil && p.Op == arp.Request && p.SenderMAC[1] == 0x1a {
			p.Target = netip.MustParseAddr("10.99.7.7")
			_ = w.Write(arp.ReplyTo(p, device.MAC{0x02, 0x0a, 0xc0, 0, 0x02, 0x01}).Frame())
		}
	})
	for range 2 {
		c.must("survey", "--quiet", "--for", "3s")
	}
	asked := map[string][]string{}
	for _, e := range c.logs.Events() {
		if e.What == bench.EventRead || e.What == bench.EventWrite || e.What == bench.EventConnection {
			asked[e.Host] = append(asked[e.Host], e.Op)
		}
	}
	for _, host := range []string{"theirs", "factory", "door"} {
		assert.Empty(t, asked[host], host)
	}
	assert.NotEmpty(t, asked["ours"])
	out := c.must("list", "--all")
	assert.Contains(t, out, "02:e4:42:00:01:01", "listed it is")
}
