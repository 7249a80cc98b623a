package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"janustat/core/device"
	"janustat/internal/field"
	"janustat/internal/job"
	"janustat/internal/reach"
)

// watch stays after a survey and tells what happens, a line each, until ctx ends
// or what is expected is there.
func (a *App) watch(ctx context.Context, j *job.Job, s *surveyed, n *reach.Net, o surveyOptions) error {
	o.quietly = true
	survey, err := a.newSurvey(ctx, j, s.devices, n, o)
	if err != nil {
		return err
	}
	survey.Enough = o.expect.met(j, s.devices)
	until := "ctrl-C ends"
	if o.stay > 0 {
		until = "for " + roundText(o.stay.Round(time.Second)) + "; ctrl-C ends it sooner"
	}
	a.say("watching %s; %s", plural(len(s.seen()), "device"), until)
	begun := time.Now()
	var printErr error
	found, err := field.Watch{Survey: survey, Known: s.seen(), Event: func(e field.Event) {
		e.Device = withKinds(j, []device.Device{e.Device})[0]
		if known := deviceByMAC(s.devices, e.Device.MAC); known != nil {
			e.Device.Tag, e.Device.Name = known.Tag, known.Name
		}
		if err := a.printEvent(e); err != nil && printErr == nil {
			printErr = err
		}
	}}.Run(ctx)
	if err != nil {
		return err
	}
	if printErr != nil {
		return printErr
	}
	// Kept even when ctrl-C ended it: what was seen was seen.
	ctx = context.WithoutCancel(ctx)
	again, err := a.carry(ctx, j, s.devices, found, job.SurveyRecord{At: begun, Took: time.Since(begun), Laptop: n.Facts().Addresses, Offers: s.found.Offers})
	if err != nil {
		return err
	}
	if err := a.keep(ctx, j, again); err != nil {
		return err
	}
	if found.Enough {
		a.say("complete: everything expected is there")
		return nil
	}
	if missing := o.expect.missing(again.seen()); len(missing) > 0 {
		return needsError{"missing: " + strings.Join(missing, ", ")}
	}
	return nil
}

func deviceByMAC(devices []device.Device, mac device.MAC) *device.Device {
	for i := range devices {
		if devices[i].MAC == mac {
			return &devices[i]
		}
	}
	return nil
}

// eventJSON is one line of `survey --watch --json`.
type eventJSON struct {
	At     time.Time       `json:"at"`
	Event  field.EventKind `json:"event"`
	AwayS  float64         `json:"away_s,omitempty"`
	Device deviceJSON      `json:"device"`
}

// eventLooks are the sign and the style of each kind of event.
var eventLooks = map[field.EventKind]struct {
	sign  string
	style *lipgloss.Style
}{
	field.Arrived:   {"+", &goodStyle},
	field.Gone:      {"-", &badStyle},
	field.Back:      {"+", &goodStyle},
	field.Restarted: {"*", &workStyle},
	field.Moved:     {">", &workStyle},
}

func (a *App) printEvent(e field.Event) error {
	if a.json { // a stream: one document a line
		return json.NewEncoder(a.Out).Encode(eventJSON{e.At.UTC().Truncate(time.Millisecond), e.What, e.Away.Seconds(), asJSON(&e.Device)})
	}
	look := eventLooks[e.What]
	d := &e.Device
	text := fmt.Sprintf("%s %-9s", look.sign, e.What)
	what := strings.Join(strings.Fields(fmt.Sprintf("%s %s %s", d.Kind, makeText(d), whatText(d))), " ")
	line := fmt.Sprintf("%s  %s  %-4s %-15s %s  %s", e.At.Local().Format("15:04:05"), a.paint(a.Out, *look.style, text), d.Tag, addressText(d.Address()), d.MAC, what)
	if e.Away > 0 {
		line += fmt.Sprintf(", away for %.0f s", e.Away.Seconds())
	}
	_, err := fmt.Fprintln(a.Out, line)
	return err
}
