package field

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/secret"
	"janustat/internal/speak/acd"
)

// Check is one thing proved of a device.
type Check struct {
	Name string `json:"check"`
	OK   bool   `json:"ok"`
	Want string `json:"want,omitempty"`
	Got  string `json:"got,omitempty"`
}

// Proof is what proving one device gave.
type Proof struct {
	Device device.Device
	Checks []Check
	Read   bool // the device was opened and read
	Found  commission.Found
	// Refused are old and factory keys that it was offered and refused.
	Refused []commission.Credential
}

// OK reports whether every check held.
func (p *Proof) OK() bool {
	return len(p.Checks) > 0 && !slices.ContainsFunc(p.Checks, func(c Check) bool { return !c.OK })
}

// The checks, in the order they are shown.
const (
	CheckAnswers   = "answers"
	CheckAlone     = "alone"
	CheckPassword  = "password"
	CheckOldKeys   = "old keys"
	CheckClosed    = "closed"
	CheckUsers     = "users"
	CheckIdentity  = "identity"
	CheckFirmware  = "firmware"
	CheckAddress   = "address"
	CheckGateway   = "gateway"
	CheckStatic    = "static"
	CheckName      = "name"
	CheckClock     = "clock"
	clockProbeSpan = commission.ClockTolerance
)

// Checks lists the names of the checks in order.
var Checks = []string{
	CheckAnswers, CheckAlone, CheckPassword, CheckOldKeys, CheckClosed, CheckUsers, CheckIdentity, CheckFirmware, CheckAddress, CheckGateway, CheckStatic, CheckName, CheckClock,
}

// Prover reads devices back and compares them with the register.
type Prover struct {
	Site     *Site
	Attempts commission.Attempts
	// Old gives the keys that must not open a device any more and that it has not
	// refused yet, and how many of them it can be offered; it may be nil.
	Old func(device.MAC) (keys []commission.Credential, most int)
}

// Prove checks one device against its plan. Nothing is written to it. Old keys
// are offered first, within the budget, then its password once, which makes it
// forget the wrong ones.
func (p Prover) Prove(ctx context.Context, d device.Device, plan commission.Plan) Proof {
	out := Proof{Device: d}
	probeCtx, cancel := context.WithCancel(ctx)
	defer cancel()
	// The probe finds anyone else on the address while the device is read.
	alone := acd.Begin(probeCtx, p.Site.Net, p.Site.Net.Facts().MAC, plan.Target.Address, plan.MAC)
	read := p.read
	if plan.Manner != commission.ByService {
		read = p.meet
	}
	err := read(ctx, plan, &out)
	if err != nil {
		out.fail(CheckAnswers, "at "+plan.Target.Address.String(), err.Error())
	}
	switch err := alone.Wait(ctx); {
	case errors.Is(err, acd.ErrConflict):
		out.fail(CheckAlone, "only "+plan.MAC.String(), err.Error())
	case err == nil:
		out.pass(CheckAlone)
	}
	slices.SortStableFunc(out.Checks, func(a, b Check) int { return slices.Index(Checks, a.Name) - slices.Index(Checks, b.Name) })
	return out
}

func (p *Proof) pass(name string) { p.Checks = append(p.Checks, Check{Name: name, OK: true}) }

func (p *Proof) fail(name, want, got string) {
	p.Checks = append(p.Checks, Check{Name: name, Want: want, Got: got})
}

func (p *Proof) compare(name string, ok bool, want, got any) {
	if ok {
		p.pass(name)
		return
	}
	p.fail(name, fmt.Sprint(want), fmt.Sprint(got))
}

// read opens the device and compares what it says. An error means that it does
// not answer; every other difference is a check that failed.
func (p Prover) read(ctx context.Context, plan commission.Plan, out *Proof) error {
	if _, err := p.Site.visitor(ctx, plan.Target.Address); err != nil {
		return err
	}
	find, cancel := context.WithTimeoutCause(ctx, commission.FindLimit, errors.New("no answer"))
	defer cancel()
	if _, err := p.Site.Find(find, plan, []netip.Addr{plan.Target.Address}); err != nil {
		return err
	}
	s, err := p.Site.Open(ctx, plan, plan.Target.Address)
	if err != nil {
		return err
	}
	defer s.Close()
	out.pass(CheckAnswers)
	refused, err := s.RefusesAnonymous(ctx)
	if err != nil {
		return err
	}
	out.compare(CheckClosed, refused, "settings closed to anyone without a password", "open")
	if err := p.oldKeys(ctx, s, plan, out); err != nil {
		return err
	}
	if ok, err := p.open(ctx, s, plan, out); err != nil || !ok {
		return err
	}
	if out.Found, err = s.Read(ctx); err != nil {
		return err
	}
	accounts, err := s.Accounts(ctx)
	if err != nil {
		return err
	}
	unexpected := slices.DeleteFunc(accounts, func(name string) bool { return name == plan.User })
	out.compare(CheckUsers, len(unexpected) == 0, "only "+plan.User, "also "+strings.Join(unexpected, ", "))
	out.Read = true
	out.judge(plan)
	return nil
}

// oldKeys offers keys that must not open the device any more. What it refused
// before is taken at its word.
func (p Prover) oldKeys(ctx context.Context, s commission.Session, plan commission.Plan, out *Proof) error {
	if p.Old == nil || plan.Password.IsZero() {
		return nil
	}
	access, err := s.Access(ctx)
	if err != nil || access == device.Fresh {
		return err
	}
	keys, most := p.Old(plan.MAC)
	for i, k := range keys {
		if i >= most {
			return nil // the next proving goes on
		}
		wait, err := p.Attempts.Spend(ctx, plan)
		if err != nil || wait > 0 {
			return err
		}
		ok, err := s.Enter(ctx, k.User, k.Password)
		if err != nil {
			return err
		}
		if ok {
			out.fail(CheckOldKeys, "refused", fmt.Sprintf("an %s password of %s still opens it", map[bool]string{true: "old factory", false: "earlier"}[k.Origin == commission.FromFactory], k.User))
			return p.Attempts.Opened(ctx, plan)
		}
		out.Refused = append(out.Refused, k)
	}
	out.pass(CheckOldKeys)
	return nil
}

// meet finds a device that speaks nothing more than ARP at its address. What was
// typed into it beside the address cannot be read back.
func (p Prover) meet(ctx context.Context, plan commission.Plan, out *Proof) error {
	find, cancel := context.WithTimeoutCause(ctx, commission.FindLimit+acdLongest, errors.New("no answer"))
	defer cancel()
	if _, err := p.Site.Find(find, plan, []netip.Addr{plan.Target.Address}); err != nil {
		return err
	}
	out.pass(CheckAnswers)
	out.Found.Settings = plan.Target
	return nil
}

// open offers the password, once and within the budget.
func (p Prover) open(ctx context.Context, s commission.Session, plan commission.Plan, out *Proof) (bool, error) {
	access, err := s.Access(ctx)
	if err != nil {
		return false, err
	}
	if access == device.Fresh {
		out.fail(CheckPassword, "opens it", "it has none yet: run `janustat commission`")
		return false, nil
	}
	if plan.Password.IsZero() {
		out.fail(CheckPassword, "opens it", "the keyring has none for it")
		return false, nil
	}
	wait, err := p.Attempts.Spend(ctx, plan)
	if err != nil {
		return false, err
	}
	if wait > 0 {
		out.fail(CheckPassword, "opens it", fmt.Sprintf("not tried: the budget of tries is spent for %s", wait.Round(time.Minute)))
		return false, nil
	}
	ok, err := s.Enter(ctx, plan.User, plan.Password)
	if err != nil {
		return false, err
	}
	out.compare(CheckPassword, ok, "opens it", "refused")
	if !ok {
		return false, nil
	}
	return true, p.Attempts.Opened(ctx, plan)
}

func (p *Proof) judge(plan commission.Plan) {
	f, t := p.Found, plan.Target
	sameSerial := plan.Serial == "" || f.Serial == plan.Serial
	sameMAC := len(f.MACs) == 0 || slices.Contains(f.MACs, plan.MAC)
	p.compare(CheckIdentity, sameSerial && sameMAC, plan.Serial+" "+plan.MAC.String(), f.Serial)
	recorded := p.Device.Firmware
	p.compare(CheckFirmware, recorded == "" || f.Firmware == recorded, recorded, f.Firmware)
	want := fmt.Sprintf("%s/%d", t.Address, t.Prefix)
	got := fmt.Sprintf("%s/%d", f.Settings.Address, f.Settings.Prefix)
	p.compare(CheckAddress, want == got, want, got)
	p.compare(CheckGateway, t.DHCP || !t.Gateway.IsValid() || f.Settings.Gateway == t.Gateway, t.Gateway, f.Settings.Gateway)
	p.compare(CheckStatic, !f.Settings.DHCP || t.DHCP, "DHCP off", "DHCP on")
	p.compare(CheckName, t.Name == "" || f.Settings.Name == t.Name, t.Name, f.Settings.Name)
	p.compare(CheckClock, f.Clock.Abs() <= clockProbeSpan, "within "+clockProbeSpan.String(), f.Clock.Round(100*time.Millisecond).String()+" off")
}

// KeyResult is what trying a password on one device gave.
type KeyResult struct {
	Opened bool
	Wait   time.Duration // the budget is spent; nothing was offered
	Found  commission.Found
}

// TryKey offers a password to one device where it was last met, and reads the
// device if it opens.
func (p Prover) TryKey(ctx context.Context, plan commission.Plan) (KeyResult, error) {
	find, cancel := context.WithTimeoutCause(ctx, commission.FindLimit+acdLongest, errors.New("no answer"))
	defer cancel()
	at, err := p.Site.Find(find, plan, []netip.Addr{plan.From})
	if err != nil {
		return KeyResult{}, err
	}
	s, err := p.Site.Open(ctx, plan, at)
	if err != nil {
		return KeyResult{}, err
	}
	defer s.Close()
	access, err := s.Access(ctx)
	if err != nil {
		return KeyResult{}, err
	}
	if access == device.Fresh {
		return KeyResult{}, errors.New("it has no password yet: `janustat commission` gives it one")
	}
	wait, err := p.Attempts.Spend(ctx, plan)
	if err != nil || wait > 0 {
		return KeyResult{Wait: wait}, err
	}
	ok, err := s.Enter(ctx, plan.User, plan.Password)
	if err != nil || !ok {
		return KeyResult{}, err
	}
	if err := p.Attempts.Opened(ctx, plan); err != nil {
		return KeyResult{}, err
	}
	f, err := s.Read(ctx)
	return KeyResult{Opened: true, Found: f}, err
}

// acdLongest is the longest an RFC 5227 probe for a visitor takes.
const acdLongest = acd.ProbeWait + (acd.ProbeNum-1)*acd.ProbeMax + acd.AnnounceWait

// KeyPlan is the plan of a device met where it is, for trying a password.
func KeyPlan(d *device.Device, user string, p secret.Password) commission.Plan {
	return commission.Plan{
		ID: d.ID, Tag: d.Tag, MAC: d.MAC, Serial: d.Serial, From: d.Address(),
		Target: device.Settings{Address: d.Address()}, User: user, Password: p, Service: d.Service,
	}
}
