package hail

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/secret"
	"janustat/core/text"
	speak "janustat/internal/speak/hail"
)

// session is a conversation by Hail.
type session struct {
	*speak.Client
	plan commission.Plan
	veil *secret.Veil
	user string
}

var _ interface {
	commission.Session
	commission.Keyer
	commission.ClockSetter
	commission.Namer
	commission.Addresser
	commission.Restarter
	commission.Resetter
	commission.PairKeeper
	commission.Reporter
	commission.Winker
} = (*session)(nil)

// lost turns errors into what the steps understand.
func lost(err error) error {
	var refusal *speak.RefusalError
	switch {
	case errors.As(err, &refusal) && refusal.Reason == speak.Locked:
		return &commission.LockedError{Wait: time.Duration(refusal.Seconds) * time.Second}
	case errors.As(err, &refusal) && (refusal.Reason == speak.NotFresh || refusal.Reason == speak.IsFresh):
		return err // it was heard, and nothing came of it
	case errors.As(err, &refusal), errors.Is(err, speak.ErrNoAnswer):
		return fmt.Errorf("%w: %w", commission.ErrReplyLost, err)
	case errors.Is(err, speak.ErrNotNow):
		return fmt.Errorf("%w: %w", commission.ErrWindow, err)
	}
	return err
}

func (s *session) said(words string) string { return text.Harmless(words, text.Short, s.veil.Text) }

// call carries out one, in the conversation that is open.
func (s *session) call(ctx context.Context, r speak.Request) (speak.Response, error) {
	a, err := s.Call(ctx, r)
	var refused *speak.CallError
	if errors.As(err, &refused) {
		refused.Words = s.said(refused.Words)
	}
	return a, lost(err)
}

// Access implements commission.Session.
func (s *session) Access(ctx context.Context) (device.Access, error) {
	if err := s.Look(ctx); err != nil {
		return "", lost(err)
	}
	if s.About.Fresh {
		return device.Fresh, nil
	}
	return device.Sealed, nil
}

// Encrypted implements commission.Session.
func (s *session) Encrypted() bool { return true }

// Certificate implements commission.Session: there is none, but a key (Identity).
func (s *session) Certificate() string { return "" }

// Identity implements commission.Session. That the device has the key is proved in the
// handshake, before anything of a password is sent.
func (s *session) Identity(context.Context) (commission.Identity, error) {
	return commission.Identity{Serial: s.said(s.About.Serial), Key: speak.Fingerprint(s.About.Key), Pin: s.plan.Pins[Name]}, nil
}

// Enter implements commission.Session.
func (s *session) Enter(ctx context.Context, user string, p secret.Password) (bool, error) {
	fits, err := s.Client.Enter(ctx, user, p)
	if fits {
		s.user = user
	}
	return fits, lost(err)
}

// RefusesAnonymous implements commission.Session.
func (s *session) RefusesAnonymous(ctx context.Context) (bool, error) {
	other, err := speak.Dial(ctx, s.Link(), s.plan.MAC, s.Pace())
	if err != nil {
		return false, lost(err)
	}
	defer other.Close()
	err = other.Claim(ctx)
	var refusal *speak.RefusalError
	if errors.As(err, &refusal) {
		return true, nil
	}
	return false, lost(err)
}

// Read implements commission.Session.
func (s *session) Read(ctx context.Context) (commission.Found, error) {
	about := s.About
	f := commission.Found{
		Make: s.said(about.Make), Model: s.said(about.Model), Serial: s.said(about.Serial), Firmware: s.said(about.Firmware),
		MACs: []device.MAC{s.plan.MAC}, NoZone: true,
	}
	if !s.Entered() {
		if !about.Fresh {
			return f, errors.New("it tells its settings only with its password")
		}
		f.Settings = *facts(about).Settings
		f.Settings.Name = s.said(f.Settings.Name)
		return f, nil
	}
	asked := time.Now()
	a, err := s.call(ctx, speak.Request{Do: speak.DoRead})
	if err != nil {
		return f, err
	}
	if a.State == nil {
		return f, errors.New("it tells nothing of its state")
	}
	took := time.Since(asked)
	st := a.State
	f.Settings = device.Settings{Address: st.Address.Addr(), Prefix: max(st.Address.Bits(), 0), Gateway: st.Gateway, DHCP: st.DHCP, Name: s.said(st.Name)}
	f.Clock, f.ClockDoubt = st.Time.Sub(asked.Add(took/2)), took/2
	f.Accounts = []commission.Account{{Name: s.said(st.User), Level: commission.Administrator}}
	return f, nil
}

// Rules implements commission.Keyer: Hail publishes none.
func (s *session) Rules(context.Context) (*secret.Rules, error) { return nil, nil }

// CreateAdministrator implements commission.Keyer.
func (s *session) CreateAdministrator(ctx context.Context, user string, p secret.Password) error {
	if err := s.Claim(ctx); err != nil {
		return lost(err)
	}
	_, err := s.call(ctx, speak.Request{Do: speak.DoClaim, User: user, Password: p.Reveal()})
	return err
}

// SetPassword implements commission.Keyer.
func (s *session) SetPassword(ctx context.Context, _ string, p secret.Password) error {
	_, err := s.call(ctx, speak.Request{Do: speak.DoPassword, Password: p.Reveal()})
	return err
}

// SetClock implements commission.ClockSetter.
func (s *session) SetClock(ctx context.Context) (time.Duration, error) {
	now := time.Now().UTC()
	_, err := s.call(ctx, speak.Request{Do: speak.DoClock, Time: &now})
	return 0, err
}

// SetName implements commission.Namer.
func (s *session) SetName(ctx context.Context, name string) error {
	_, err := s.call(ctx, speak.Request{Do: speak.DoName, Name: name})
	return err
}

// SetAddress implements commission.Addresser.
func (s *session) SetAddress(ctx context.Context, t device.Settings) (restart bool, err error) {
	to := netip.PrefixFrom(t.Address, t.Prefix)
	a, err := s.call(ctx, speak.Request{Do: speak.DoAddress, Address: &to})
	return a.Restart, err
}

// SetGateway implements commission.Addresser.
func (s *session) SetGateway(ctx context.Context, gateway netip.Addr) error {
	_, err := s.call(ctx, speak.Request{Do: speak.DoGateway, Gateway: &gateway})
	return err
}

// Restart implements commission.Restarter.
func (s *session) Restart(ctx context.Context) error {
	_, err := s.call(ctx, speak.Request{Do: speak.DoRestart})
	return err
}

// Reset implements commission.Resetter.
func (s *session) Reset(ctx context.Context) error {
	_, err := s.call(ctx, speak.Request{Do: speak.DoReset})
	return err
}

// Wink implements commission.Winker.
func (s *session) Wink(ctx context.Context) (string, error) {
	if !s.Entered() && s.About.Fresh {
		if err := s.Claim(ctx); err != nil {
			return "", lost(err)
		}
	}
	a, err := s.call(ctx, speak.Request{Do: speak.DoWink})
	return s.said(a.Means), err
}

// state reads what the device knows of others.
func (s *session) state(ctx context.Context) (speak.State, error) {
	a, err := s.call(ctx, speak.Request{Do: speak.DoRead})
	if err == nil && a.State == nil {
		err = errors.New("it tells nothing of its state")
	}
	if err != nil {
		return speak.State{}, err
	}
	return *a.State, nil
}

// does reports whether the device takes a call, by its own word.
func (s *session) does(call string) bool { return slices.Contains(s.About.Does, call) }

// Pairs implements commission.PairKeeper.
func (s *session) Pairs(ctx context.Context, links []commission.Link) ([]commission.Tie, error) {
	if !s.does(speak.DoPair) {
		return nil, &commission.UnableError{What: "pairs"}
	}
	st, err := s.state(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]commission.Tie, len(links))
	for i, l := range links {
		out[i] = s.paired(l, st.Pairs)
	}
	return out, nil
}

// paired tells how one pair fares.
func (s *session) paired(l commission.Link, all []speak.Pair) commission.Tie {
	t := commission.Tie{Link: l, State: commission.Waiting, Why: "it does not know the other"}
	for _, p := range all {
		if p.Serial != l.Peer.Serial {
			continue
		}
		known := p.Mark == speak.SecretMark(l.Secret)
		t.Set = p.Address == l.Peer.Address && p.Door == l.Peer.Door && p.Floor == l.Floor && p.Flat == l.Flat && known
		switch t.Why = s.said(p.Why); {
		case p.Registered && known:
			t.State, t.Why = commission.Registered, ""
		case !known:
			t.State = commission.WrongPassword
		}
	}
	return t
}

// SetPair implements commission.PairKeeper.
func (s *session) SetPair(ctx context.Context, l commission.Link) error {
	_, err := s.call(ctx, speak.Request{Do: speak.DoPair, Pair: &speak.Pair{
		Serial: l.Peer.Serial, Address: l.Peer.Address, Door: l.Peer.Door, Floor: l.Floor, Flat: l.Flat, Secret: l.Secret.Reveal(),
	}})
	return err
}

// Reporting implements commission.Reporter.
func (s *session) Reporting(ctx context.Context, links []commission.Link) ([]commission.Tie, error) {
	if !s.does(speak.DoServer) {
		return nil, &commission.UnableError{What: "server"}
	}
	st, err := s.state(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]commission.Tie, len(links))
	for i, l := range links {
		out[i] = commission.Tie{Link: l, State: commission.Waiting}
		v := st.Server
		if v == nil {
			continue
		}
		out[i].Set = v.Address == l.Peer.Address && v.Port == l.Peer.Port && v.Auto
		if out[i].Why = s.said(v.Why); v.Connected && out[i].Set {
			out[i].State, out[i].Why = commission.Connected, ""
		}
	}
	return out, nil
}

// SetReporting implements commission.Reporter.
func (s *session) SetReporting(ctx context.Context, l commission.Link) error {
	_, err := s.call(ctx, speak.Request{Do: speak.DoServer, Server: &speak.Server{Address: l.Peer.Address, Port: l.Peer.Port, Auto: true}})
	return err
}
