package work

import (
	"cmp"
	"context"
	"errors"
	"net/netip"
	"os"
	"slices"
	"time"

	"janustat/core/device"
	"janustat/core/text"
	"janustat/internal/job"
	"janustat/internal/oui"
	"janustat/internal/reach"
	"janustat/internal/speak/arp"
	"janustat/internal/store"
	"janustat/internal/survey"
	"janustat/internal/tongue/standard"
	"janustat/internal/wire"
)

// Surveyed is what a survey gave, before it is kept.
type Surveyed struct {
	Found   *survey.Findings
	Devices []device.Device // the whole register, carried on
	Changes []device.Change
	Record  store.SurveyRecord
	Differs []string // what sources say of the site network that is not taken over
	Crowd   int      // hosts that were heard and are not kept
	First   bool     // nothing was surveyed before
}

// SurveyOrder is how a survey is done.
type SurveyOrder struct {
	Listen time.Duration
	Wide   []netip.Prefix // ranges to sweep whole
	Expect Expected
	Silent bool          // tells nothing while it runs
	Brief  bool          // does not go on through other ranges for what is missing
	Within time.Duration // for which it may do so; 0 is as long as it takes
	Known  func()        // waits until the passwords of the job are known, to be blanked; may be nil
}

// Look surveys, and carries what was found into what is known.
func (d *Desk) Look(ctx context.Context, n *reach.Net, o SurveyOrder) (*Surveyed, error) {
	begun := time.Now()
	s, err := d.NewSurvey(ctx, n, o)
	if err != nil {
		return nil, err
	}
	if !o.Silent {
		d.Say("listening on %s …", n.Facts().Name)
		for _, p := range s.Subnets.Wide() {
			d.Say("note: %s is too wide to sweep unasked (--wide %s does); devices there are found by discovery", p, p)
		}
		if left := s.WideTime(); left > 0 {
			d.Say("wide sweep of %d addresses, at %d a second, twice: about %s", s.WideCount(), s.Rate, left.Round(time.Second))
		}
	}
	s.Enough = o.Expect.Met(d.Job, d.Devices)
	if !o.Silent && !o.Brief {
		s.Further, s.Within = survey.OtherRanges, o.Within
		s.Lacks = func(f *survey.Findings) bool {
			if s.Enough != nil {
				return !s.Enough(f)
			}
			return len(f.Sightings) == 0
		}
	}
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
	if o.Known != nil {
		o.Known()
	}
	return d.Carry(context.WithoutCancel(ctx), found, store.SurveyRecord{At: begun, Took: time.Since(begun), Laptop: n.Facts().Addresses, Offers: found.Offers, Unasked: found.Unasked})
}

// NewSurvey makes ready to survey.
func (d *Desk) NewSurvey(ctx context.Context, n *reach.Net, o SurveyOrder) (survey.Survey, error) {
	subnets, avoid, err := d.Lay(ctx, n)
	if err != nil {
		return survey.Survey{}, err
	}
	tell := func(text string) { d.Say("  %s", text) }
	if o.Silent {
		tell = func(string) {}
	}
	known, met := map[device.MAC]bool{}, map[device.MAC]standard.Met{}
	for i := range d.Devices {
		if x := &d.Devices[i]; x.InJob == device.Taken || !x.OpenedAt.IsZero() {
			known[x.MAC] = true
			if at := (standard.Met{HTTP: x.ServicePort(), HTTPS: x.SecurePort()}); at != (standard.Met{}) {
				met[x.MAC] = at
			}
		}
	}
	root, err := d.Root()
	if err != nil {
		return survey.Survey{}, err
	}
	return survey.Survey{
		Root: root, Net: n, Subnets: subnets, Listen: o.Listen, Rate: cmp.Or(d.Job.Sheet.Survey.Rate, arp.DefaultRate),
		Wide: o.Wide, Avoid: avoid, Log: d.Log, Tell: tell, Known: known, Met: met,
	}, nil
}

// Replay surveys what a capture recorded.
func (d *Desk) Replay(ctx context.Context, path string) (*Surveyed, error) {
	begun := time.Now()
	s := survey.Survey{Subnets: survey.NewSubnets(nil, netip.Prefix{}, nil, d.Job.Sheet.Network.NotOurs), Log: d.Log, Tell: func(text string) { d.Say("  %s", text) }}
	found, facts, err := s.Replay(ctx, path)
	if errors.Is(err, wire.ErrCapture) || errors.Is(err, os.ErrNotExist) {
		return nil, &Misuse{err}
	}
	if err != nil {
		return nil, err
	}
	return d.Carry(ctx, found, store.SurveyRecord{At: begun, Took: time.Since(begun), Laptop: facts.Addresses, Offers: found.Offers, Unasked: found.Unasked})
}

// Carry carries findings into what is known of the devices.
func (d *Desk) Carry(ctx context.Context, found *survey.Findings, record store.SurveyRecord) (*Surveyed, error) {
	last, err := d.Job.Register.LastSurvey(ctx)
	if err != nil {
		return nil, err
	}
	for i := range found.Sightings {
		text.Each(&found.Sightings[i].Facts, d.Veil.Text)
	}
	s := &Surveyed{Found: found, Record: record, First: last.At.IsZero()}
	met := WithKinds(d.Job, device.Merge(found.Sightings))
	met, s.Crowd = withoutCrowd(met, d.Devices)
	s.Devices, s.Changes = device.Reconcile(d.Devices, met, last.At)
	s.Record.Found, s.Record.Met = len(s.Devices), len(met)
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

// Keep writes a survey to the register, and lays what is known anew.
func (d *Desk) Keep(ctx context.Context, s *Surveyed) error {
	if err := d.Job.Register.AddSurvey(ctx, s.Record); err != nil {
		return err
	}
	// Where sources disagree, what is known of the site stays; allotting tells.
	if _, differs, err := KeepGround(ctx, d.Job, s.Devices, false); err == nil {
		s.Differs = differs
	}
	d.Devices = s.Devices
	return d.Save(ctx, "survey")
}

// Met gives the devices that the survey met.
func (s *Surveyed) Met() []device.Device {
	macs := map[device.MAC]bool{}
	for _, x := range s.Found.Sightings {
		macs[x.MAC] = true
	}
	out := slices.DeleteFunc(slices.Clone(s.Devices), func(d device.Device) bool { return !macs[d.MAC] })
	device.Sort(out)
	return out
}

// NotThere names the devices of the job that a survey did not meet.
func NotThere(all, met []device.Device) (out []string) {
	seen := map[device.MAC]bool{}
	for i := range met {
		seen[met[i].MAC] = true
	}
	for _, d := range device.OfJob(all) {
		if !seen[d.MAC] {
			out = append(out, d.Tag)
		}
	}
	return out
}

// WithKinds makes bystanders of devices that nothing more is known of, and says
// whose MACs they have.
func WithKinds(j *job.Job, devices []device.Device) []device.Device {
	for i := range devices {
		devices[i].Registry = cmp.Or(j.Sheet.MakerOf(devices[i].MAC), oui.Holder(devices[i].MAC))
		if devices[i].Kind == "" {
			devices[i].Kind = device.Other
		}
		devices[i].Apply(device.Silent{})
	}
	return devices
}

// Watch stays after a survey and tells what happens, until ctx ends or what is expected
// is there; missing is nil then, and else what is not there, which may be nothing. tell is
// called while the desk is locked.
func (d *Desk) Watch(ctx context.Context, n *reach.Net, s *Surveyed, o SurveyOrder, tell func(survey.Event) error) (missing []string, err error) {
	o.Silent = true
	begin, err := d.NewSurvey(ctx, n, o)
	if err != nil {
		return nil, err
	}
	begin.Enough = o.Expect.Met(d.Job, d.Devices)
	begun := time.Now()
	var told error
	found, err := survey.Watch{Survey: begin, Known: s.Met(), Event: func(e survey.Event) {
		d.Locked(func() {
			e.Device = WithKinds(d.Job, []device.Device{e.Device})[0]
			if known := device.ByMAC(d.Devices, e.Device.MAC); known != nil {
				e.Device.Tag, e.Device.Name = known.Tag, known.Name
			}
			told = cmp.Or(told, tell(e))
		})
	}}.Run(ctx)
	if err = cmp.Or(err, told); err != nil {
		return nil, err
	}
	// Kept even when it was stopped: what was seen was seen.
	ctx = context.WithoutCancel(ctx)
	again, err := d.Carry(ctx, found, store.SurveyRecord{At: begun, Took: time.Since(begun), Laptop: n.Facts().Addresses, Offers: s.Found.Offers, Unasked: s.Found.Unasked})
	if err != nil {
		return nil, err
	}
	if err := d.Keep(ctx, again); err != nil {
		return nil, err
	}
	if found.Enough {
		return nil, nil
	}
	return append([]string{}, o.Expect.Missing(again.Met())...), nil
}
