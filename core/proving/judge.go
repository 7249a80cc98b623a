package proving

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"janustat/core/advice"
	"janustat/core/checks"
	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/evidence"
)

func (p *Proof) judge(plan commission.Plan) {
	f := p.Found
	// Where a key is the identity, an old device tells its serial number in the open alone.
	sameSerial := plan.Serial == "" || f.Serial == plan.Serial || f.Serial == "" && len(p.Pins) > 0
	sameMAC := len(f.MACs) == 0 || slices.Contains(f.MACs, plan.MAC)
	for _, port := range plan.Ports { // a card beside, which the device has to know
		if !slices.Contains(f.MACs, port) {
			p.fail(checks.Alone, "its own cards only", fmt.Sprintf("also %s, which it does not know", port))
		}
	}
	p.compare(checks.Identity, sameSerial && sameMAC, plan.Serial+" "+plan.MAC.String(), f.Serial)
	recorded := p.Device.Firmware
	p.compare(checks.Firmware, recorded == "" || f.Firmware == recorded || f.Firmware == "" && len(p.Pins) > 0, recorded, f.Firmware)
	if plan.TLS != nil {
		p.compare(checks.Cert, f.Vouched || f.Certificate == plan.TLS.Fingerprint, "as surveyed, "+short(plan.TLS.Fingerprint), "another, "+short(f.Certificate))
	}
	p.users(plan)
	proofs := commission.Proofs(plan, f)
	p.links(proofs)
	for _, c := range proofs {
		if slices.Contains(linkChecks, c.Name) {
			continue
		}
		p.compare(c.Name, c.OK, c.Want, c.Got)
		if c.Refused { // it is told, and is no fault of the work
			last := &p.Checks[len(p.Checks)-1]
			last.OK, last.Refused = true, true
		}
	}
}

// users compares the accounts with those that the device is to have.
func (p *Proof) users(plan commission.Plan) {
	want := []commission.Account{{Name: plan.User, Level: commission.Administrator}}
	for _, u := range plan.Users {
		want = append(want, u.Account)
	}
	var wrong []string
	for _, a := range p.Found.Accounts {
		at := slices.IndexFunc(want, func(w commission.Account) bool { return w.Named(a.Name) })
		switch {
		case at < 0 && strings.EqualFold(string(a.Level), "Anonymous"): // no user: that nobody gets in without a password is another check
		case at < 0:
			wrong = append(wrong, "also "+a.Name)
		case !want[at].Is(a):
			wrong = append(wrong, a.String())
		}
	}
	// Some list no administrators at all: the password has opened it all the same.
	listed := slices.ContainsFunc(p.Found.Accounts, func(a commission.Account) bool {
		return strings.EqualFold(string(a.Level), string(commission.Administrator))
	})
	for _, w := range want {
		if w.Level == commission.Administrator && !listed {
			continue
		}
		if !slices.ContainsFunc(p.Found.Accounts, func(a commission.Account) bool { return a.Named(w.Name) }) {
			wrong = append(wrong, "no "+w.Name)
		}
	}
	for _, u := range plan.Users { // it was refused at an earlier proving, and not given again since
		there := slices.ContainsFunc(p.Found.Accounts, func(a commission.Account) bool { return a.Named(u.Name) })
		if there && !u.Made && !slices.Contains(p.usersRefused, u.Name) {
			wrong = append(wrong, fmt.Sprintf("the password of %s is not known to open it", u.Name))
		}
	}
	for _, name := range p.usersRefused {
		wrong = append(wrong, fmt.Sprintf("the password of %s is refused (%s gives it another)", name, p.says(advice.KeyChange.On(plan.Tag).OfUser(name))))
	}
	names := make([]string, len(want))
	for i, w := range want {
		names[i] = w.String()
	}
	p.compare(checks.Users, len(wrong) == 0, "only "+strings.Join(names, ", "), strings.Join(wrong, ", "))
	if len(wrong) == 0 {
		p.Checks[len(p.Checks)-1].Left = p.usersLeft
	}
}

// short tells a fingerprint by its beginning.
func short(fingerprint string) string {
	if fingerprint == "" {
		return "none"
	}
	return fmt.Sprintf("%.16s…", fingerprint)
}

// KeyResult is what trying a password on one device gave.
type KeyResult struct {
	Opened bool
	Wait   time.Duration // the budget is spent; nothing was offered
	Found  commission.Found
	// By is the witness of the device's word.
	By evidence.Witness
}

// TryKey offers a password to one device where it was last met, and reads the
// device if it opens.
func (p Prover) TryKey(ctx context.Context, plan commission.Plan) (KeyResult, error) {
	find, cancel := context.WithTimeoutCause(ctx, commission.FindLimit+arriveLimit, errors.New("no answer"))
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
	r, err := p.tryKey(ctx, s, plan)
	return r, commission.NoteLocked(ctx, p.Attempts, plan, err)
}

func (p Prover) tryKey(ctx context.Context, s commission.Session, plan commission.Plan) (KeyResult, error) {
	if _, err := commission.Recognise(ctx, s, plan, false); err != nil {
		return KeyResult{}, err
	}
	access, err := s.Access(ctx)
	switch {
	case err != nil:
		return KeyResult{}, err
	case access == device.Fresh && plan.Known:
		return KeyResult{}, &commission.AlarmError{Why: "it says that it has no password, and was opened by one before, so nothing was offered to it"}
	case access == device.Fresh:
		return KeyResult{}, advice.Wrap(errors.New("it has no password yet"), "%s gives it one", advice.Commission)
	}
	ok, wait, err := commission.Offer(ctx, p.Attempts, plan, commission.Credential{User: plan.User, Password: plan.Password}, s.Enter)
	if err != nil || !ok {
		return KeyResult{Wait: wait, By: s.Witness()}, err
	}
	r := KeyResult{Opened: true, By: s.Witness()}
	if r.Found, err = s.Read(ctx); err != nil {
		return r, err
	}
	if plan.Serial != "" && r.Found.Serial != "" && r.Found.Serial != plan.Serial {
		return KeyResult{}, fmt.Errorf("another device answers there: serial %s, not %s", r.Found.Serial, plan.Serial)
	}
	return r, nil
}

// arriveLimit is the longest it takes to find an address of our own, some being taken.
const arriveLimit = 2400 * time.Millisecond
