package field

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/evidence"
	"janustat/core/text"
	"janustat/internal/speak/acd"
)

// Check is one thing proved of a device.
type Check struct {
	Name string `json:"check"`
	OK   bool   `json:"ok"`
	Want string `json:"want,omitempty"`
	Got  string `json:"got,omitempty"`
	Left int    `json:"left,omitempty"` // passwords not offered yet, for the budget of tries
	// Refused tells that it is not as it should be because the device takes it in no way.
	Refused bool `json:"refused,omitempty"`
}

// Proof is what proving one device gave.
type Proof struct {
	Device  device.Device
	Checks  []Check
	Read    bool // the device was opened and read
	Factory bool // by a factory password
	Found   commission.Found
	// Refused are old and factory keys that it was offered and has proved to refuse.
	Refused []evidence.Proven[commission.Credential]
	// Pins are the keys that it has proved to have, in tongues with such.
	Pins map[device.Tongue]string
	// News is what is worth knowing of it, and no fault of the work.
	News []string
	// Alarm says why nothing was offered to it, where it is not what it was.
	Alarm string

	offered      []commission.Credential // old keys that it did not take, in this proving
	others       []string                // stations that it knows and the job sheet does not have
	usersRefused []string                // further users whose password does not open it
	usersLeft    int                     // further users whose password was not offered, for the budget of tries
}

// OK reports whether every check passed.
func (p *Proof) OK() bool {
	return len(p.Checks) > 0 && !slices.ContainsFunc(p.Checks, func(c Check) bool { return !c.OK })
}

// NotOpened gives the further users whose password does not open the device.
func (p *Proof) NotOpened(plan commission.Plan) (out []commission.Account) {
	for _, u := range plan.Users {
		if slices.Contains(p.usersRefused, u.Name) {
			out = append(out, u.Account)
		}
	}
	return out
}

// Events gives what the proof tells of the device.
func (p *Proof) Events(now time.Time) (out []device.Event) {
	proving := device.Proving{At: now, Held: p.OK()}
	if p.Alarm != "" {
		out = append(out, device.Alarmed{At: now, Why: p.Alarm})
	}
	if p.Read {
		if p.Device.Firmware != "" { // what was recorded stays the measure; a survey takes a new one over
			p.Found.Firmware = p.Device.Firmware
		}
		out = append(out, device.Opened{At: now, Factory: p.Factory, Facts: p.Found.Proven(), Pins: p.Pins})
	}
	if p.OK() {
		left := p.Found.Settings
		proving.Left = &left
	}
	return append(out, proving)
}

// The checks, in the order they are shown.
const (
	CheckAnswers  = "answers"
	CheckAlone    = "alone"
	CheckPassword = "password"
	CheckOldKeys  = "old keys"
	CheckClosed   = "closed"
	CheckUsers    = "users"
	CheckIdentity = "identity"
	CheckFirmware = "firmware"
	CheckAddress  = "address"
	CheckGateway  = "gateway"
	CheckDNS      = "dns"
	CheckNTP      = "ntp"
	CheckCert     = "certificate"
	CheckStatic   = "static"
	CheckName     = "name"
	CheckPicture  = "picture" // its pictures show its name, and their sources are called so
	CheckZone     = "zone"
	CheckClock    = "clock"
	CheckStream   = "stream"  // its picture is watched by the recorder's user
	CheckChannel  = "channel" // a recorder's, each
	CheckPair     = "pair"    // of an intercom, each
	CheckReport   = "report"  // it reports to its server
)

// Checks lists the names of the checks in order.
var Checks = []string{
	CheckAnswers, CheckAlone, CheckPassword, CheckOldKeys, CheckClosed, CheckUsers, CheckCert, CheckIdentity, CheckFirmware, CheckAddress, CheckGateway, CheckStatic, CheckDNS, CheckNTP, CheckName, CheckPicture, CheckZone, CheckClock, CheckStream, CheckChannel, CheckPair, CheckReport,
}

// Prover reads devices back and compares them with the register.
type Prover struct {
	Site     *Site
	Attempts commission.Attempts
	Place    *commission.Places // held while a device is spoken with
	// Old gives the keys that must not open a device any more and that it has not
	// refused yet; it may be nil.
	Old func(device.MAC) []commission.Credential
}

// Prove checks one device against its plan. Nothing is written to it. Its own
// password is offered first, old ones after that, as far as the budget leaves one
// try for its own at the next time. What went on while the laptop's own link was gone
// says nothing about the device: it is proved again when the link is back.
func (p Prover) Prove(ctx context.Context, d device.Device, plan commission.Plan) Proof {
	for outages := 0; ; outages++ {
		begun := p.Site.Now()
		out := p.proveOnce(ctx, d, plan)
		if again, err := p.Site.Tethered(ctx, begun); !again || err != nil || len(out.offered) > 0 || outages == maxOutages {
			return out
		}
	}
}

// maxOutages is how often a device is proved again for the link's sake.
const maxOutages = 5

func (p Prover) proveOnce(ctx context.Context, d device.Device, plan commission.Plan) Proof {
	out := Proof{Device: d}
	probeCtx, cancel := context.WithCancel(ctx)
	defer cancel()
	// The probe finds anyone else on the address while the device is read.
	alone := acd.Begin(probeCtx, p.Site.Net, acd.Borrowed.At(p.Site.Net.Pace), p.Site.Net.Facts().MAC, plan.Target.Address, append(slices.Clone(plan.Ports), plan.MAC)...)
	read := p.read
	if plan.Manner != commission.ByService {
		read = p.meet
	}
	limit, err := commission.FindLimit, error(nil)
	if p.Place != nil {
		if err := p.Place.Take(ctx); err != nil {
			out.fail(CheckAnswers, "at "+plan.Target.Address.String(), err.Error())
			return out
		}
	}
	for range proveTries {
		out.Checks = nil
		// A device may restart by itself in the middle: then it is read once more.
		if err = read(ctx, plan, limit, &out); !errors.Is(err, commission.ErrReplyLost) || ctx.Err() != nil {
			break
		}
		limit = proveReturn
	}
	if p.Place != nil {
		p.Place.Give()
	}
	if err = commission.NoteLocked(ctx, p.Attempts, plan, err); err != nil {
		out.Checks = slices.DeleteFunc(out.Checks, func(c Check) bool { return c.Name == CheckAnswers })
		out.fail(CheckAnswers, "at "+plan.Target.Address.String(), err.Error())
	}
	switch err := alone.Wait(ctx); {
	case errors.Is(err, acd.ErrConflict):
		out.fail(CheckAlone, "only "+plan.MAC.String(), err.Error())
	case errors.Is(err, acd.ErrUnheard):
		out.fail(CheckAlone, "only "+plan.MAC.String(), "not known: "+acd.ErrUnheard.Error())
	case err == nil:
		out.pass(CheckAlone)
	}
	slices.SortStableFunc(out.Checks, func(a, b Check) int { return slices.Index(Checks, a.Name) - slices.Index(Checks, b.Name) })
	return out
}

// How often a device whose answers stay out is read, and how long it may be away
// in between.
const (
	proveTries  = 3
	proveReturn = time.Minute
)

func (p *Proof) pass(name string) { p.Checks = append(p.Checks, Check{Name: name, OK: true}) }

func (p *Proof) fail(name, want, got string) {
	p.Checks = append(p.Checks, Check{Name: name, Want: text.Harmless(want, text.Long, nil), Got: text.Harmless(got, 2*text.Long, nil)})
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
func (p Prover) read(ctx context.Context, plan commission.Plan, limit time.Duration, out *Proof) error {
	if _, err := p.Site.visitor(ctx, plan.Target.Address); err != nil {
		return err
	}
	find, cancel := context.WithTimeoutCause(ctx, limit, errors.New("no answer"))
	defer cancel()
	if _, err := p.Site.Find(find, plan, []netip.Addr{plan.Target.Address}); err != nil {
		return err
	}
	s, err := p.Site.Open(ctx, plan, plan.Target.Address)
	var told *commission.Trouble
	if errors.As(err, &told) { // somebody answers, and it is not the device
		out.pass(CheckAnswers)
		p.stranger(plan, err, out)
		return nil
	}
	if err != nil {
		return err
	}
	defer s.Close()
	out.pass(CheckAnswers)
	if known, err := p.recognise(ctx, s, plan, out); err != nil || !known {
		return err
	}
	refused, err := s.RefusesAnonymous(ctx)
	if err != nil {
		return err
	}
	out.compare(CheckClosed, refused, "closed to anyone without a password", "open")
	ok, err := p.open(ctx, s, plan, out)
	if errors.As(err, &told) {
		p.stranger(plan, err, out)
		return nil
	}
	if err != nil || !ok {
		return err
	}
	if out.Found, err = s.Read(ctx); err != nil {
		return err
	}
	out.Read = true
	if a, ok := s.(commission.Pinned); ok && a.Pin() != "" {
		out.Pins = map[device.Tongue]string{plan.Tongues[0]: a.Pin()}
	}
	if err := p.userKeys(ctx, s, plan, out); err != nil {
		return err
	}
	if err := p.joined(ctx, s, plan, out); err != nil {
		return err
	}
	out.judge(plan)
	return p.oldKeys(ctx, s, plan, out)
}

// recognise makes sure that it is the recorded device before any password is offered to it.
func (p Prover) recognise(ctx context.Context, s commission.Session, plan commission.Plan, out *Proof) (bool, error) {
	_, err := commission.Recognise(ctx, s, plan, false)
	if err == nil {
		access, err := s.Access(ctx)
		if err != nil || access != device.Fresh || !plan.Known {
			return err == nil, err
		}
		out.Alarm = "it says that it has no password, and was opened by one before"
	} else if errors.Is(err, commission.ErrReplyLost) {
		return false, err
	}
	if plan.TLS != nil && s.Certificate() != plan.TLS.Fingerprint {
		out.Alarm = cmp.Or(out.Alarm, alarmOf(err))
		out.fail(CheckCert, "as surveyed, "+short(plan.TLS.Fingerprint), "another, "+short(s.Certificate()))
		out.notOffered(plan)
		return false, nil
	}
	p.stranger(plan, err, out)
	return false, nil
}

// alarmOf gives the alarm in an error, "" without one.
func alarmOf(err error) string {
	var alarm *commission.AlarmError
	if errors.As(err, &alarm) {
		return alarm.Why
	}
	return ""
}

// stranger tells that it is not the recorded device that answers.
func (p Prover) stranger(plan commission.Plan, err error, out *Proof) {
	why := out.Alarm
	if err != nil {
		out.Alarm = alarmOf(err)
		why = cmp.Or(out.Alarm, err.Error())
	}
	out.fail(CheckIdentity, plan.Serial+" "+plan.MAC.String(), why)
	out.notOffered(plan)
}

func (p *Proof) notOffered(plan commission.Plan) {
	p.fail(CheckPassword, "accepted", fmt.Sprintf("not offered: it is not what it was. If it was reset or replaced on purpose: `janustat restore %s`", plan.Tag))
}

// userKeys offers the passwords of the further users that the device has been given.
func (p Prover) userKeys(ctx context.Context, s commission.Session, plan commission.Plan, out *Proof) error {
	out.usersLeft = 0
	keeper, ok := s.(commission.UserKeeper)
	if !ok {
		return nil // it has no users beside its administrator
	}
	for _, u := range plan.Users {
		if slices.Contains(out.usersRefused, u.Name) {
			continue // by an earlier reading of this proving
		}
		if !u.Made || u.Password.IsZero() || !slices.ContainsFunc(out.Found.Accounts, func(a commission.Account) bool { return a.Named(u.Name) }) {
			continue
		}
		left, err := p.Attempts.Remaining(ctx, plan)
		if err != nil {
			return err
		}
		if left < 2 { // as with old keys
			out.usersLeft++
			continue
		}
		ok, wait, err := commission.Offer(ctx, p.Attempts, plan, commission.Credential{User: u.Name, Password: u.Password}, keeper.Opens)
		if err != nil || wait > 0 {
			return err
		}
		if !ok {
			out.usersRefused = append(out.usersRefused, u.Name)
		}
	}
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
	keys := slices.DeleteFunc(p.Old(plan.MAC), func(k commission.Credential) bool { return slices.Contains(out.offered, k) })
	for i, k := range keys {
		left, err := p.Attempts.Remaining(ctx, plan)
		if err != nil {
			return err
		}
		if left < 2 { // the last one is for its own password at the next time; a later proving goes on
			out.Checks = append(out.Checks, Check{Name: CheckOldKeys, OK: true, Left: len(keys) - i})
			return nil
		}
		ok, wait, err := commission.Offer(ctx, p.Attempts, plan, k, s.Enter)
		if err != nil || wait > 0 {
			return err
		}
		if ok {
			out.fail(CheckOldKeys, "refused", fmt.Sprintf("an %s password of %s still opens it", map[bool]string{true: "old factory", false: "earlier"}[k.Origin == commission.FromFactory], k.User))
			return nil
		}
		out.offered = append(out.offered, k)
		if refused, proven := evidence.Prove(s.Witness(), k); proven {
			out.Refused = append(out.Refused, refused)
		}
	}
	out.pass(CheckOldKeys)
	if len(keys) == 0 {
		return nil
	}
	// Opened once more by its own password, which has just fitted, it forgets the wrong
	// ones. When that fails for another reason than a lock-out, nothing is lost.
	_, err = commission.OfferSure(ctx, p.Attempts, plan, commission.Credential{User: plan.User, Password: plan.Password}, s.Enter)
	var locked *commission.LockedError
	if errors.As(err, &locked) {
		return err
	}
	return nil
}

// meet finds a device that speaks nothing more than ARP at its address. What was
// typed into it beside the address cannot be read back.
func (p Prover) meet(ctx context.Context, plan commission.Plan, limit time.Duration, out *Proof) error {
	find, cancel := context.WithTimeoutCause(ctx, limit+acdLongest, errors.New("no answer"))
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
		out.fail(CheckPassword, "accepted", "it has none yet: run `janustat commission`")
		return false, nil
	}
	if plan.Password.IsZero() {
		out.fail(CheckPassword, "accepted", "the keyring has none for it")
		return false, nil
	}
	own, offer := commission.Credential{User: plan.User, Password: plan.Password}, commission.Offer
	if plan.Confirmed(own) { // it has opened the device before: what is cut short is no guess
		offer = commission.OfferKnown
	}
	ok, wait, err := offer(ctx, p.Attempts, plan, own, s.Enter)
	if err != nil {
		return false, err
	}
	if wait > 0 {
		out.fail(CheckPassword, "accepted", fmt.Sprintf("not tried: no tries left for %s", wait.Round(time.Minute)))
		return false, nil
	}
	if out.Factory = ok && plan.Factory; out.Factory {
		out.fail(CheckPassword, "one of its own", "a factory password, known to all, opens it still: run `janustat commission`")
		return ok, nil
	}
	out.compare(CheckPassword, ok, "accepted", "refused")
	return ok, nil
}
