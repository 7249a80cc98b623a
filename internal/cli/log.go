package cli

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/lan"
	"janustat/core/proving"
	"janustat/core/text"
	"janustat/internal/store"
)

func (a *App) logCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "log DEVICE",
		Short:   "Show the story of one device in words",
		Long:    "Shows what happened to one device: when it was first seen, what was decided\nabout it, what was written to it and with what outcome, every password that it refused, every lease this laptop gave it,\nand every proving, in order.",
		Example: "  janustat log C01\n  janustat log C01 --json",
		Args:    oneDevice("log"),
		RunE: func(c *cobra.Command, args []string) error {
			j, devices, err := a.open(c.Context())
			if err != nil {
				return err
			}
			defer j.Close()
			d, err := device.Find(devices, args[0])
			if err != nil {
				return err
			}
			history, err := j.Register.History(c.Context(), d.ID)
			if err != nil {
				return err
			}
			proofs, err := j.Register.Proofs(c.Context(), d.ID)
			if err != nil {
				return err
			}
			leases, err := j.Register.Leases(c.Context())
			if err != nil {
				return err
			}
			tries, err := j.Register.Tries(c.Context(), d.MAC)
			if err != nil {
				return err
			}
			events, err := j.Register.Events(c.Context(), d.ID)
			if err != nil {
				return err
			}
			decided, err := decisions(events)
			if err != nil {
				return err
			}
			story := tellStory(d, history, proofs, leases, tries, decided)
			if a.json {
				return a.emit(orEmpty(story))
			}
			fmt.Fprintln(a.Out, a.paint(a.Out, headStyle, titleOf(d)))
			day := ""
			for _, s := range story {
				if today := s.At.Local().Format("Monday, 2 January 2006"); today != day {
					day = today
					fmt.Fprintln(a.Out, day)
				}
				style := &goodStyle
				if !s.OK {
					style = &badStyle
				}
				mark := a.paint(a.Out, *style, map[bool]string{true: " ", false: "!"}[s.OK])
				fmt.Fprintf(a.Out, "  %s %s %s\n", s.At.Local().Format("15:04:05"), mark, a.wrap(a.Out, 13, s.Text))
			}
			return nil
		},
	}
}

// titleOf names a device with what it is called, unless that is its tag.
func titleOf(d *device.Device) string {
	if d.Name == "" || d.Name == d.Label() {
		return d.Label()
	}
	return d.Label() + "  " + d.Name
}

// chapter is one thing in a device's story.
type chapter struct {
	At   time.Time `json:"at"`
	OK   bool      `json:"ok"`
	Text string    `json:"text"`
	By   string    `json:"by,omitempty"` // of a decision: on whose account, and on which machine
}

func tellStory(d *device.Device, history []store.Entry, proofs []store.Proof, leases []lan.Lease, tries []store.Try, decided []chapter) []chapter {
	what := text.Words(string(d.Kind), d.Make, whatText(d))
	story := []chapter{{At: d.FirstSeen, OK: true, Text: fmt.Sprintf("first seen: %s, MAC %s%s", what, d.MAC, foundText(d))}}
	story = append(story, decided...)
	for _, e := range history {
		story = append(story, chapter{At: e.Begun, OK: e.Outcome == "done", Text: stepText(e)})
	}
	for _, p := range proofs {
		story = append(story, chapter{At: p.At, OK: p.OK, Text: proofText(p)})
	}
	for _, l := range leases {
		if l.MAC == d.MAC {
			story = append(story, chapter{At: l.At, OK: true, Text: fmt.Sprintf("was leased %s by this laptop, until %s", l.Address, l.Until.Local().Format("15:04"))})
		}
	}
	for _, t := range tries {
		if text := tryText(t); text != "" {
			story = append(story, chapter{At: t.At, Text: text})
		}
	}
	if alarm := alarmText(d.Alarm); d.Alarm != "" && !slices.ContainsFunc(decided, func(c chapter) bool { return strings.HasPrefix(c.Text, alarm) }) {
		story = append(story, chapter{At: d.ChangedAt, Text: alarm}) // of a register from before there were events
	}
	slices.SortStableFunc(story, func(x, y chapter) int { return x.At.Compare(y.At) })
	return story
}

func alarmText(why string) string {
	return "identity changed, so no password is sent to it: it " + strings.TrimPrefix(why, "it ")
}

func foundText(d *device.Device) string {
	if d.AsFound == nil || !d.AsFound.Address.IsValid() {
		return ""
	}
	return ", set to " + settingsText(d.AsFound) + " when this job first opened it"
}

func stepText(e store.Entry) string {
	if e.Detail == commission.NotOpened {
		return fmt.Sprintf("was not opened by the password of its user %s", e.Intent)
	}
	text := commission.Told(commission.Step(e.Step), e.Intent)
	if e.InClear && e.Outcome != "refused" {
		text += " (password set without encryption)"
	}
	took := ""
	if d := e.Ended.Sub(e.Begun); !e.Ended.IsZero() && d >= time.Second {
		took = fmt.Sprintf(" (took %.0f s)", d.Seconds())
	}
	switch e.Outcome {
	case "done":
		if e.Step == string(commission.StepClock) && e.Detail != "" {
			text += ", " + e.Detail
		}
		return text + took
	case "refused":
		return text + ": the device refused: " + e.Detail
	case "unknown":
		return text + ": no reply came, so whether it was carried out was looked for afterwards"
	default:
		return text + ": cut short before the outcome was known; the next run looked for it"
	}
}

// tryText tells of a try that did not fit, or "". What it was is not told.
func tryText(t store.Try) string {
	whose := map[commission.Origin]string{
		commission.FromKeyring: "its password", commission.FromChange: "its next password", commission.FromEarlier: "a password of earlier work", commission.FromFactory: "a factory password",
	}[t.Origin]
	if t.User != "" {
		whose += " for " + t.User
	}
	switch t.Outcome {
	case store.TryRefused:
		return "refused " + whose
	case store.TryLocked:
		return fmt.Sprintf("said that it is locked: nothing was offered to it for %s", t.Hold.Round(time.Minute))
	case "":
		return "did not answer to " + whose + ", which counts as a try"
	}
	return ""
}

func proofText(p store.Proof) string {
	if p.OK {
		return "was proved: every check passed"
	}
	var checks []proving.Check
	if err := json.Unmarshal(p.Checks, &checks); err != nil {
		return "was not proved"
	}
	var bad []string
	for _, c := range checks {
		if !c.OK {
			bad = append(bad, fmt.Sprintf("%s should be %s, was %s", c.Name, c.Want, c.Got))
		}
	}
	return "was not proved: " + strings.Join(bad, "; ")
}
