package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"janustat/core/advice"
	"janustat/core/device"
	"janustat/core/open"
	"janustat/core/text"
	"janustat/internal/job"
	"janustat/internal/work"
)

// standing is the --json document of where a job stands.
type standing struct {
	Name         string `json:"name"`
	Known        int    `json:"known"`
	Configurable int    `json:"configurable"`
	Taken        int    `json:"taken"`
	Allotted     int    `json:"allotted"`
	Commissioned int    `json:"commissioned"`
	Proved       int    `json:"proved"`
	Next         string `json:"next"`
	// Alarms are devices that are not what they were; Reset those that wait to be restored.
	Alarms []string `json:"alarms,omitempty"`
	Reset  []string `json:"reset,omitempty"`
	// SetApart are devices that somebody has set up outside the job, and that nobody has decided
	// about.
	SetApart []string `json:"set_apart,omitempty"`
	Stale    []string `json:"stale,omitempty"` // devices that the record on disk tells otherwise
	Differs  []string `json:"differs,omitempty"`
	// Remarks are what in the job sheet is most likely not meant.
	Remarks []string `json:"remarks,omitempty"`
	// Open is all that is open, the most urgent first.
	Open []openJSON `json:"open"`
}

// openJSON is one thing that is open.
type openJSON struct {
	Device  string     `json:"device,omitempty"` // left out where it is of the whole job
	What    open.What  `json:"what"`
	Text    string     `json:"text"`
	Urgency string     `json:"urgency"` // now, work or note
	Since   *time.Time `json:"since,omitempty"`
	Next    string     `json:"next,omitempty"`
}

func openAsJSON(items []open.Item) []openJSON {
	out := []openJSON{}
	for _, i := range items {
		x := openJSON{Device: i.Device, What: i.What, Text: i.Text, Urgency: i.Urgency.String(), Next: i.Next.Text(command)}
		if !i.Since.IsZero() {
			at := i.Since.UTC().Truncate(time.Second)
			x.Since = &at
		}
		out = append(out, x)
	}
	return out
}

// manyOpen is how many devices are named of one sort of open things.
const manyOpen = 6

// openLines tells what is open, a line for each sort of thing and what to do about it.
func (a *App) openLines(items []open.Item) (out []string) {
	type sort struct {
		what       open.What
		text, next string
	}
	var order []sort
	of := map[sort][]string{}
	for _, i := range items {
		next := i.Next.Text(command)
		k := sort{i.What, i.Text, next}
		if len(i.Device) > 0 { // one line for all that are alike but for their tags
			k.next = strings.ReplaceAll(next, i.Device, "DEVICE")
		}
		if of[k] == nil {
			order = append(order, k)
		}
		of[k] = append(of[k], i.Device)
	}
	for _, k := range order {
		who := of[k]
		text := k.text
		if who[0] != "" {
			text = strings.Join(who[:min(len(who), manyOpen)], " ")
			if n := len(who) - manyOpen; n > 0 {
				text += fmt.Sprintf(" and %d more", n)
			}
			text += "  " + k.text
		}
		if k.what == open.Alarm {
			text = a.paint(a.Out, badStyle, "ALARM") + " " + text
		}
		next := k.next
		if len(who) == 1 {
			next = strings.ReplaceAll(next, "DEVICE", who[0])
		}
		if next != "" {
			text += ". Next: " + next
		}
		out = append(out, text)
	}
	return out
}

func (a *App) status(ctx context.Context) error {
	j, devices, err := a.open(ctx)
	if errors.Is(err, job.ErrNoJob) && a.jobDir == "." && !a.json {
		fmt.Fprintln(a.Out, "No job in this folder.\nStart a job, step by step:  janustat go\nStart a job folder only:    janustat begin DIR\nSee a demo:                 janustat demo\nAll commands:               janustat --help")
		if a.lastJob != "" {
			fmt.Fprintf(a.Out, "Open your last job:         janustat --job %s\n", shellWords([]string{a.lastJob}))
		}
		return a.offerGuide(ctx, "Enter: start a new job, step by step · q: quit")
	}
	if err != nil {
		return err
	}
	defer j.Close()
	last, err := j.Register.LastSurvey(ctx)
	if err != nil {
		return err
	}
	at := work.Stand(devices, !last.At.IsZero())
	s := standing{
		Name: j.Sheet.Name, Known: at.Known, Configurable: at.Configurable, Taken: at.Taken, Allotted: at.Allotted,
		Commissioned: at.Commissioned, Proved: at.Proved, Next: strings.Trim(command(at.Next), "`"), Alarms: at.Alarms, Reset: at.Reset,
	}
	_, differs, _ := work.Regard(ctx, j, devices) // a disagreement is told by allot
	s.Differs, s.SetApart = differs, setApart(devices)
	s.Remarks = j.Sheet.Among(devices).Remarks(devices)
	made, there := recordMade(j)
	s.Stale = staleTags(devices, made, there)
	items, err := work.Open(ctx, j, devices, s.Stale)
	if err != nil {
		return err
	}
	s.Open = openAsJSON(items)
	pressing := work.Pressing(items)
	finished := at.Next.Act == advice.Handover && there && len(s.Stale) == 0
	switch {
	case finished && len(pressing) == 0:
		s.Next = "nothing: nothing is open, and the record in " + job.HandoverDir + " is up to date"
	case finished:
		s.Next = pressing[0].Next.Text(command)
		if strings.Count(s.Next, "`") == 2 {
			s.Next = strings.Trim(s.Next, "`")
		}
	}
	if a.json {
		return a.emit(s)
	}
	fmt.Fprintln(a.Out, a.paint(a.Out, headStyle, s.Name))
	if !last.At.IsZero() {
		fmt.Fprintf(a.Out, "%d devices found, %d can be set up over the network; last survey %s\n", s.Known, s.Configurable, localTime(last.At))
	}
	if s.Taken > 0 {
		fmt.Fprintf(a.Out, "%d taken (%s): %d allotted, %d commissioned, %d proved\n", s.Taken, countByKind(device.OfJob(devices)), s.Allotted, s.Commissioned, s.Proved)
	}
	for _, text := range s.Differs {
		fmt.Fprintln(a.Out, a.wrap(a.Out, 2, text))
	}
	for _, text := range s.Remarks {
		fmt.Fprintln(a.Out, a.wrap(a.Out, 2, job.SheetFile+": "+text))
	}
	for _, part := range []struct {
		head  string
		lines []string
	}{{"Open:", a.openLines(pressing)}, {"Good to know:", a.openLines(slices.DeleteFunc(items, func(i open.Item) bool { return i.Urgency != open.Note }))}} {
		if len(part.lines) > 0 {
			fmt.Fprintln(a.Out, part.head)
		}
		for _, text := range part.lines {
			fmt.Fprintln(a.Out, a.wrap(a.Out, 4, "  "+text))
		}
	}
	fmt.Fprintf(a.Out, "Next: %s\n", s.Next)
	if finished && len(pressing) == 0 {
		return nil // nothing is next
	}
	return a.offerGuide(ctx, "Enter: continue the job, step by step · q: quit")
}

// offerGuide offers to be guided, where there is a person at a terminal.
func (a *App) offerGuide(ctx context.Context, question string) error {
	_, in := terminal(a.In)
	if _, out := terminal(a.Out); !in || !out || a.yes || a.quiet {
		return nil
	}
	a.fresh()
	fmt.Fprintf(a.Err, "%s ", question)
	answer, err := a.typedLine(ctx)
	switch {
	case errors.Is(err, io.EOF):
		fmt.Fprintln(a.Err)
		return nil
	case err != nil || strings.TrimSpace(answer) != "":
		return err
	}
	return a.guide(ctx)
}

// manyApart is how many devices that somebody has set up are named one by one.
const manyApart = 8

// setApart tells of the devices that somebody has set up outside the job: none of them is taken
// among others.
func setApart(devices []device.Device) (out []string) {
	all := work.SetApart(devices)
	for i := range all[:min(len(all), manyApart)] {
		d := &all[i]
		ref := refText(d)
		key := ""
		if d.Access == device.Sealed {
			key = fmt.Sprintf(", then `janustat key set %s` with its password", ref)
		}
		out = append(out, fmt.Sprintf("%s at %s was set up by somebody before (%s). Is it the site's? If it is: `janustat take %s`%s. If not: `janustat leave %[4]s`",
			text.Words(string(d.Kind), d.Make, d.Label()), addressText(d.Address()), d.SetUpBy, ref, key))
	}
	if n := len(all) - manyApart; n > 0 {
		out = append(out, fmt.Sprintf("%s more set up by somebody before: `janustat list --all`", plural(n, "device")))
	}
	return out
}

// refText is the surest way to name a device on the command line.
func refText(d *device.Device) string {
	switch {
	case d.Tag != "":
		return d.Tag
	case !d.MAC.IsZero():
		return d.MAC.String()
	}
	return addressText(d.Address())
}

// recordMade tells when the record that is on disk was made, by its own word.
func recordMade(j *job.Job) (at time.Time, there bool) {
	f, err := os.Open(j.Path(job.HandoverDir, "register.json"))
	if err != nil {
		return time.Time{}, false
	}
	defer f.Close()
	var r struct {
		Made time.Time `json:"made_at"`
	}
	if json.NewDecoder(io.LimitReader(f, maxRecord)).Decode(&r) != nil {
		return time.Time{}, true
	}
	return r.Made, true
}

// maxRecord bounds a record that is read, in bytes.
const maxRecord = 64 << 20

// staleTags gives the devices that have changed since the record was made.
func staleTags(devices []device.Device, made time.Time, there bool) (out []string) {
	for i := range devices {
		d := &devices[i]
		inRecord := d.InJob == device.Taken || d.InJob == device.Left && d.Commissioned()
		if there && inRecord && d.ChangedAt.Truncate(time.Second).After(made) {
			out = append(out, d.Label())
		}
	}
	return out
}

func staleText(tags []string) string {
	const most = 8
	shown := strings.Join(tags[:min(len(tags), most)], " ")
	if n := len(tags) - most; n > 0 {
		shown += fmt.Sprintf(" and %d more", n)
	}
	return fmt.Sprintf("The handover pack in %s is out of date (changed since: %s). To write it again: `janustat handover`", job.HandoverDir, shown)
}

// tellStale says once, after a command, that the record on disk is not true any more.
func (a *App) tellStale(j *job.Job) {
	made, there := recordMade(j)
	if !there || a.quiet {
		return
	}
	devices, err := j.Register.Devices(context.Background())
	if err != nil {
		return
	}
	if tags := staleTags(devices, made, there); len(tags) > 0 {
		a.say("%s", staleText(tags))
	}
}
