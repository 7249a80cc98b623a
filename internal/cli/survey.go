package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/text"
	"janustat/internal/field"
	"janustat/internal/job"
	"janustat/internal/oui"
	"janustat/internal/reach"
	"janustat/internal/speak/arp"
	"janustat/internal/wire"
)

// surveyOptions are how a survey is done.
type surveyOptions struct {
	listen  time.Duration
	stay    time.Duration // how long a watch stays; 0 until it is stopped
	wide    []netip.Prefix
	expect  expected
	watch   bool
	from    string // a capture to replay
	quietly bool   // tells nothing while it runs
	secrets func() // waits until the passwords of the job are known; may be nil
}

func (a *App) surveyCommand() *cobra.Command {
	o := surveyOptions{listen: field.DefaultListen}
	var wide, expect []string
	var sheetExpects bool
	c := &cobra.Command{
		Use:   "survey",
		Short: "Find the devices on the LAN and update the register",
		Long: `Finds devices by sweeping with ARP probes, by listening, and by discovery from a
visitor address in every subnet where something answers, over IPv4 and IPv6; then
reads what each device tells without a password. Nothing is written to any device.

Sweeps stay inside the site's and the laptop's private subnets and the common
factory subnets; --wide names more. With --expect it ends as soon as so many devices
are there, or says what is missing. With --watch it stays, and tells who arrives,
goes and restarts.`,
		Example: "  janustat survey --wire eth0\n  janustat survey --wide 192.168.0.0/16\n  janustat survey --expect 24\n" +
			"  janustat survey --expect camera=22,recorder=1 --for 2m\n  janustat survey --watch\n  janustat survey --from site.pcapng",
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if o.listen < time.Second || o.listen > time.Hour {
				return usagef("--for %s: use 1s to 1h", o.listen)
			}
			var err error
			if o.wide, err = parseWide(wide); err != nil {
				return err
			}
			if o.expect, err = parseExpected(expect); err != nil {
				return err
			}
			switch asked := c.Flags().Changed("for"); {
			case o.watch && asked: // all of it together
				o.stay, o.listen = o.listen, min(o.listen, field.DefaultListen)
			case (len(expect) > 0 || sheetExpects) && !asked && !o.watch:
				o.listen = expectListen
			}
			if o.from != "" && (o.watch || len(o.wide) > 0 || a.capture != "") {
				return usagef("--from replays a capture: it goes with neither --watch, --wide nor --capture")
			}
			return a.withJob(c.Context(), "survey", func(j *job.Job, known []device.Device) error {
				if sheetExpects {
					if o.expect = expectedOf(j.Sheet.Expected); o.expect.none() {
						return usagef("the job sheet expects nothing: fill in `expected`, or give --expect a count")
					}
				}
				return a.survey(c.Context(), j, known, o)
			})
		},
	}
	f := c.Flags()
	f.DurationVar(&o.listen, "for", o.listen, "listen at least this long; with --expect, at most (one minute if left out); with --watch, stay so long")
	f.StringSliceVar(&wide, "wide", nil, "sweep this `CIDR` too, at the job sheet's rate; may be given several times")
	f.StringSliceVar(&expect, "expect", nil, "end once this `COUNT` is met: 24, or camera=22,recorder=1")
	f.BoolVar(&sheetExpects, "expect-sheet", false, "the same, with the counts in the job sheet under expected")
	f.BoolVar(&o.watch, "watch", false, "stay, and tell who arrives, goes and restarts; ctrl-C ends")
	f.StringVar(&o.from, "from", "", "replay this pcapng `FILE` instead of a network")
	return c
}

// expectListen is how long a survey waits for what is expected.
const expectListen = time.Minute

// maxWide is the widest range that may be swept: two hours at the default rate.
const maxWide = 8

func parseWide(list []string) ([]netip.Prefix, error) {
	var out []netip.Prefix
	for _, s := range list {
		p, err := netip.ParsePrefix(s)
		if err != nil || !p.Addr().Is4() || p.Bits() < maxWide || p.Bits() > 30 {
			return nil, usagef("--wide %s: use an IPv4 range such as 192.168.0.0/16, from /%d to /30", s, maxWide)
		}
		out = append(out, p.Masked())
	}
	return out, nil
}

// surveyJSON is the --json document of survey.
type surveyJSON struct {
	Devices []deviceJSON    `json:"devices"`
	Changes []device.Change `json:"changes"`
	Offers  []job.Offer     `json:"dhcp_offers"`
	VLANs   map[uint16]int  `json:"vlan_tagged_frames,omitempty"`
	Missing []string        `json:"missing,omitempty"`
	// NotThere are devices of the job that did not answer, by tag.
	NotThere []string      `json:"not_there,omitempty"`
	Floods   []field.Flood `json:"floods,omitempty"`   // hosts that claim more than any honest one
	NotKept  int           `json:"not_kept,omitempty"` // hosts beyond what is kept
	Differs  []string      `json:"differs,omitempty"`
	TookMS   int64         `json:"took_ms"`
}

// surveyed is what a survey gave, before it is kept.
type surveyed struct {
	found   *field.Findings
	devices []device.Device // the whole register, carried on
	changes []device.Change
	record  job.SurveyRecord
	differs []string // what sources say of the site network that is not taken over
	crowd   int      // hosts that were heard and are not kept
}

func (a *App) survey(ctx context.Context, j *job.Job, known []device.Device, o surveyOptions) error {
	o.secrets = a.knowSecrets(ctx)
	if o.from != "" {
		s, err := a.replay(ctx, j, known, o.from)
		if err != nil {
			return err
		}
		return a.finishSurvey(ctx, j, s, o)
	}
	begun := time.Now()
	return a.withNet(ctx, shortPatience, func(ctx context.Context, n *reach.Net) error {
		s, err := a.look(ctx, j, known, n, o)
		if err != nil {
			return err
		}
		// What was found is kept, though it was stopped.
		if err := a.finishSurvey(context.WithoutCancel(ctx), j, s, o); err != nil && !o.watch {
			return err
		}
		if s.found.Stopped {
			if err := context.Cause(ctx); !errors.Is(err, context.Canceled) {
				return err
			}
			return fmt.Errorf("%w: what was found so far is kept", errInterrupted)
		}
		if o.watch && !s.found.Enough {
			if o.stay > 0 {
				var cancel context.CancelFunc
				ctx, cancel = context.WithTimeout(ctx, max(o.stay-time.Since(begun), time.Millisecond))
				defer cancel()
			}
			return a.watch(ctx, j, s, n, o)
		}
		return nil
	})
}

// look surveys, and carries what was found into what is known.
func (a *App) look(ctx context.Context, j *job.Job, known []device.Device, n *reach.Net, o surveyOptions) (*surveyed, error) {
	begun := time.Now()
	s, err := a.newSurvey(ctx, j, known, n, o)
	if err != nil {
		return nil, err
	}
	if !o.quietly {
		a.say("listening on %s …", n.Facts().Name)
		for _, p := range s.Subnets.Wide() {
			a.say("note: %s is too wide to sweep unasked (--wide %s does); devices there are found by discovery", p, p)
		}
		if left := s.WideTime(); left > 0 {
			a.say("wide sweep of %d addresses, at %d a second, twice: about %s", s.WideCount(), s.Rate, left.Round(time.Second))
		}
	}
	s.Enough = o.expect.met(j, known)
	found, err := s.Run(ctx)
	if err != nil {
		return nil, err
	}
	// With the cable out in between, what did not answer says nothing: it is looked again.
	for n.LinkDownSince(begun) && ctx.Err() == nil {
		if err := n.AwaitLink(ctx, true); err != nil {
			return nil, err
		}
		round := time.Now()
		again, err := s.Run(ctx)
		if err != nil {
			return nil, err
		}
		again.Sightings = append(found.Sightings, again.Sightings...)
		if found = again; !n.LinkDownSince(round) {
			break
		}
	}
	if o.secrets != nil {
		o.secrets()
	}
	return a.carry(context.WithoutCancel(ctx), j, known, found, job.SurveyRecord{At: begun, Took: time.Since(begun), Laptop: n.Facts().Addresses, Offers: found.Offers})
}

func (a *App) newSurvey(ctx context.Context, j *job.Job, known []device.Device, n *reach.Net, o surveyOptions) (field.Survey, error) {
	log, err := a.logger()
	if err != nil {
		return field.Survey{}, err
	}
	subnets, avoid, err := a.lay(ctx, j, known, n)
	if err != nil {
		return field.Survey{}, err
	}
	tell := func(text string) { a.say("  %s", text) }
	if o.quietly {
		tell = func(string) {}
	}
	return field.Survey{
		Net: n, Subnets: subnets, Listen: o.listen, Rate: cmp.Or(j.Sheet.Survey.Rate, arp.DefaultRate),
		Wide: o.wide, Avoid: avoid, Log: log, Tell: tell,
	}, nil
}

func (a *App) replay(ctx context.Context, j *job.Job, known []device.Device, path string) (*surveyed, error) {
	log, err := a.logger()
	if err != nil {
		return nil, err
	}
	begun := time.Now()
	s := field.Survey{Subnets: field.NewSubnets(nil, netip.Prefix{}, nil, j.Sheet.Network.NotOurs), Log: log, Tell: func(text string) { a.say("  %s", text) }}
	found, facts, err := s.Replay(ctx, path)
	if errors.Is(err, wire.ErrCapture) || errors.Is(err, os.ErrNotExist) {
		return nil, usageError{err}
	}
	if err != nil {
		return nil, err
	}
	return a.carry(ctx, j, known, found, job.SurveyRecord{At: begun, Took: time.Since(begun), Laptop: facts.Addresses, Offers: found.Offers})
}

// carry carries findings into the register's devices.
func (a *App) carry(ctx context.Context, j *job.Job, known []device.Device, found *field.Findings, record job.SurveyRecord) (*surveyed, error) {
	last, err := j.Register.LastSurvey(ctx)
	if err != nil {
		return nil, err
	}
	for i := range found.Sightings {
		text.Each(&found.Sightings[i].Facts, a.veil.Text)
	}
	s := &surveyed{found: found, record: record}
	met := withKinds(j, device.Merge(found.Sightings))
	met, s.crowd = withoutCrowd(met, known)
	s.devices, s.changes = device.Reconcile(known, met, last.At)
	s.record.Found, s.record.Met = len(s.devices), len(met)
	return s, nil
}

// maxBystanders is how many hosts that say nothing of themselves are kept beside the
// devices. A building has hundreds; what pretends to be thousands is one stranger.
const maxBystanders = 1000

// withoutCrowd leaves out the hosts beyond that, of which nothing is known but that they
// were heard; the first by their MAC stay. It tells how many it left out.
func withoutCrowd(met, known []device.Device) (kept []device.Device, crowd int) {
	ours := map[device.MAC]bool{}
	for i := range known {
		ours[known[i].MAC] = true
	}
	n := 0
	for i := range met {
		d := &met[i]
		said := d.Kind != device.Other || d.Access != device.Unmanaged || ours[d.MAC]
		if !said {
			if n++; n > maxBystanders {
				crowd++
				continue
			}
		}
		kept = append(kept, *d)
	}
	return kept, crowd
}

// keep writes a survey to the register.
func (a *App) keep(ctx context.Context, j *job.Job, s *surveyed) error {
	if err := j.Register.AddSurvey(ctx, s.record); err != nil {
		return err
	}
	// Where sources disagree, what is known of the site stays; allot tells.
	if _, differs, err := field.KeepGround(ctx, j, s.devices, false); err == nil {
		s.differs = differs
	}
	field.Judge(j.Sheet, s.devices, field.SiteSubnet(ctx, j, s.devices))
	return j.Register.Save(ctx, s.devices)
}

// seen gives the devices that the survey met.
func (s *surveyed) seen() []device.Device {
	macs := map[device.MAC]bool{}
	for _, x := range s.found.Sightings {
		macs[x.MAC] = true
	}
	out := slices.DeleteFunc(slices.Clone(s.devices), func(d device.Device) bool { return !macs[d.MAC] })
	sortForPeople(out)
	return out
}

func (a *App) finishSurvey(ctx context.Context, j *job.Job, s *surveyed, o surveyOptions) error {
	if err := a.keep(ctx, j, s); err != nil {
		return err
	}
	devices := s.seen()
	missing := o.expect.missing(devices)
	gone := notThere(s.devices, devices)
	if a.json {
		err := a.emit(surveyJSON{
			Devices: allJSON(devices), Changes: orEmpty(s.changes), Offers: orEmpty(s.found.Offers), VLANs: s.found.VLANs, Missing: missing,
			NotThere: gone, Floods: s.found.Floods, NotKept: s.crowd, Differs: s.differs, TookMS: s.record.Took.Milliseconds(),
		})
		if err != nil {
			return err
		}
	} else {
		a.printSurvey(devices, s)
		for _, text := range passedBy(devices, field.SiteSubnet(ctx, j, s.devices)) {
			fmt.Fprintln(a.Out, a.wrap(a.Out, 2, text))
		}
		a.printExpected(o.expect, devices, missing, gone)
	}
	if len(missing) > 0 {
		return needsError{}
	}
	return nil
}

// notThere names the devices of the job that a survey did not meet.
func notThere(all, met []device.Device) (out []string) {
	seen := map[device.MAC]bool{}
	for i := range met {
		seen[met[i].MAC] = true
	}
	for _, d := range tagged(all) {
		if !seen[d.MAC] {
			out = append(out, d.Tag)
		}
	}
	return out
}

// withKinds makes bystanders of devices that nothing more is known of, and says
// whose MACs they have.
func withKinds(j *job.Job, devices []device.Device) []device.Device {
	for i := range devices {
		devices[i].Registry = cmp.Or(j.Sheet.MakerOf(devices[i].MAC), oui.Holder(devices[i].MAC))
		if devices[i].Kind == "" {
			devices[i].Kind = device.Other
		}
		devices[i].Apply(device.Silent{})
	}
	return devices
}

// lay gives the subnets to work in and the addresses that visitors must not borrow.
func (a *App) lay(ctx context.Context, j *job.Job, devices []device.Device, n *reach.Net) (*field.Subnets, func(netip.Addr) bool, error) {
	site := field.SiteSubnet(ctx, j, devices)
	reserved, err := field.Reserved(ctx, j, devices)
	if err != nil {
		return nil, nil, err
	}
	var blocks []ground.Block
	if site.IsValid() {
		blocks = j.Sheet.BlocksIn(site)
	}
	given := map[netip.Addr]bool{}
	for i := range devices {
		if devices[i].Allotted != nil {
			given[devices[i].Allotted.Address] = true
		}
		for _, x := range devices[i].Addresses {
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
	return field.NewSubnets(n.Facts().Addresses, site, j.Sheet.Survey.FactorySubnets, j.Sheet.Network.NotOurs), avoid, nil
}

// sortForPeople puts tagged devices first, then by kind and address.
func sortForPeople(devices []device.Device) {
	slices.SortStableFunc(devices, func(x, y device.Device) int {
		if (x.Tag == "") != (y.Tag == "") {
			if x.Tag == "" {
				return 1
			}
			return -1
		}
		if c := x.Kind.Order() - y.Kind.Order(); c != 0 {
			return c
		}
		if c := text.Natural(x.Tag, y.Tag); c != 0 {
			return c
		}
		if c := x.Address().Compare(y.Address()); c != 0 {
			return c
		}
		return slices.Compare(x.MAC[:], y.MAC[:])
	})
}

func (a *App) printSurvey(devices []device.Device, s *surveyed) {
	w, found := a.Out, s.found
	if len(devices) == 0 {
		fmt.Fprintln(w, "Nothing answered. Check the cable and the adapter, or listen longer: janustat survey --for 30s")
		return
	}
	a.write(w, deviceListing(devices))
	fmt.Fprintf(w, "\n%s, in %.1f s\n", countByKind(devices), s.record.Took.Seconds())
	a.printLAN(devices, found)
	a.printFloods(s)
	subnets := make([]netip.Prefix, 0, len(found.Unvisited))
	for p := range found.Unvisited {
		subnets = append(subnets, p)
	}
	slices.SortFunc(subnets, func(x, y netip.Prefix) int { return x.Addr().Compare(y.Addr()) })
	for _, p := range subnets[:min(len(subnets), manyChanges)] {
		fmt.Fprintf(w, "%s could not be visited: %s\n", p, found.Unvisited[p])
	}
	if n := len(subnets) - manyChanges; n > 0 {
		fmt.Fprintf(w, "%s more could not be visited\n", plural(n, "subnet"))
	}
	for _, text := range s.differs {
		fmt.Fprintln(w, a.wrap(w, 2, "note: "+text))
	}
	a.printChanges(s.changes)
	open := 0
	for i := range devices {
		if devices[i].Configurable() && devices[i].InJob == device.Undecided && !devices[i].NotOurs {
			open++
		}
	}
	if open > 0 {
		fmt.Fprintf(w, "Next: janustat take all   (%s ready to be taken)\n", plural(open, "device"))
	}
}

// printFloods names who says more than any honest host.
func (a *App) printFloods(s *surveyed) {
	w := a.Out
	for _, f := range s.found.Floods {
		fmt.Fprintf(w, "%s  %s\n", a.paint(w, badStyle, "flood "), a.wrap(w, 8, floodText(f)))
	}
	if s.crowd > 0 {
		fmt.Fprintf(w, "%s  %s\n", a.paint(w, badStyle, "crowd "), a.wrap(w, 8, fmt.Sprintf("%d more hosts were heard that say nothing of themselves; they are not listed or kept", s.crowd)))
	}
}

func floodText(f field.Flood) string {
	if f.Address.IsValid() {
		return fmt.Sprintf("%s %s: one stranger with many names. The devices there are told apart by their MACs all the same.", f.Who(), f.What)
	}
	return fmt.Sprintf("%s %s: more than any honest host, and not believed any further. Find it by its MAC in the switch's table, and unplug it.", f.Who(), f.What)
}

// printLAN says in plain words what is wrong with the LAN, or worth knowing.
func (a *App) printLAN(devices []device.Device, found *field.Findings) {
	w := a.Out
	for _, o := range found.Offers {
		text := fmt.Sprintf("DHCP server %s (%s) offers %s, gateway %s", o.Server, o.ServerMAC, o.Subnet, addressText(o.Gateway))
		if len(o.DNS) > 0 {
			text += ", DNS " + ground.List(o.DNS)
		}
		if len(o.NTP) > 0 {
			text += ", NTP " + ground.List(o.NTP)
		}
		if o.LeaseS > 0 {
			text += ", for " + roundText(time.Duration(o.LeaseS)*time.Second)
		}
		fmt.Fprintln(w, text)
	}
	if len(found.Offers) > 1 {
		fmt.Fprintln(w, a.paint(w, badStyle, fmt.Sprintf("%d DHCP servers answer", len(found.Offers)))+": devices get an address from either by chance. Find out which one belongs here and unplug the other.")
	}
	counts := map[device.Condition]int{}
	groups, bystanders := map[netip.Addr]int{}, map[netip.Addr]int{}
	for i := range devices {
		if d := &devices[i]; d.Kind != device.Other || d.Condition == device.Bare {
			counts[d.Condition]++
		}
		if len(devices[i].Clashing) > 0 {
			if groups[devices[i].Address()]++; devices[i].Kind == device.Other {
				bystanders[devices[i].Address()]++
			}
		}
	}
	clashing := make([]netip.Addr, 0, len(groups))
	for x := range groups {
		clashing = append(clashing, x)
	}
	slices.SortFunc(clashing, netip.Addr.Compare)
	for _, x := range clashing {
		text := fmt.Sprintf("%s answers for %d devices: they can all stay plugged in; commission moves each by its MAC", x, groups[x])
		if n := bystanders[x]; n > 0 {
			text = fmt.Sprintf("%s answers for %s and %s: the device is moved by its MAC, the bystander is left alone", x, plural(groups[x]-n, "device"), plural(n, "bystander"))
		}
		if bystanders[x] == groups[x] {
			text = fmt.Sprintf("%s answers for %d bystanders: none of them is touched; whose are they?", x, groups[x])
		}
		fmt.Fprintf(w, "%s  %s\n", a.paint(w, badStyle, "clash "), a.wrap(w, 8, text))
	}
	for _, c := range []struct {
		condition device.Condition
		words     string
	}{
		{device.Stray, "outside the site subnet: commission reaches them where they are"},
		{device.Adrift, "link-local only, having found no DHCP server: commission reaches them where they are"},
		{device.Bare, "without any address: take them by MAC with --kind, allot, then `janustat lease`"},
	} {
		if n := counts[c.condition]; n > 0 {
			fmt.Fprintf(w, "%s  %s\n", a.paint(w, workStyle, fmt.Sprintf("%-6s", c.condition)), a.wrap(w, 8, plural(n, "device")+" "+c.words))
		}
	}
	for id, n := range found.VLANs {
		fmt.Fprintf(w, "%s  %s\n", a.paint(w, workStyle, "tagged"), a.wrap(w, 8, fmt.Sprintf("frames of VLAN %d (%d so far): this may be a trunk port. What is in that VLAN is not reached from here; ask for an access port.", id, n)))
	}
}

// roundText writes a length of time without its empty parts.
func roundText(d time.Duration) string {
	text := d.String()
	for _, empty := range []string{"m0s", "h0m"} {
		if strings.HasSuffix(text, empty) {
			text = text[:len(text)-len(empty)+1]
		}
	}
	return text
}

// manyChanges is how many changes are printed before they are only counted:
// on a first survey everything is new and stands in the list above already.
const manyChanges = 12

func (a *App) printChanges(changes []device.Change) {
	counts := map[string]int{}
	for _, c := range changes {
		counts[c.What]++
	}
	if len(changes) == 0 {
		fmt.Fprintln(a.Out, "Nothing new, gone or changed since the last survey.")
		return
	}
	fmt.Fprintf(a.Out, "Since the last survey: %d new, %d gone, %d back, %d changed\n", counts["new"], counts["gone"], counts["back"], counts["changed"])
	for _, c := range changes {
		if c.What == "new" && counts["new"] > manyChanges {
			continue
		}
		if c.What == "alarm" {
			fmt.Fprintf(a.Out, "  %s    %s  %s\n", a.paint(a.Out, badStyle, "ALARM"), c.Label, a.wrap(a.Out, 4, c.Text+": nothing is offered to it. If it was reset or replaced on purpose: janustat restore "+c.Label))
			continue
		}
		fmt.Fprintf(a.Out, "  %-8s %s  %s\n", c.What, c.Label, c.Text)
	}
}

func orEmpty[T any](s []T) []T {
	if s == nil {
		return []T{}
	}
	return s
}
