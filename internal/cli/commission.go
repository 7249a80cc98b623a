package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
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
	var dry bool
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
reservation, with the line for the site's own DHCP server.`,
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
					return a.dryRun(j, devices)
				}
				return a.commission(c.Context(), j, devices, crew, hands)
			})
		},
	}
	c.Flags().BoolVar(&dry, "dry-run", false, "show what would be written and send nothing")
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

func (a *App) commission(ctx context.Context, j *job.Job, devices []device.Device, crew int, hands time.Duration) error {
	n, err := ready(devices)
	if err != nil {
		return err
	}
	if err := a.confirm(fmt.Sprintf("Commission %s now?", plural(n, "device"))); err != nil {
		return err
	}
	return a.withNet(func(net *reach.Net) error {
		subnets, avoid, err := a.lay(ctx, j, devices, net)
		if err != nil {
			return err
		}
		site := &field.Site{Net: net, Subnets: subnets, Avoid: avoid}
		planner, err := a.planner(ctx, j, devices, true)
		if err != nil {
			return err
		}
		plans, err := a.plans(planner, devices)
		if err != nil {
			return err
		}
		a.printTyping(plans, devices)
		return a.carryOut(ctx, j, site, planner, plans, crew, hands)
	})
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
	keys, err := a.keyring(j, create)
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
	p := &field.Planner{Sheet: j.Sheet, Keys: keys, MaybeKeyed: maybeKeyed, Progress: progress, Random: rand.Reader}
	if g, err := field.Ground(ctx, j, devices); err == nil {
		p.DNS, p.NTP = g.DNS, g.NTP
	}
	return p, nil
}

// plans makes the plans and saves the passwords they need before anything is sent.
func (a *App) plans(p *field.Planner, devices []device.Device) ([]commission.Plan, error) {
	had := !p.Keys.Site().IsZero()
	plans, err := p.Plans(devices)
	if err != nil {
		return nil, usageError{err}
	}
	if p.Changed {
		if err := p.Keys.Save(); err != nil {
			return nil, fmt.Errorf("the passwords could not be saved, so nothing was sent: %w", err)
		}
	}
	if !had && !p.Keys.Site().IsZero() {
		a.say("made a site password; it is on the keyring: janustat key show")
	}
	offerOtherForms(p, plans, devices)
	return plans, nil
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

func (a *App) carryOut(ctx context.Context, j *job.Job, site *field.Site, planner *field.Planner, plans []commission.Plan, crew int, hands time.Duration) error {
	begun := time.Now()
	view := a.startView(plans)
	worker := commission.Worker{
		Site: site, Journal: a.journal(j), Attempts: job.Attempts{Register: j.Register, Budget: j.Sheet.Budget()},
		Place: commission.NewPlaces(crew), HandLimit: hands, Watch: view.step,
	}
	results, err := a.watchOver(ctx, j, planner.Keys, view, func(done func(commission.Result)) []commission.Result {
		return commission.RunAll(ctx, worker, plans, func(f func()) { go f() }, done)
	})
	if err != nil {
		return err
	}
	return a.summary(results, time.Since(begun))
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
	field.Record(&devices[at], r)
	if g, err := field.Ground(ctx, j, devices); err == nil {
		field.Judge(j.Sheet, devices, g.Subnet)
	}
	return j.Register.Save(ctx, devices[at:at+1])
}

// resultJSON is one device in the --json document of commission.
type resultJSON struct {
	Tag     string            `json:"tag"`
	MAC     device.MAC        `json:"mac"`
	Address string            `json:"address"`
	Status  commission.Status `json:"status"`
	Reason  string            `json:"reason,omitempty"`
	Next    string            `json:"next,omitempty"`
	Writes  []commission.Step `json:"writes"`
	Manner  commission.Manner `json:"manner,omitempty"`
	Notes   []string          `json:"notes,omitempty"`
	SpentMS map[string]int64  `json:"spent_ms"`
}

func (a *App) summary(results []commission.Result, took time.Duration) error {
	count := map[commission.Status]int{}
	writes := 0
	for _, r := range results {
		count[r.Status]++
		writes += len(r.Writes)
	}
	if a.json {
		out := make([]resultJSON, len(results))
		for i, r := range results {
			spent := map[string]int64{}
			for s, d := range r.Spent {
				spent[string(s)] = d.Milliseconds()
			}
			out[i] = resultJSON{r.Plan.Tag, r.Plan.MAC, r.Plan.Target.Address.String(), r.Status, r.Reason, r.Next, orEmpty(r.Writes), mannerOf(r), r.Notes, spent}
		}
		if err := a.emit(struct {
			Results []resultJSON `json:"results"`
			Writes  int          `json:"writes"`
			TookMS  int64        `json:"took_ms"`
		}{out, writes, took.Milliseconds()}); err != nil {
			return err
		}
	} else {
		a.printSummary(results, count, writes, took)
	}
	if count[commission.Done] != len(results) {
		return needsError{}
	}
	return nil
}

func (a *App) printSummary(results []commission.Result, count map[commission.Status]int, writes int, took time.Duration) {
	for _, status := range []commission.Status{commission.NeedsYou, commission.NotTried} {
		if count[status] == 0 {
			continue
		}
		fmt.Fprintf(a.Out, "%s:\n", a.paint(a.Out, badStyle, string(status)))
		for _, r := range results {
			if r.Status == status {
				fmt.Fprintf(a.Out, "  %s (%s) %s\n    next: %s\n", r.Plan.Tag, r.Plan.MAC, r.Reason, r.Next)
			}
		}
	}
	fmt.Fprintf(a.Out, "%s, %d need you, %d not tried; %s in %.1f s\n",
		a.paint(a.Out, goodStyle, fmt.Sprintf("%d done", count[commission.Done])), count[commission.NeedsYou], count[commission.NotTried], plural(writes, "write"), took.Seconds())
	fmt.Fprintf(a.Out, "Longest device, by step: %s\n", whereTimeWent(results))
	var reserved []commission.Plan
	for _, r := range results {
		if mannerOf(r) == commission.ByReservation {
			reserved = append(reserved, r.Plan)
		}
	}
	a.printReservations(reserved)
	a.printNotes(results)
	if count[commission.Done] == len(results) {
		fmt.Fprintln(a.Out, "Next: janustat prove")
	}
}

// printNotes tells what is worth knowing, once for all devices that it is true of.
func (a *App) printNotes(results []commission.Result) {
	var order []string
	whose := map[string][]string{}
	for _, r := range results {
		for _, n := range r.Notes {
			if whose[n] == nil {
				order = append(order, n)
			}
			whose[n] = append(whose[n], r.Plan.Tag)
		}
	}
	for _, n := range order {
		fmt.Fprintln(a.Out, a.wrap(a.Out, 2, "Note: "+strings.Join(whose[n], " ")+": "+n))
	}
}

func mannerOf(r commission.Result) commission.Manner {
	if r.Reserved || r.Plan.Target.DHCP {
		return commission.ByReservation
	}
	return r.Plan.Manner
}

// timedSteps are the steps whose time is told, with the words for it.
var timedSteps = []struct {
	words string
	steps []commission.Step
}{
	{"taking visitor addresses", []commission.Step{commission.StepVisit}},
	{"finding", []commission.Step{commission.StepFind}},
	{"waiting for the address probe", []commission.Step{commission.StepProbe}},
	{"speaking", []commission.Step{
		commission.StepKey, commission.StepRekey, commission.StepClock, commission.StepName, commission.StepUser, commission.StepDNS, commission.StepNTP, commission.StepAddress, commission.StepGateway, commission.StepRestart, commission.StepVerify,
	}},
	{"restarting or moving", []commission.Step{commission.StepReturn}},
	{"waiting for hands", []commission.Step{commission.StepHand}},
}

// whereTimeWent breaks down the slowest device, which is what the run waited for.
func whereTimeWent(results []commission.Result) string {
	sum := func(r commission.Result, steps []commission.Step) (d time.Duration) {
		for _, s := range steps {
			d += r.Spent[s]
		}
		return d
	}
	var slowest commission.Result
	var most time.Duration
	for _, r := range results {
		var all time.Duration
		for _, d := range r.Spent {
			all += d
		}
		if all > most {
			slowest, most = r, all
		}
	}
	parts := make([]string, 0, len(timedSteps))
	for _, t := range timedSteps {
		if d := sum(slowest, t.steps); d >= 50*time.Millisecond {
			parts = append(parts, fmt.Sprintf("%s %.1f s", t.words, d.Seconds()))
		}
	}
	return fmt.Sprintf("%s: %s", slowest.Plan.Tag, strings.Join(parts, ", "))
}

// dryRun tells what the register makes expect, without any traffic.
func (a *App) dryRun(j *job.Job, devices []device.Device) error {
	if _, err := ready(devices); err != nil {
		return err
	}
	type row struct {
		Tag   string            `json:"tag"`
		From  string            `json:"from"`
		To    string            `json:"to"`
		Steps []commission.Step `json:"steps"`
	}
	rows := []row{}
	for i := range devices {
		d := &devices[i]
		if d.InJob != device.Taken {
			continue
		}
		plan := commission.Plan{Target: *d.Allotted}
		plan.Target.Name = j.Sheet.NameFor(d)
		var steps []commission.Step
		if manner := field.MannerOf(d); manner != commission.ByService {
			text := []commission.Step{commission.Step(manner)}
			rows = append(rows, row{d.Tag, addressText(d.Address()), fmt.Sprintf("%s/%d", d.Allotted.Address, d.Allotted.Prefix), text})
			continue
		}
		if d.Access == device.Fresh {
			steps = append(steps, commission.StepKey)
		}
		found := commission.Found{Settings: device.Settings{Name: d.Name}}
		if d.Settings != nil {
			found.Settings = *d.Settings
		}
		steps = append(steps, commission.Decide(plan, found)...)
		rows = append(rows, row{d.Tag, addressText(d.Address()), fmt.Sprintf("%s/%d", d.Allotted.Address, d.Allotted.Prefix), orEmpty(steps)})
	}
	if a.json {
		return a.emit(rows)
	}
	l := &listing{columns: []column{{"TAG", 0}, {"FROM", 0}, {"TO", 0}, {"WOULD WRITE", 0}}}
	for _, r := range rows {
		var words []string
		for _, s := range r.Steps {
			words = append(words, string(s))
		}
		text := strings.Join(words, ", ")
		if text == "" {
			text = "nothing, as far as the register knows"
		}
		l.add(plain(r.Tag), plain(r.From), plain(r.To), plain(text))
	}
	a.write(a.Out, l)
	fmt.Fprintln(a.Out, "\nNothing was sent. Clocks are read when it is carried out, and set where they are more than a second off.")
	return nil
}
