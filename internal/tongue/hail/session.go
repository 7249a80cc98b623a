package hail

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/evidence"
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
	// claimed tells that the conversation is a claim, in which the first password is given.
	claimed bool
}

var _ interface {
	commission.Session
	commission.Pinned
	commission.Keyer
	commission.ClockSetter
	commission.Namer
	commission.Addresser
	commission.Restarter
	commission.Resetter
	commission.PairKeeper
	commission.Acquainted
	commission.Reporter
	commission.Winker
} = (*session)(nil)

// lost turns errors into what the steps understand.
func lost(err error) error {
	var refusal *speak.RefusalError
	switch {
	case errors.As(err, &refusal) && refusal.Reason == speak.Locked:
		return &commission.LockedError{Wait: evidence.Say(time.Duration(refusal.Seconds) * time.Second), By: refusal.By}
	case errors.As(err, &refusal) && refusal.Reason == speak.NotFresh:
		return err // nothing came of it
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

// Access implements commission.Session. That a device has no password is proved under its
// key; what it announces, anybody may say. One that was opened before is entered at once.
func (s *session) Access(ctx context.Context) (device.Access, error) {
	if about, _ := s.About(); s.claimed || s.plan.Known && !about.Fresh {
		return map[bool]device.Access{true: device.Fresh, false: device.Sealed}[s.claimed], nil
	}
	fresh, err := s.Fresh(ctx)
	switch {
	case err != nil:
		return "", lost(err)
	case fresh:
		return device.Fresh, nil
	}
	return device.Sealed, nil
}

// Encrypted implements commission.Session.
func (s *session) Encrypted() bool { return true }

// Certificate implements commission.Session: there is none, but a key (Pin).
func (s *session) Certificate() string { return "" }

// Identity implements commission.Session: it is the key, to which every handshake of the
// conversation is held. What is told beside that is not proved yet.
func (s *session) Identity(context.Context) (commission.Identity, error) {
	return commission.Identity{}, nil
}

// Pin implements commission.Pinned.
func (s *session) Pin() string { return string(s.Client.Pin()) }

// Witness implements commission.Session.
func (s *session) Witness() evidence.Witness { return s.Word() }

// Enter implements commission.Session.
func (s *session) Enter(ctx context.Context, user string, p secret.Password) (bool, error) {
	fits, err := s.Client.Enter(ctx, user, p)
	if fits {
		s.user, s.claimed = user, false
	}
	return fits, lost(err)
}

// RefusesAnonymous implements commission.Session: nobody can claim it. In version 2 it
// proves that it refuses; in version 1 nothing else than a refusal comes.
func (s *session) RefusesAnonymous(ctx context.Context) (bool, error) {
	other, err := speak.Dial(ctx, s.Link(), s.plan.MAC, s.Expected(), s.Pace())
	if err != nil {
		return false, lost(err)
	}
	defer other.Close()
	err = other.ClaimAnyway(ctx)
	var refusal *speak.RefusalError
	// In version 1 it counts that no Answer came, whatever reason was heard.
	if errors.As(err, &refusal) && (s.version() == speak.Version1 || refusal.Reason == speak.NotFresh && refusal.By.Stands()) {
		return true, nil
	}
	return false, lost(err)
}

func (s *session) version() int {
	about, _ := s.About()
	v, _ := about.Pin()
	return v
}

// claim makes the conversation a claim, if it is none yet.
func (s *session) claim(ctx context.Context) error {
	if s.claimed {
		return nil
	}
	if err := s.Claim(ctx); err != nil {
		return lost(err)
	}
	s.claimed = true
	return nil
}

// Read implements commission.Session. What a device only announces is not part of it: one
// without a password is read in a claim.
func (s *session) Read(ctx context.Context) (commission.Found, error) {
	f := commission.Found{MACs: []device.MAC{s.plan.MAC}}
	if !s.Entered() {
		if about, _ := s.About(); !about.Fresh {
			return f, errors.New("it reports its settings only with its password")
		}
		if err := s.claim(ctx); err != nil {
			return f, err
		}
	}
	asked := time.Now()
	st, err := s.state(ctx)
	if err != nil {
		return f, err
	}
	took := time.Since(asked)
	f.By = s.Witness()
	f.Make, f.Model, f.Serial, f.Firmware = s.said(st.Make), s.said(st.Model), s.said(st.Serial), s.said(st.Firmware)
	f.Settings = device.Settings{Address: st.Address.Addr(), Prefix: max(st.Address.Bits(), 0), Gateway: st.Gateway, DHCP: st.DHCP, Name: s.said(st.Name)}
	f.Clock, f.ClockDoubt = st.Time.Sub(asked.Add(took/2)), took/2
	if st.User != "" {
		f.Accounts = []commission.Account{{Name: s.said(st.User), Level: commission.Administrator}}
	}
	f.Lacks = map[commission.Step]bool{}
	for call, step := range map[string]commission.Step{
		speak.DoClock: commission.StepClock, speak.DoName: commission.StepName, speak.DoGateway: commission.StepGateway,
	} {
		f.Lacks[step] = !s.does(call)
	}
	return f, nil
}

// Rules implements commission.Keyer: from version 2 on a device tells them under its key.
func (s *session) Rules(context.Context) (*secret.Rules, error) {
	about, by := s.About()
	r := about.Rules
	if !by.Stands() || r == nil {
		return nil, nil
	}
	return &secret.Rules{
		MinLen: r.Min, MaxLen: r.Max, Upper: r.Upper, Digits: r.Digits, Special: r.Special, NoUser: r.NotUser, NoSpecial: r.Plain,
	}, nil
}

// CreateAdministrator implements commission.Keyer.
func (s *session) CreateAdministrator(ctx context.Context, user string, p secret.Password) error {
	if err := s.claim(ctx); err != nil {
		return err
	}
	key, err := s.PasswordKey(user, p)
	if err != nil {
		return err
	}
	_, err = s.call(ctx, speak.Request{Do: speak.DoClaim, User: user, Password: p.Reveal(), Key: key})
	if err == nil {
		s.claimed = false
	}
	return err
}

// SetPassword implements commission.Keyer.
func (s *session) SetPassword(ctx context.Context, user string, p secret.Password) error {
	key, err := s.PasswordKey(user, p)
	if err != nil {
		return err
	}
	_, err = s.call(ctx, speak.Request{Do: speak.DoPassword, Password: p.Reveal(), Key: key})
	return err
}

// clockTries is how often the time is told where it is long on its way, and clockSlow
// what is long: it may have been sent again, with the time of its first sending.
const (
	clockTries = 3
	clockSlow  = 300 * time.Millisecond
)

// SetClock implements commission.ClockSetter. Half of what the last answer took is how
// long the time is on its way.
func (s *session) SetClock(ctx context.Context) (late time.Duration, err error) {
	asked := time.Now()
	if _, err := s.state(ctx); err != nil {
		return 0, err
	}
	way := time.Since(asked) / 2
	for range clockTries {
		begun := time.Now()
		t := begun.Add(way).UTC()
		if _, err := s.call(ctx, speak.Request{Do: speak.DoClock, Time: &t}); err != nil {
			return 0, err
		}
		took := time.Since(begun)
		if late = max(took/2-way, 0); took < clockSlow {
			return 0, nil
		}
		way = took / 2
	}
	return late, nil
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

// SetDHCP implements commission.Leaser.
func (s *session) SetDHCP(ctx context.Context) (restart bool, err error) {
	a, err := s.call(ctx, speak.Request{Do: speak.DoAddress, DHCP: true})
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
	if about, _ := s.About(); !s.Entered() && about.Fresh {
		if err := s.claim(ctx); err != nil {
			return "", err
		}
	}
	a, err := s.call(ctx, speak.Request{Do: speak.DoWink})
	return s.said(a.Means), err
}

// state reads what the device knows of others.
func (s *session) state(ctx context.Context) (speak.State, error) {
	a, err := s.call(ctx, speak.Request{Do: speak.DoRead})
	if err == nil && a.State == nil {
		err = errors.New("it reports nothing of its state")
	}
	if err != nil {
		return speak.State{}, err
	}
	return *a.State, nil
}
