package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"janustat/core/text"
	"janustat/internal/reach"
	"janustat/internal/survey"
	"janustat/internal/work"
)

// watch stays after a survey and tells what happens, a line each, until ctx ends
// or what is expected is there.
func (a *App) watch(ctx context.Context, d *work.Desk, s *work.Surveyed, n *reach.Net, o surveyOptions) error {
	until := "Ctrl-C ends"
	if o.stay > 0 {
		until = "for " + roundText(o.stay.Round(time.Second)) + "; Ctrl-C stops it"
	}
	a.say("watching %s; %s", plural(len(s.Met()), "device"), until)
	missing, err := d.Watch(ctx, n, s, o.SurveyOrder, a.printEvent)
	if err != nil {
		return err
	}
	if missing == nil {
		a.say("complete: everything expected is there")
	} else if len(missing) > 0 {
		return needsError{"missing: " + strings.Join(missing, ", ")}
	}
	return nil
}

// eventJSON is one line of `survey --watch --json`.
type eventJSON struct {
	At     time.Time        `json:"at"`
	Event  survey.EventKind `json:"event"`
	AwayS  float64          `json:"away_s,omitempty"`
	Device deviceJSON       `json:"device"`
}

// eventLooks are the sign and the style of each kind of event.
var eventLooks = map[survey.EventKind]struct {
	sign  string
	style *lipgloss.Style
}{
	survey.Arrived:   {"+", &goodStyle},
	survey.Gone:      {"-", &badStyle},
	survey.Back:      {"+", &goodStyle},
	survey.Restarted: {"*", &workStyle},
	survey.Moved:     {">", &workStyle},
	survey.Described: {"=", &goodStyle},
}

func (a *App) printEvent(e survey.Event) error {
	if a.json { // a stream: one document a line
		a.writing.Lock()
		defer a.writing.Unlock()
		return json.NewEncoder(a.Out).Encode(eventJSON{e.At.UTC().Truncate(time.Millisecond), e.What, e.Away.Seconds(), asJSON(&e.Device)})
	}
	look := eventLooks[e.What]
	d := &e.Device
	sign := fmt.Sprintf("%s %-9s", look.sign, e.What)
	what := text.Words(string(d.Kind), makeText(d), whatText(d))
	line := fmt.Sprintf("%s  %s  %-4s %-15s %s  %s", e.At.Local().Format("15:04:05"), a.paint(a.Out, *look.style, sign), d.Tag, addressText(d.Address()), d.MAC, what)
	if e.Away > 0 {
		line += fmt.Sprintf(", away for %.0f s", e.Away.Seconds())
	}
	_, err := fmt.Fprintln(a.Out, line)
	return err
}
