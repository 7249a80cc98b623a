// Package work holds what is done in a job: to survey, allot, commission, prove, change
// keys, restore and hand over. It prints nothing and asks nobody; whoever calls it, the
// command line or another face, reads the words and shows the outcome.
package work

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"janustat/core/advice"
	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/policy"
	"janustat/core/proving"
	"janustat/core/secret"
	"janustat/internal/authority"
	"janustat/internal/job"
	"janustat/internal/keyring"
	"janustat/internal/reach"
	"janustat/internal/site"
	"janustat/internal/store"
	"janustat/internal/survey"
)

// Desk is a job laid out to be worked on.
type Desk struct {
	Job     *job.Job
	Devices []device.Device // all that are known
	Veil    *secret.Veil    // passwords in play, blanked out of what devices say
	State   string          // the folder of this machine's own record
	Log     *slog.Logger
	Say     func(format string, args ...any) // progress for a person
	Words   func(advice.Step) string         // of what to do next
	// Around, if set, is put around the journal of writes.
	Around func(commission.Journal) commission.Journal

	net   *reach.Net           // that was worked on
	bore  float64              // broadcasts a second that its wire had shown to bear; 0 is without a limit
	saver *saver               // of the keyring that is worked with
	signs *authority.Authority // the site's, of the keyring that is worked with; nil without
	mu    sync.Mutex
}

// Locked runs f while nothing else is done at the desk, for those who do several things
// there at once.
func (d *Desk) Locked(f func()) {
	d.mu.Lock()
	defer d.mu.Unlock()
	f()
}

// Meet has a net ask first for the visitors of the last minutes. It is to be called before
// anything is done on the net.
func (d *Desk) Meet(ctx context.Context, n *reach.Net) error {
	var err error
	d.net = n
	if n.Prefer, err = d.Job.Register.Visitors(ctx); err != nil {
		return err
	}
	d.bore, err = d.Job.Register.Broadcasts(ctx, n.Facts().Name)
	n.SetBroadcasts(d.bore, float64(d.Job.Sheet.Survey.Rate), func(text string) { d.Say("note: %s", text) })
	return err
}

// Clear keeps what the next one who works on the job is quicker by.
func (d *Desk) Clear(ctx context.Context) error {
	if d.net == nil {
		return nil
	}
	rate, limited := d.net.Broadcasts()
	if !limited {
		rate = 0
	}
	if rate != d.bore {
		if err := d.Job.Register.KeepBroadcasts(ctx, d.net.Facts().Name, rate); err != nil {
			return err
		}
	}
	return d.Job.Register.KeepVisitors(ctx, d.net.Visitors())
}

// Misuse is an error of what was asked for: nothing was done.
type Misuse struct{ Err error }

// Error gives the text of the error.
func (m *Misuse) Error() string { return m.Err.Error() }

// Unwrap gives the error.
func (m *Misuse) Unwrap() error { return m.Err }

func misuse(format string, args ...any) error { return &Misuse{fmt.Errorf(format, args...)} }

// Unfinished tells what work that was carried out has left to a person.
type Unfinished struct{ Err error }

// Error gives the text of the error.
func (u *Unfinished) Error() string { return u.Err.Error() }

// Unwrap gives the error.
func (u *Unfinished) Unwrap() error { return u.Err }

func unfinished(format string, args ...any) error { return &Unfinished{fmt.Errorf(format, args...)} }

// troubled tells of a device that could not be worked on, with what to do about it.
func troubled(label, reason string, next advice.Advice) error {
	return &Unfinished{&advice.Error{Err: fmt.Errorf("%s %s. Next", label, reason), Next: next}}
}

// Subnet is the site's, as far as it is known.
func (d *Desk) Subnet(ctx context.Context) netip.Prefix {
	return SiteSubnet(ctx, d.Job, d.Devices)
}

// Save judges what is known and keeps what is new of it. cause is the work that it comes of.
func (d *Desk) Save(ctx context.Context, cause string) error {
	policy.Judge(d.Job.Sheet, d.Devices, d.Subnet(ctx))
	if err := MarkApart(ctx, d.Job, d.Devices); err != nil {
		return err
	}
	return d.Job.Register.Record(ctx, cause, d.Devices)
}

// Lay gives the subnets to work in and the addresses that visitors must not borrow.
func (d *Desk) Lay(ctx context.Context, n *reach.Net) (*survey.Subnets, func(netip.Addr) bool, error) {
	site := d.Subnet(ctx)
	reserved, err := Reserved(ctx, d.Job, d.Devices)
	if err != nil {
		return nil, nil, err
	}
	var blocks []ground.Block
	if site.IsValid() {
		blocks = d.Job.Sheet.BlocksIn(site)
	}
	given := map[netip.Addr]bool{}
	for i := range d.Devices {
		if d.Devices[i].Allotted != nil {
			given[d.Devices[i].Allotted.Address] = true
		}
		for _, x := range d.Devices[i].Addresses {
			given[x] = true
		}
	}
	for _, r := range reserved {
		if r.Range.From == r.Range.To {
			given[r.Range.From] = true
		}
	}
	reserved = slices.DeleteFunc(reserved, func(r ground.Reserved) bool { return r.Range.From == r.Range.To })
	avoid := func(x netip.Addr) bool {
		return given[x] ||
			slices.ContainsFunc(reserved, func(r ground.Reserved) bool { return r.Range.Contains(x) }) ||
			site.Bits() <= 24 && slices.ContainsFunc(blocks, func(b ground.Block) bool { return b.Range.Contains(x) })
	}
	return survey.NewSubnets(n.Facts().Addresses, site, d.Job.Sheet.Survey.FactorySubnets, d.Job.Sheet.Network.NotOurs), avoid, nil
}

// Site makes ready to speak to devices.
func (d *Desk) Site(ctx context.Context, n *reach.Net) (*site.Site, error) {
	subnets, avoid, err := d.Lay(ctx, n)
	if err != nil {
		return nil, err
	}
	return &site.Site{Net: n, Subnets: subnets, Avoid: avoid, Veil: d.Veil, Signs: func() *authority.Authority { return d.signs }}, nil // it is known once the keyring is open
}

// Warm begins to take the temporary addresses that devices will be spoken with from, beside what has
// to be done before: each takes half a second. What fails is told by whoever needs it.
func (d *Desk) Warm(ctx context.Context, n *reach.Net, only Selection) {
	site, err := d.Site(ctx, n)
	if err != nil {
		return
	}
	var at []netip.Addr
	for i := range d.Devices {
		x := &d.Devices[i]
		if x.InJob != device.Taken || x.Allotted == nil || x.NotOurs || !only.Has(x.ID) {
			continue
		}
		if at = append(at, x.Allotted.Address); x.Address().Is4() {
			at = append(at, x.Address())
		}
	}
	site.Warm(ctx, at)
}

// Attempts keeps the budget of password tries: in the job, and on this machine. done is
// to be called in the end.
func (d *Desk) Attempts(ctx context.Context, n *reach.Net) (at store.Attempts, done func(), err error) {
	wire := ""
	if name := n.Facts().Name; strings.HasPrefix(name, "bench:") {
		wire = name
	}
	at, done, err = d.Job.Register.Attempts(ctx, d.State, wire, d.Job.Sheet.Budget())
	if err != nil {
		return nil, nil, fmt.Errorf("%w: no password is tried without it. Set JANUSTAT_STATE to a folder that can be written", err)
	}
	return at, done, nil
}

// Again forgets what was noted against a device's keys: that it said it was locked, and
// which keys it has refused. Tries that were made count as before.
func (d *Desk) Again(ctx context.Context, x *device.Device, keys *keyring.Keyring) (unlocked, forgot bool, err error) {
	at, done, err := d.Job.Register.Attempts(ctx, d.State, "", d.Job.Sheet.Budget())
	if err != nil {
		return false, false, err
	}
	defer done()
	if unlocked, err = at.Unlock(ctx, commission.Plan{MAC: x.MAC}); err != nil {
		return false, false, err
	}
	if forgot = keys.ForgetRefused(x.MAC); forgot {
		err = keys.Save()
	}
	return unlocked, forgot, err
}

// Prover makes ready to speak to devices and to offer them passwords. done is to be
// called in the end.
func (d *Desk) Prover(ctx context.Context, n *reach.Net) (p proving.Prover, done func(), err error) {
	site, err := d.Site(ctx, n)
	if err != nil {
		return proving.Prover{}, nil, err
	}
	attempts, end, err := d.Attempts(ctx, n)
	if err != nil {
		return proving.Prover{}, end, err
	}
	sized, cancel := context.WithCancel(ctx)
	return proving.Prover{Site: site, Attempts: attempts, Place: places(sized, 0), Words: d.Words}, func() { cancel(); end() }, nil
}

// journal is where writes are recorded before and after they are sent.
func (d *Desk) journal() commission.Journal {
	if d.Around != nil {
		return d.Around(d.Job.Register)
	}
	return d.Job.Register
}

// worker makes one of what is needed to carry out plans.
func (d *Desk) worker(p proving.Prover, watch func(commission.Plan, commission.Step, string), keys *keyring.Keyring) commission.Worker {
	saver := d.saverOf(keys)
	return commission.Worker{
		Site: p.Site, Journal: d.journal(), Attempts: p.Attempts, Place: p.Place, Watch: watch,
		Learnt: func(r commission.Result) error {
			return saver.keep(func() bool { return policy.TakeKeys(keys.Ring, r, time.Now()) })
		},
	}
}
