package commission

import (
	"cmp"
	"context"
	"errors"
	"net/netip"
	"slices"
	"time"

	"janustat/core/device"
	"janustat/core/evidence"
	"janustat/core/secret"
	"janustat/core/settings/outside"
)

type toySession struct{ *toy }

func (s *toySession) Access(context.Context) (device.Access, error) {
	if (s.password == "" || s.lateUsers > 0) && !s.hides {
		return device.Fresh, nil
	}
	return device.Sealed, nil
}

func (s *toySession) Enter(_ context.Context, _ string, p secret.Password) (bool, error) {
	if s.lockedFor != nil {
		return false, &LockedError{Wait: evidence.Say(*s.lockedFor), By: s.Witness()}
	}
	if s.lateUsers > 0 {
		return false, nil
	}
	return p.Reveal() == s.password, nil
}

func (s *toySession) Opens(_ context.Context, user string, p secret.Password) (bool, error) {
	s.note("opens %s", user)
	if s.loseOpens {
		s.loseOpens = false
		return false, ErrReplyLost
	}
	return s.users[user] == p.Reveal() && !s.forgetUser, nil
}

func (s *toySession) Witness() evidence.Witness {
	if s.unproven {
		return evidence.Witness{}
	}
	return evidence.Of(evidence.ByPath)
}

func (s *toySession) Encrypted() bool     { return s.encrypted }
func (s *toySession) Certificate() string { return s.shown }

func (s *toySession) Identity(context.Context) (Identity, error) { return s.identity, nil }

func (s *toySession) SetZone(_ context.Context, zone string) error {
	s.note("write zone")
	s.set.Settings.Zone = zone
	return nil
}

func (s *toySession) Zone() (zone string, told bool) {
	return s.set.Settings.Zone, s.set.Settings.Zone != ""
}

func (s *toySession) RTSPPort(context.Context) (port uint16, told bool, err error) {
	return cmp.Or(s.rtsp, 554), !s.mutePorts, nil
}

func (s *toySession) SetRTSPPort(_ context.Context, port uint16) error {
	s.note("write rtsp port")
	if s.shutPorts {
		return errors.New("no such setting")
	}
	s.rtsp = port
	return nil
}

func (s *toySession) Outside(context.Context) (outside.Links, bool, error) {
	if s.outside == nil {
		return outside.Links{}, false, nil
	}
	return *s.outside, true, nil
}

func (s *toySession) CloseOutside(context.Context) error {
	s.note("write outside")
	if !s.keepsLinks {
		s.outside = &outside.Links{}
	}
	return nil
}

func (s *toySession) Discoverable(context.Context) (on, told bool, err error) {
	return !s.hidden, true, nil
}

func (s *toySession) SetDiscoverable(_ context.Context, on bool) error {
	s.note("write discovery")
	s.hidden = !on
	return nil
}

func (s *toySession) SetDNS(_ context.Context, list []netip.Addr) error {
	s.note("write dns")
	if s.refuses[StepDNS] || s.noDNSByDHCP && s.set.Settings.DHCP {
		return errors.New("not while DHCP is on")
	}
	s.set.DNS = Servers{Told: true, Addresses: list}
	return nil
}

func (s *toySession) SetNTP(_ context.Context, list []netip.Addr) error {
	s.note("write ntp")
	if s.refuseNTP {
		return errors.New("not supported")
	}
	s.set.NTP, s.set.ByNTP = Servers{Told: true, Addresses: list}, true
	return nil
}

func (s *toySession) CreateUser(_ context.Context, u User) error {
	s.note("write user")
	if s.picky != nil && !s.picky(u.Password.Reveal()) {
		return &PasswordError{Objection: secret.Objection{What: secret.TooWeak}, Err: errors.New("too weak")}
	}
	if s.users == nil {
		s.toy.users = map[string]string{}
	}
	s.users[u.Name] = u.Password.Reveal()
	s.set.Accounts = append(s.set.Accounts, u.Account)
	if s.loseUser {
		s.loseUser = false
		return ErrReplyLost
	}
	return nil
}

func (s *toySession) ChangeUser(_ context.Context, u User) error {
	s.note("write user")
	at := slices.IndexFunc(s.set.Accounts, func(a Account) bool { return a.Name == u.Name })
	s.set.Accounts[at] = u.Account
	if s.users == nil {
		s.toy.users = map[string]string{}
	}
	s.users[u.Name] = u.Password.Reveal()
	return nil
}

func (s *toySession) Read(ctx context.Context) (Found, error) {
	if s.stalls {
		<-ctx.Done()
		return Found{}, ErrReplyLost
	}
	if s.breakOff > 0 {
		s.breakOff--
		return Found{}, ErrReplyLost
	}
	f := s.set
	f.Serial, f.By = s.serial, s.Witness()
	f.DNS.Told, f.NTP.Told = s.servers, s.servers
	f.Accounts = slices.Clone(f.Accounts)
	return f, nil
}

func (s *toySession) Rules(context.Context) (*secret.Rules, error) { return s.rules, nil }

func (s *toySession) SetPassword(_ context.Context, _ string, p secret.Password) error {
	s.note("write rekey")
	if s.picky != nil && !s.picky(p.Reveal()) {
		return &PasswordError{Objection: secret.Objection{What: secret.TooWeak}, Err: errors.New("too weak")}
	}
	s.password = p.Reveal()
	if s.loseRekey {
		return ErrReplyLost
	}
	return nil
}

func (s *toySession) CreateAdministrator(_ context.Context, _ string, p secret.Password) error {
	s.note("write key")
	if s.password != "" {
		return errors.New("not authorized")
	}
	if s.picky != nil && !s.picky(p.Reveal()) {
		return &PasswordError{Objection: secret.Objection{What: secret.TooWeak}, Err: errors.New("too weak")}
	}
	s.password = p.Reveal()
	if s.cuts > 0 {
		s.password = s.password[:s.cuts]
	}
	if s.loseKey > 0 {
		s.loseKey--
		return ErrReplyLost
	}
	return nil
}

func (s *toySession) SetClock(context.Context) (time.Duration, error) {
	s.note("write clock")
	if s.closed || s.stubborn {
		return 0, ErrWindow
	}
	if s.refuses[StepClock] {
		return 0, errors.New("no clock")
	}
	if s.cancelAt == "clock" {
		s.cancel()
	}
	s.set.Clock, s.set.ByNTP = -s.late, false
	return s.late, nil
}

func (s *toySession) SetName(_ context.Context, n string) error {
	s.note("write name")
	if s.refuses[StepName] {
		return errors.New("no names")
	}
	if !s.forgets[StepName] {
		s.set.Settings.Name = n
	}
	return nil
}

func (s *toySession) SetAddress(_ context.Context, t device.Settings) (bool, error) {
	s.note("write address")
	if s.renews {
		s.shown += "2"
	}
	if s.loseBefore > 0 {
		s.loseBefore--
		return false, ErrReplyLost
	}
	if s.dhcpOnly || s.wantsGW && s.set.Settings.Gateway != gateway || s.frozen && s.set.Settings.DHCP && t.Address != s.at {
		return false, errors.New("not supported")
	}
	if s.gatewayOnce {
		s.gatewayOnce, s.set.Settings.Gateway = false, netip.Addr{}
	}
	if s.silentBoot {
		s.next = &t
		return false, nil
	}
	if s.needsBoot {
		s.next = &t
		return true, nil
	}
	s.set.Settings.Address, s.set.Settings.Prefix, s.set.Settings.DHCP, s.at = t.Address, t.Prefix, false, t.Address
	if s.loseMove > 0 {
		s.loseMove--
		return false, ErrReplyLost
	}
	return false, nil
}

func (s *toySession) SetGateway(_ context.Context, g netip.Addr) error {
	s.note("write gateway")
	if s.gatewayIn && s.at != newPlace {
		return errors.New("outside the subnet")
	}
	if !s.forgets[StepGateway] {
		s.set.Settings.Gateway = g
	}
	return nil
}

func (s *toySession) Restart(context.Context) error {
	s.note("write restart")
	if s.deaf > 0 {
		s.deaf--
		return ErrReplyLost
	}
	if s.lazy > 0 { // it says that it will
		return nil
	}
	s.boot()
	return ErrReplyLost
}

func (t *toy) boot() {
	if t.next != nil {
		t.set.Settings.Address, t.set.Settings.Prefix, t.at = t.next.Address, t.next.Prefix, t.next.Address
		t.next = nil
	}
}

func (s *toySession) Reset(context.Context) error {
	s.note("write reset")
	if s.keepsReset {
		return ErrReplyLost
	}
	s.password, s.at = "", netip.MustParseAddr("192.168.77.20")
	if s.answers {
		return nil
	}
	return ErrReplyLost
}

func (s *toySession) RefusesAnonymous(context.Context) (bool, error) { return !s.open, nil }
func (s *toySession) Close()                                         {}
