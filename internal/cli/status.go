package cli

import (
	"context"
	"errors"
	"fmt"
	"os"

	"janustat/core/device"
	"janustat/internal/job"
)

// standing is where a job stands.
type standing struct {
	Name         string `json:"name"`
	Known        int    `json:"known"`
	Configurable int    `json:"configurable"`
	Taken        int    `json:"taken"`
	Allotted     int    `json:"allotted"`
	Commissioned int    `json:"commissioned"`
	Proved       int    `json:"proved"`
	Next         string `json:"next"`
}

func (a *App) status(ctx context.Context) error {
	j, devices, err := a.open(ctx)
	if errors.Is(err, job.ErrNoJob) && a.jobDir == "." && !a.json {
		fmt.Fprintln(a.Out, "No job in this folder.\nBegin one:        janustat begin DIR\nWatch the story:  janustat demo\nAll commands:     janustat --help")
		return nil
	}
	if err != nil {
		return err
	}
	defer j.Close()
	last, err := j.Register.LastSurvey(ctx)
	if err != nil {
		return err
	}
	s := stand(j.Sheet.Name, devices, !last.At.IsZero())
	if s.Next == nextHandover && recordIsCurrent(j, devices) {
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
		fmt.Fprintf(a.Out, "%d taken (%s): %d allotted, %d commissioned, %d proved\n", s.Taken, countByKind(tagged(devices)), s.Allotted, s.Commissioned, s.Proved)
	}
	fmt.Fprintf(a.Out, "Next: %s\n", s.Next)
	return nil
}

// stand counts, and tells the next command in the order of the work.
func stand(name string, devices []device.Device, surveyed bool) standing {
	s := standing{Name: name, Known: len(devices)}
	count := func(n *int, yes bool) {
		if yes {
			*n++
		}
	}
	for i := range devices {
		d := &devices[i]
		count(&s.Configurable, d.Configurable())
		if d.InJob != device.Taken {
			continue
		}
		s.Taken++
		count(&s.Allotted, d.Allotted != nil)
		count(&s.Commissioned, d.AsLeft != nil)
		count(&s.Proved, !d.Proved.IsZero())
	}
	switch {
	case !surveyed:
		s.Next = "janustat survey"
	case s.Taken == 0:
		s.Next = "janustat take all"
	case s.Allotted < s.Taken:
		s.Next = "janustat allot"
	case s.Commissioned < s.Taken:
		s.Next = "janustat commission"
	case s.Proved < s.Taken:
		s.Next = "janustat prove"
	default:
		s.Next = nextHandover
	}
	return s
}

const nextHandover = "janustat handover"

// recordIsCurrent reports whether the record was written after the last proof.
func recordIsCurrent(j *job.Job, devices []device.Device) bool {
	info, err := os.Stat(j.Path(job.HandoverDir, "register.json"))
	if err != nil {
		return false
	}
	for i := range devices {
		if devices[i].Proved.After(info.ModTime()) {
			return false
		}
	}
	return true
}
