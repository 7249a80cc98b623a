package field

import (
	"context"
	"net/netip"
	"slices"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/secret"
	"janustat/internal/reach"
	"janustat/internal/tongue"
	"janustat/internal/tongue/hail"
)

// Tongues are the protocols that devices are set up by, in the order of preference: what
// the first that a device speaks can do is not asked of the others.
var Tongues = []tongue.Tongue{standard{}, hail.Tongue{}}

// standard is the standard device service. Its discovery is the survey's own, since it is
// by that that bystanders are told from devices.
type standard struct{}

// Standard is the name of the standard device service among tongues.
const Standard device.Tongue = "onvif"

func (standard) Name() device.Tongue                       { return Standard }
func (standard) Seek(*reach.Net) error                     { return nil }
func (standard) Hear(*reach.Heard) (device.Sighting, bool) { return device.Sighting{}, false }

func (standard) Open(ctx context.Context, w tongue.Way, p commission.Plan, at netip.Addr) (commission.Session, error) {
	return w.(*Site).openStandard(ctx, p, at)
}

// tonguesOf gives the tongues of a device in the order of preference.
func tonguesOf(d *device.Device) (out []device.Tongue) {
	for _, t := range Tongues {
		if slices.Contains(d.Tongues, t.Name()) {
			out = append(out, t.Name())
		}
	}
	return out
}

// first gives the tongue that a plan's device is opened in.
func first(p commission.Plan) tongue.Tongue {
	for _, t := range Tongues {
		if len(p.Tongues) > 0 && t.Name() == p.Tongues[0] {
			return t
		}
	}
	return Tongues[0]
}

// Network implements tongue.Way.
func (s *Site) Network() *reach.Net { return s.Net }

// Visitor implements tongue.Way.
func (s *Site) Visitor(ctx context.Context, of netip.Addr) (*reach.Visitor, error) {
	return s.visitor(ctx, of)
}

// Blank implements tongue.Way.
func (s *Site) Blank() *secret.Veil { return s.Veil }

// Open implements commission.Site.
func (s *Site) Open(ctx context.Context, p commission.Plan, at netip.Addr) (commission.Session, error) {
	return first(p).Open(ctx, s, p, at)
}

// locate looks for a device by its MAC, in the tongue it is opened in; false where that
// has no such way.
func (s *Site) locate(ctx context.Context, p commission.Plan, found chan<- netip.Addr) bool {
	l, ok := first(p).(tongue.Locator)
	if !ok {
		return false
	}
	go func() {
		if at, err := l.Locate(ctx, s, p); err == nil {
			found <- at
		}
	}()
	return true
}
