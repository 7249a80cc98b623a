package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/device"
	"janustat/core/text"
	"janustat/internal/field"
	"janustat/internal/job"
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
		Long: `Finds devices by asking all hosts to report their group memberships, by sweeping with
ARP probes, by listening, and by discovery from a visitor address in every subnet
where something answers, over IPv4 and IPv6; then reads what each device tells without
a password. Nothing is written to any device.

Sweeps stay inside the site's and the laptop's private subnets, the common factory
subnets, and the 254 addresses around whatever else answers; --wide names more.
With --expect it ends as soon as so many devices are there, or says what is missing.
With --watch it stays, and tells who arrives, goes and restarts.`,
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
