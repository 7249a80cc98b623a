package site

import (
	"net/netip"
	"testing"
	"time"

	"janustat/core/device"
	"janustat/internal/reach"

	"github.com/stretchr/testify/assert"
)

func TestReturning(t *testing.T) {
	was, next, mac := netip.MustParseAddr("192.168.77.20"), netip.MustParseAddr("10.61.8.42"), device.MAC{2}
	t0 := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	reply := func(a netip.Addr) reach.Claim { return reach.Claim{MAC: mac, Address: a} }
	announced := func(a netip.Addr) reach.Claim { return reach.Claim{MAC: mac, Address: a, Announced: true} }
	type heard struct {
		after time.Duration
		p     reach.Claim
	}
	for name, c := range map[string]struct {
		heard []heard
		back  bool // on the last packet, and on no earlier one
	}{
		"still there":           {[]heard{{100 * time.Millisecond, reply(was)}, {600 * time.Millisecond, reply(was)}}, false},
		"at the new place":      {[]heard{{100 * time.Millisecond, reply(was)}, {9 * time.Second, reply(next)}}, true},
		"announces itself":      {[]heard{{time.Second, announced(was)}}, true},
		"away and back":         {[]heard{{100 * time.Millisecond, reply(was)}, {4 * time.Second, reply(was)}}, true},
		"somewhere unasked for": {[]heard{{time.Second, announced(netip.MustParseAddr("10.0.0.1"))}}, false},
		"never goes": {func() (h []heard) {
			for d := time.Duration(0); d <= staysPut+time.Second; d += 500 * time.Millisecond {
				h = append(h, heard{d, reply(was)})
				if d > staysPut {
					break
				}
			}
			return h
		}(), true},
	} {
		r := returning{was: was, places: []netip.Addr{next, was}, begun: t0, last: t0}
		for i, h := range c.heard {
			assert.Equal(t, c.back && i == len(c.heard)-1, r.heard(h.p, t0.Add(h.after)), "%s: packet %d", name, i)
		}
	}
}
