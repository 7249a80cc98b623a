package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/internal/field"
	"janustat/internal/job"
)

// dryRow is one device in the document of `commission --dry-run`.
type dryRow struct {
	Tag     string             `json:"tag"`
	From    string             `json:"from"`
	To      string             `json:"to"`
	Writes  []commission.Write `json:"writes"`
	Manner  commission.Manner  `json:"manner,omitempty"`
	Stopped string             `json:"stopped,omitempty"` // why nothing would be sent
	Partial bool               `json:"partial,omitempty"` // it tells the rest only with its password
}

// dryRun tells what would be written, by what the register knows and without any
// traffic: the same code decides it as when it is carried out.
func (a *App) dryRun(ctx context.Context, j *job.Job, devices []device.Device) error {
	if _, err := ready(devices); err != nil {
		return err
	}
	planner, err := a.dryPlanner(ctx, j, devices)
	if err != nil {
		return err
	}
	rows := []dryRow{}
	for _, p := range planner.Plans(devices) {
		d := deviceByID(devices, p.ID)
		row := dryRow{Tag: p.Tag, From: addressText(p.From), To: fmt.Sprintf("%s/%d", d.Allotted.Address, d.Allotted.Prefix), Writes: []commission.Write{}, Manner: p.Manner}
		switch {
		case p.Stop != nil:
			row.Stopped = p.Stop.Error()
		case d.Alarm != "":
			row.Stopped = d.Alarm
		case p.Manner == commission.ByService:
			row.Writes, row.Partial = orEmpty(commission.Outlook(p, field.Expect(d))), d.Writes == nil || d.Writes.Partial
		}
		rows = append(rows, row)
	}
	if a.json {
		return a.emit(rows)
	}
	l := &listing{columns: []column{{"TAG", 0}, {"FROM", 0}, {"TO", 0}, {"WOULD WRITE", 0}}}
	partial := 0
	for _, r := range rows {
		const before = 35 // about what the columns before it take
		lines := strings.Split(a.wrap(a.Out, before, dryText(r)), "\n")
		l.add(plain(r.Tag), plain(r.From), plain(r.To), plain(lines[0]))
		for _, more := range lines[1:] {
			l.add(plain(" "), plain(" "), plain(" "), plain(strings.TrimSpace(more)))
		}
		if r.Partial {
			partial++
		}
	}
	a.write(a.Out, l)
	fmt.Fprintln(a.Out, "\nNothing was sent. A device that asks for a restart, to use its new address, is restarted too.")
	if partial > 0 {
		fmt.Fprintln(a.Out, a.wrap(a.Out, 0, fmt.Sprintf("Marked with *: %s whose settings nobody reads without a password; what is right already is not written again.", plural(partial, "device"))))
	}
	return nil
}

func dryText(r dryRow) string {
	if r.Stopped != "" {
		return "nothing: " + r.Stopped
	}
	if r.Manner != commission.ByService {
		return string(r.Manner)
	}
	var words []string
	for _, w := range r.Writes {
		words = append(words, fmt.Sprintf("%s %s", w.Step, w.Intent))
	}
	text := strings.Join(words, "; ")
	if text == "" {
		text = "nothing, as far as the register knows"
	}
	if r.Partial {
		text = "* " + text
	}
	return text
}

// dryPlanner plans on a draft of the keyring, which nothing is kept of; without one, as
// if it were empty, since no passphrase is needed to look.
func (a *App) dryPlanner(ctx context.Context, j *job.Job, devices []device.Device) (*field.Planner, error) {
	keys, err := a.keyring(ctx, j, false)
	switch {
	case errors.Is(err, job.ErrNoKeyring):
		keys = job.NewKeyring("", "")
	case err != nil:
		return nil, err
	}
	draft, err := keys.Draft()
	if err != nil {
		return nil, err
	}
	return a.plannerWith(ctx, j, devices, draft)
}
