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
	"janustat/core/text"
	"janustat/internal/field"
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
}

func (a *App) status(ctx context.Context) error {
	j, devices, err := a.open(ctx)
	if errors.Is(err, job.ErrNoJob) && a.jobDir == "." && !a.json {
		fmt.Fprintln(a.Out, "No job in this folder.\nBe guided:        janustat go\nBegin one:        janustat begin DIR\nWatch the story:  janustat demo\nAll commands:     janustat --help")
		if a.lastJob != "" {
			fmt.Fprintf(a.Out, "The last one:     janustat --job %s\n", shellWords([]string{a.lastJob}))
		}
		return a.offerGuide(ctx, "Enter: be guided through a new job (`janustat go`) · q: not now")
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
	_, differs, _ := field.Regard(ctx, j, devices) // a disagreement is told by allot
	s.Differs, s.SetApart = differs, setApart(devices)
	s.Remarks = j.Sheet.Among(devices).Remarks(devices)
	made, there := recordMade(j)
	s.Stale = staleTags(devices, made, there)
	if at.Next.Act == advice.Handover && there && len(s.Stale) == 0 {
		s.Next = "nothing: the record in " + job.HandoverDir + " is up to date"
	}
	if a.json {
		return a.emit(s)
	}
	fmt.Fprintln(a.Out, a.paint(a.Out, headStyle, s.Name))
	if !last.At.IsZero() {
		fmt.Fprintf(a.Out, "%d devices known, %d can be configured; last survey %s\n", s.Known, s.Configurable, localTime(last.At))
	}
	if s.Taken > 0 {
		fmt.Fprintf(a.Out, "%d taken (%s): %d allotted, %d commissioned, %d proved\n", s.Taken, countByKind(device.OfJob(devices)), s.Allotted, s.Commissioned, s.Proved)
	}
	for i := range devices {
		if d := &devices[i]; d.Alarm != "" && d.InJob == device.Taken {
			fmt.Fprintf(a.Out, "%s %s %s: nothing is offered to it. janustat show %s\n", a.paint(a.Out, badStyle, "ALARM"), d.Label(), d.Alarm, d.Label())
		}
	}
	for _, tag := range s.Reset {
		fmt.Fprintf(a.Out, "%s was reset: janustat restore %s brings it back\n", tag, tag)
	}
	for _, text := range append(slices.Clone(s.SetApart), s.Differs...) {
		fmt.Fprintln(a.Out, a.wrap(a.Out, 2, text))
	}
	for _, text := range s.Remarks {
		fmt.Fprintln(a.Out, a.wrap(a.Out, 2, job.SheetFile+": "+text))
	}
	if len(s.Stale) > 0 {
		fmt.Fprintln(a.Out, a.wrap(a.Out, 2, staleText(s.Stale)))
	}
	fmt.Fprintf(a.Out, "Next: %s\n", s.Next)
	if at.Next.Act == advice.Handover && there && len(s.Stale) == 0 {
		return nil // nothing is next
	}
	return a.offerGuide(ctx, "Enter: go on, guided (`janustat go`) · q: not now")
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
	return fmt.Sprintf("The record in %s is out of date (%s): `janustat handover` writes it anew", job.HandoverDir, shown)
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
