package standard

import (
	"context"
	"errors"
	"net/netip"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/secret"
	"janustat/core/settings/outside"
	"janustat/internal/reach"
	"janustat/internal/speak/onvif"
	"janustat/internal/speak/soap"
)

// SetZone implements zone.Keeper.
func (s *session) SetZone(ctx context.Context, zone string) (err error) {
	s.timed, err = s.Client.SetZone(ctx, zone)
	return s.lost(err)
}

// CreateUser implements commission.UserKeeper.
func (s *session) CreateUser(ctx context.Context, u commission.User) error {
	return s.objects(s.Client.CreateUser(ctx, u.Name, u.Password, string(u.Level)))
}

// ChangeUser implements commission.UserKeeper.
func (s *session) ChangeUser(ctx context.Context, u commission.User) error {
	return s.objects(s.SetUser(ctx, u.Name, u.Password, string(u.Level)))
}

// DeleteUser implements commission.UserRemover.
func (s *session) DeleteUser(ctx context.Context, name string) error {
	return s.lost(s.Client.DeleteUser(ctx, name))
}

// SetDHCP implements commission.Leaser.
func (s *session) SetDHCP(ctx context.Context) (restart bool, err error) {
	restart, err = s.Client.SetDHCP(ctx)
	return restart, s.lost(err)
}

// SetDNS implements commission.ServerSetter.
func (s *session) SetDNS(ctx context.Context, servers []netip.Addr) error {
	return s.lost(s.Client.SetDNS(ctx, servers))
}

// SetNTP implements commission.ServerSetter.
func (s *session) SetNTP(ctx context.Context, servers []netip.Addr) error {
	return s.lost(s.Client.SetNTP(ctx, servers))
}

// CreateAdministrator implements commission.Keyer.
func (s *session) CreateAdministrator(ctx context.Context, user string, p secret.Password) error {
	return s.objects(s.Client.CreateAdministrator(ctx, user, p))
}

// SetPassword implements commission.Keyer.
func (s *session) SetPassword(ctx context.Context, user string, p secret.Password) error {
	return s.objects(s.Client.SetPassword(ctx, user, p))
}

// objects reads out of a refusal what the device has against a password.
func (s *session) objects(err error) error {
	var f *soap.Fault
	if err = s.lost(err); errors.As(err, &f) && !f.RefusesAccess() {
		return &commission.PasswordError{Objection: secret.Heard(f.Subcodes, f.Reason), Err: err}
	}
	return err
}

// SetClock implements commission.ClockSetter.
func (s *session) SetClock(ctx context.Context) (late time.Duration, err error) {
	if s.timed { // it was told with the zone a moment ago: the two are one operation (SetSystemDateAndTime)
		s.timed = false
		return 0, nil
	}
	late, err = s.Client.SetClock(ctx)
	return late, s.lost(err)
}

// SetName implements commission.Namer.
func (s *session) SetName(ctx context.Context, name string) error {
	return s.lost(s.Client.SetName(ctx, name))
}

// SetGateway implements commission.Addresser.
func (s *session) SetGateway(ctx context.Context, g netip.Addr) error {
	return s.lost(s.Client.SetGateway(ctx, g))
}

// SetAddress implements commission.Addresser. When the device is heard at its new
// address before it has answered, the answer is not waited for any longer.
func (s *session) SetAddress(ctx context.Context, t device.Settings) (restart bool, err error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	stop := s.way.Network().HearClaims(s.plan.MAC, func(c reach.Claim) {
		if c.MAC == s.plan.MAC && c.Address == t.Address && t.Address != s.at {
			time.AfterFunc(answerGrace, cancel)
		}
	})
	defer stop()
	restart, err = s.Client.SetAddress(ctx, t)
	return restart, s.lost(err)
}

// answerGrace is how long an answer may take that left before the device moved.
const answerGrace = 500 * time.Millisecond

// Restart implements commission.Restarter.
func (s *session) Restart(ctx context.Context) error { return s.lost(s.Client.Restart(ctx)) }

// Reset implements commission.Resetter.
func (s *session) Reset(ctx context.Context) error { return s.lost(s.Client.Reset(ctx)) }

// Still gives a picture as it is now, as JPEG; onvif.ErrNoStill where it has none.
func (s *session) Still(ctx context.Context) ([]byte, error) {
	data, err := s.Client.Still(ctx)
	if errors.Is(err, onvif.ErrNoStill) {
		return nil, err
	}
	return data, s.lost(err)
}

// RTSPPort implements rtspport.Keeper.
func (s *session) RTSPPort(ctx context.Context) (port uint16, told bool, err error) {
	port, told, err = s.Client.RTSPPort(ctx)
	return port, told, s.lost(err)
}

// SetRTSPPort implements rtspport.Keeper.
func (s *session) SetRTSPPort(ctx context.Context, port uint16) error {
	return s.lost(s.Client.SetRTSPPort(ctx, port))
}

// Outside implements outside.Connected.
func (s *session) Outside(ctx context.Context) (outside.Links, bool, error) {
	o, told, err := s.Client.Outside(ctx)
	return o, told, s.lost(err)
}

// CloseOutside implements outside.Connected.
func (s *session) CloseOutside(ctx context.Context) error { return s.lost(s.Client.CloseOutside(ctx)) }

// Discoverable implements discovery.Announcer.
func (s *session) Discoverable(ctx context.Context) (on, told bool, err error) {
	on, told, err = s.Client.Discoverable(ctx)
	return on, told, s.lost(err)
}

// SetDiscoverable implements discovery.Announcer.
func (s *session) SetDiscoverable(ctx context.Context, on bool) error {
	return s.lost(s.Client.SetDiscoverable(ctx, on))
}
