package cli

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/device"
	"janustat/core/lan"
	"janustat/internal/reach"
	"janustat/internal/survey"
	"janustat/internal/work"
)

// surveyOptions are how a survey is done.
type surveyOptions struct {
	work.SurveyOrder
	stay  time.Duration // how long a watch stays; 0 until it is stopped
	watch bool
	timed bool   // by --for
	from  string // a capture to replay
}

func (a *App) surveyCommand() *cobra.Command {
	o := surveyOptions{SurveyOrder: work.SurveyOrder{Listen: survey.DefaultListen}}
	var wide, expect []string
	var sheetExpects bool
	c := &cobra.Command{
		Use:   "survey",
		Short: "Find the devices on the LAN and update the register",
		Long: `Finds every device on the LAN, over IPv4 and IPv6, and reads what each one reports without
a password. It listens, sends ARP probes and discovery messages, and uses a temporary
address of its own in every subnet where something answers. Writes to no device.

Probes stay inside the site's and the laptop's private subnets, the common factory subnets,
and the 254 addresses around whatever else answers; --wide names more. If something expected
is missing, or nothing answers at all, the survey continues through the private ranges that
are used most, and says so.
With --expect it ends when that many devices are there, or lists what is missing.
With --watch it keeps running and shows which devices arrive, disappear and restart.`,
		Example: "  janustat survey --wire eth0\n  janustat survey --wide 192.168.0.0/16\n  janustat survey --expect 24\n" +
			"  janustat survey --expect camera=22,recorder=1 --for 2m\n  janustat survey --watch\n  janustat survey --from site.pcapng",
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if o.Listen < time.Second || o.Listen > time.Hour {
				return usagef("--for %s: use 1s to 1h", o.Listen)
			}
			var err error
			if o.Wide, err = parseWide(wide); err != nil {
				return err
			}
			if o.Expect, err = work.ParseExpected(expect); err != nil {
				return err
			}
			switch o.timed = c.Flags().Changed("for"); {
			case o.watch && o.timed: // all of it together
				o.stay, o.Listen = o.Listen, min(o.Listen, survey.DefaultListen)
			case (len(expect) > 0 || sheetExpects) && !o.timed && !o.watch:
				o.Listen = expectListen
			}
			if o.from != "" && (o.watch || len(o.Wide) > 0 || a.capture != "") {
				return usagef("--from replays a capture: it goes with neither --watch, --wide nor --capture")
			}
			return a.withJob(c.Context(), "survey", func(d *work.Desk) error {
				if sheetExpects {
					if o.Expect = work.ExpectedOf(d.Job.Sheet.Expected); o.Expect.None() {
						return usagef("the job sheet expects nothing: fill in `expected`, or give --expect a count")
					}
				}
				return a.survey(c.Context(), d, o)
			})
		},
	}
	f := c.Flags()
	f.DurationVar(&o.Listen, "for", o.Listen, "listen at least this long; with --expect, at most (if left out, a minute, and as long as further ranges take); with --watch, stay so long")
	f.StringSliceVar(&wide, "wide", nil, "sweep this `CIDR` too, at the job sheet's rate; may be given several times")
	f.StringSliceVar(&expect, "expect", nil, "end once this `COUNT` is met: 24, or camera=22,recorder=1")
	f.BoolVar(&sheetExpects, "expect-sheet", false, "the same, with the counts in the job sheet under expected")
	f.BoolVar(&o.watch, "watch", false, "keep running and show which devices arrive, disappear and restart; Ctrl-C stops it")
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
	Offers  []lan.Offer     `json:"dhcp_offers"`
	VLANs   map[uint16]int  `json:"vlan_tagged_frames,omitempty"`
	Missing []string        `json:"missing,omitempty"`
	// NotThere are devices of the job that did not answer, by tag.
	NotThere []string        `json:"not_there,omitempty"`
	Floods   []survey.Flood  `json:"floods,omitempty"`   // hosts that claim more than any honest one
	Unread   []survey.Unread `json:"unread,omitempty"`   // devices that answered discovery and not their service
	NotKept  int             `json:"not_kept,omitempty"` // hosts beyond what is kept
	// Unasked are subnets in which addresses were not asked for.
	Unasked []lan.Unasked `json:"unasked,omitempty"`
	// Broadcasts are the questions to everyone, a second, that the wire passes; left out where it has shown no limit.
	Broadcasts float64  `json:"broadcasts_per_s,omitempty"`
	Unshown    bool     `json:"unshown,omitempty"` // nobody answered any question to everyone: nothing shows that these arrived
	CutOff     bool     `json:"cut_off,omitempty"` // it took too long, and was ended
	Differs    []string `json:"differs,omitempty"`
	TookMS     int64    `json:"took_ms"`
}

func (a *App) survey(ctx context.Context, d *work.Desk, o surveyOptions) error {
	o.Known = a.knowSecrets(ctx)
	if o.from != "" {
		s, err := d.Replay(ctx, o.from)
		if err != nil {
			return err
		}
		return a.finishSurvey(ctx, d, s, o)
	}
	begun := time.Now()
	return a.withNet(ctx, d, shortPatience, func(ctx context.Context, n *reach.Net) error {
		if o.timed { // as long as the person has said, and no longer
			o.Within = max(o.Listen, o.stay)
		}
		o.Brief = o.watch || len(o.Wide) > 0 // who watches sees it come; who names ranges knows them
		s, err := d.Look(ctx, n, o.SurveyOrder)
		if err != nil {
			return err
		}
		// What was found is kept, though it was stopped.
		if err := a.finishSurvey(context.WithoutCancel(ctx), d, s, o); err != nil && !o.watch {
			return err
		}
		if s.Found.Stopped {
			if err := context.Cause(ctx); !errors.Is(err, context.Canceled) {
				return err
			}
			return fmt.Errorf("%w: what was found so far is kept", errInterrupted)
		}
		if o.watch && !s.Found.Enough {
			if o.stay > 0 {
				var cancel context.CancelFunc
				ctx, cancel = context.WithTimeout(ctx, max(o.stay-time.Since(begun), time.Millisecond))
				defer cancel()
			}
			return a.watch(ctx, d, s, n, o)
		}
		return nil
	})
}

func (a *App) finishSurvey(ctx context.Context, d *work.Desk, s *work.Surveyed, o surveyOptions) error {
	if err := d.Keep(ctx, s); err != nil {
		return err
	}
	devices := s.Met()
	missing := o.Expect.Missing(devices)
	gone := work.NotThere(s.Devices, devices)
	if a.json {
		err := a.emit(surveyJSON{
			Devices: allJSON(devices), Changes: orEmpty(s.Changes), Offers: orEmpty(s.Found.Offers), VLANs: s.Found.VLANs, Missing: missing,
			NotThere: gone, Floods: s.Found.Floods, Unread: s.Found.Unread, NotKept: s.Crowd, Unasked: s.Found.Unasked, Broadcasts: s.Found.Broadcast, CutOff: s.Found.CutOff, Unshown: s.Found.Unshown, Differs: s.Differs, TookMS: s.Record.Took.Milliseconds(),
		})
		if err != nil {
			return err
		}
	} else {
		if err := a.printSurvey(ctx, d.Job, devices, s); err != nil {
			return err
		}
		for _, text := range setApart(devices) {
			fmt.Fprintln(a.Out, a.wrap(a.Out, 2, text))
		}
		a.printExpected(o.Expect, devices, missing, gone)
	}
	if len(missing) > 0 || len(devices) == 0 || s.Found.CutOff || s.Found.Unshown {
		return needsError{}
	}
	return nil
}
