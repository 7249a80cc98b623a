package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/secret"
	"janustat/internal/field"
	"janustat/internal/job"
	"janustat/internal/reach"
)

func (a *App) commissionCommand() *cobra.Command {
	var dry, newcomers bool
	crew, hands := commission.DefaultCrew, commission.DefaultHandLimit
	c := &cobra.Command{
		Use:   "commission",
		Short: "Carry it out: password, clock, name, address, verify",
		Long: `Carries out for every taken and allotted device, in parallel: the first password,
the clock, the name, the address (after an RFC 5227 probe), a restart where the
device asks for one, and a reading back of everything. Every step is journaled
before it is sent. Run it again at any time: it goes on where it stopped, and
writes nothing to a device that is right already.

For a taken device that speaks nothing that can be configured, it prints exactly
what to type into it and waits until it appears at its address. It says which devices
have to be powered off and on because they take settings only for a while after that,
and waits for them too. A device that takes nothing but a lease ends as leased by
reservation, with the line for the site's own DHCP server.

A device that was opened before and says now that it has no password, shows another
certificate or no longer offers HTTPS is an alarm: nothing is sent to it ("restore"
takes it back in). Where devices share a password (style: shared or by_kind), a new
device is given it only once you say that it is one of yours.`,
		Example: "  janustat commission --dry-run\n  janustat commission --wire eth0 --yes\n  janustat commission --wire eth0 --by-hand 0s",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if crew < 1 || crew > 256 {
				return usagef("--crew %d: use 1 to 256", crew)
			}
			if hands < 0 || hands > 24*time.Hour {
				return usagef("--by-hand %s: use 0s to 24h", hands)
			}
			return a.withJob(c.Context(), "commission", func(j *job.Job, devices []device.Device) error {
				if dry {
					return a.dryRun(c.Context(), j, devices)
				}
				return a.commission(c.Context(), j, devices, commissioning{crew, hands, newcomers})
			})
		},
	}
	c.Flags().BoolVar(&dry, "dry-run", false, "show what would be written and send nothing")
	c.Flags().BoolVar(&newcomers, "newcomers", false, "give new devices a password that others have, where the job sheet's style has them share one")
	c.Flags().IntVar(&crew, "crew", crew, "conversations held at once")
	c.Flags().DurationVar(&hands, "by-hand", hands, "how long to wait for what you do yourself: typing into devices, or their power")
	return c
}

// ready gives the taken devices that have an allotment, or an error that says
// what is missing.
func ready(devices []device.Device) (int, error) {
	n := 0
	for i := range devices {
		d := &devices[i]
		if d.InJob != device.Taken {
			continue
		}
		if d.Allotted == nil {
			return 0, usagef("%s has no address allotted: run `janustat allot` first", d.Tag)
		}
		n++
	}
	if n == 0 {
		return 0, usagef("no device is taken: choose with `janustat take all`, then run `janustat allot`")
	}
	return n, nil
}

// commissioning is how a commission is done.
type commissioning struct {
	crew      int
	hands     time.Duration
	newcomers bool
}

func (a *App) commission(ctx context.Context, j *job.Job, devices []device.Device, o commissioning) error {
	n, err := ready(devices)
	if err != nil {
		return err
	}
	if err := a.confirm(ctx, fmt.Sprintf("Commission %s now?", plural(n, "device"))); err != nil {
		return err
	}
	planner, err := a.planner(ctx, j, devices, true)
	if err != nil {
		return err
	}
	planner.AdmitNewcomers = o.newcomers
	plans, err := a.plans(ctx, planner, devices)
	if err != nil {
		return err
	}
	return a.withNet(ctx, longPatience, func(ctx context.Context, net *reach.Net) error {
		subnets, avoid, err := a.lay(ctx, j, devices, net)
		if err != nil {
			return err
		}
		a.printTyping(plans, devices)
		return a.carryOut(ctx, j, a.site(net, subnets, avoid), planner, plans, o)
	})
}

// site makes ready to speak to devices.
func (a *App) site(net *reach.Net, subnets *field.Subnets, avoid func(netip.Addr) bool) *field.Site {
	return &field.Site{Net: net, Subnets: subnets, Avoid: avoid, Veil: &a.veil}
}

// printTyping tells what to type into the devices that nothing else can set up.
func (a *App) printTyping(plans []commission.Plan, devices []device.Device) {
	if a.quiet {
		return
	}
	l := &listing{columns: []column{{"TAG", 0}, {"MAC", 2}, {"NOW", 0}, {"ADDRESS", 0}, {"MASK", 0}, {"GATEWAY", 0}, {"DNS", 3}}}
	for _, p := range plans {
		if p.Manner != commission.ByHand || p.From == p.Target.Address {
			continue
		}
		l.add(plain(p.Tag), plain(p.MAC.String()), plain(addressText(p.From)), styled(p.Target.Address.String(), &goodStyle),
			plain(ground.Mask(p.Target.Prefix).String()), plain(addressText(p.Target.Gateway)), plain(ground.List(p.Target.DNS)))
	}
	if len(l.rows) == 0 {
		return
	}
	fmt.Fprintln(a.Err, "By hand: type this into each by its own page (`janustat web TAG`) or screen, DHCP off:")
	a.write(a.Err, l)
	fmt.Fprintln(a.Err)
}

// reservation gives the line that the site's own DHCP server needs, in the two
// forms of configuration file that most take.
func reservation(p commission.Plan) string {
	return fmt.Sprintf("  dhcp-host=%s,%s,%s\n  host %s { hardware ethernet %s; fixed-address %s; }",
		p.MAC, p.Target.Address, p.Tag, p.Tag, p.MAC, p.Target.Address)
}

func (a *App) printReservations(plans []commission.Plan) {
	if len(plans) == 0 {
		return
	}
	fmt.Fprintf(a.Out, "Leased by reservation: %s no static address. The site's own DHCP server needs, in one form or the other:\n", takes(len(plans)))
	for _, p := range plans {
		fmt.Fprintln(a.Out, reservation(p))
	}
}

func takes(n int) string {
	if n == 1 {
		return "1 device takes"
	}
	return fmt.Sprintf("%d devices take", n)
}

// planner opens the keyring, or makes one if create is set, and makes ready to plan.
func (a *App) planner(ctx context.Context, j *job.Job, devices []device.Device, create bool) (*field.Planner, error) {
	keys, err := a.keyring(ctx, j, create)
	if err != nil {
		return nil, err
	}
	return a.plannerWith(ctx, j, devices, keys)
}

func (a *App) plannerWith(ctx context.Context, j *job.Job, devices []device.Device, keys *job.Keyring) (*field.Planner, error) {
	maybeKeyed, err := j.Register.MaybeKeyed(ctx)
	if err != nil {
		return nil, err
	}
	progress, err := j.Register.Progress(ctx)
	if err != nil {
		return nil, err
	}
	// As it was when the addresses were allotted: what the LAN says by now may be a stranger's.
	kept, err := j.Register.KeptGround(ctx)
	if err != nil {
		return nil, err
	}
	g := kept.Ground
	if !g.Subnet.IsValid() {
		if g, err = field.Ground(ctx, j, devices); err != nil && !errors.Is(err, ground.ErrNoGround) {
			return nil, err
		}
	}
	return &field.Planner{Sheet: j.Sheet, Keys: keys, All: devices, MaybeKeyed: maybeKeyed, Progress: progress, DNS: g.DNS, NTP: g.NTP, Random: rand.Reader}, nil
}

// plans makes the plans and saves the passwords they need before anything is sent.
func (a *App) plans(ctx context.Context, p *field.Planner, devices []device.Device) ([]commission.Plan, error) {
	had := !p.Keys.Site().IsZero()
	plans := p.Plans(devices)
	if _, tty := terminal(a.In); len(p.Newcomers) > 0 && tty && !a.yes {
		question := fmt.Sprintf("%s new, and would be given a password that other devices of the job have. Is each of them one of yours?", areOf(p.Newcomers))
		switch err := a.ask(ctx, question); {
		case err == nil:
			p.AdmitNewcomers = true
			plans = p.Plans(devices)
		case errors.As(err, new(needsError)):
			a.say("they are left out; the others go on")
		default:
			return nil, err
		}
	}
	if p.Changed {
		if err := p.Keys.Save(); err != nil {
			return nil, fmt.Errorf("the passwords could not be saved, so nothing was sent: %w", err)
		}
	}
	if style := p.Sheet.Style(); !had && style != job.Each && p.Changed {
		a.say("note: with `style: %s` every device of the job learns a password that others have; `style: each` gives each its own", style)
	}
	offerOtherForms(p, plans, devices)
	return plans, nil
}

// areOf gives "C05 is" or "C05 C06 are".
func areOf(tags []string) string {
	if len(tags) == 1 {
		return tags[0] + " is"
	}
	return strings.Join(tags, " ") + " are"
}

// offerOtherForms lets devices that refuse a password have another form of it,
// which is saved while others are at work.
func offerOtherForms(p *field.Planner, plans []commission.Plan, devices []device.Device) {
	var saving sync.Mutex
	for i := range plans {
		if plans[i].Manner != commission.ByService {
			continue
		}
		another := p.Another(*deviceByID(devices, plans[i].ID), p.Keys.Save)
		if another == nil {
			continue
		}
		plans[i].Another = func(s commission.Step, user string, refused int) (secret.Password, error) {
			saving.Lock()
			defer saving.Unlock()
			return another(s, user, refused)
		}
	}
}

func (a *App) carryOut(ctx context.Context, j *job.Job, site *field.Site, planner *field.Planner, plans []commission.Plan, o commissioning) error {
	begun := time.Now()
	attempts, done, err := a.attempts(ctx, j, site.Net)
	if err != nil {
		return err
	}
	defer done()
	view := a.startView(plans)
	worker := commission.Worker{
		Site: site, Journal: a.journal(j), Attempts: attempts,
		Place: commission.NewPlaces(o.crew), HandLimit: o.hands, Watch: view.step,
	}
	results, err := a.watchOver(ctx, j, planner.Keys, view, func(done func(commission.Result)) []commission.Result {
		return commission.RunAll(ctx, worker, plans, func(f func()) { go f() }, done)
	})
	if err != nil {
		return err
	}
	return a.summary(ctx, results, time.Since(begun))
}

func (a *App) journal(j *job.Job) commission.Journal {
	if a.Journal != nil {
		return a.Journal(j.Register)
	}
	return j.Register
}

// watchOver shows and saves each result as it comes, and what it tells of keys
// once all are there.
func (a *App) watchOver(ctx context.Context, j *job.Job, keys *job.Keyring, view progressView, work func(done func(commission.Result)) []commission.Result) ([]commission.Result, error) {
	var saving sync.Mutex
	var saveErr error
	results := work(func(r commission.Result) {
		view.result(r)
		saving.Lock()
		defer saving.Unlock()
		// Saved even when the run is being stopped: what was done was done.
		if err := a.saveResult(context.WithoutCancel(ctx), j, r); err != nil && saveErr == nil {
			saveErr = err
		}
	})
	view.stop()
	changed := false
	for _, r := range results {
		changed = field.TakeKeys(keys, r, time.Now()) || changed
	}
	if changed {
		saveErr = errors.Join(saveErr, keys.Save())
	}
	return results, saveErr
}

// saveResult carries one result into the register.
func (a *App) saveResult(ctx context.Context, j *job.Job, r commission.Result) error {
	devices, err := j.Register.Devices(ctx)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(devices, func(d device.Device) bool { return d.ID == r.Plan.ID })
	if at < 0 {
		return fmt.Errorf("register: %s is gone from it", r.Plan.Tag)
	}
	devices[at].Apply(field.Events(r, time.Now())...)
	field.Judge(j.Sheet, devices, field.SiteSubnet(ctx, j, devices))
	return j.Register.Save(ctx, devices[at:at+1])
}
