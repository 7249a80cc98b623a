package cli

import (
	"encoding/json"
	"fmt"

	"janustat/core/device"
	"janustat/internal/store"
)

// earlier is the cause of an event by which a register of a version without events was taken over: it
// says when that was, and not when what it holds came about.
const earlier = "earlier version"

// decisions tells from a device's events what was decided of it, and what became of its identity. Who
// did it is told where several have worked on it.
func decisions(events []store.Event) (story []chapter, err error) {
	var state json.RawMessage
	var was device.Kept
	authors := map[string]bool{}
	for _, e := range events {
		if state, err = store.Changed(state, e.Change); err != nil {
			return nil, err
		}
		var is device.Kept
		if err := json.Unmarshal(state, &is); err != nil {
			return nil, fmt.Errorf("event %d: %w", e.Version, err)
		}
		if e.Cause != earlier {
			for _, c := range decided(was, is) {
				c.At, c.By = e.At, e.Author
				authors[e.Author] = true
				story = append(story, c)
			}
		}
		was = is
	}
	for i := range story {
		if len(authors) > 1 {
			story[i].Text += " (by " + story[i].By + ")"
		}
	}
	return story, nil
}

// decided tells what differs between two states that somebody decided.
func decided(was, is device.Kept) (out []chapter) {
	say := func(ok bool, format string, args ...any) {
		out = append(out, chapter{OK: ok, Text: fmt.Sprintf(format, args...)})
	}
	if is.Facts.KindSaid && (!was.Facts.KindSaid || was.Facts.Kind != is.Facts.Kind) {
		say(true, "somebody said what it is: %s", is.Facts.Kind)
	}
	switch {
	case was.InJob != is.InJob && is.InJob == device.Taken:
		say(true, "taken into the job as %s", is.Tag)
	case was.InJob != is.InJob && is.InJob == device.Left:
		say(true, "left out of the job")
	case was.InJob != is.InJob:
		say(true, "put back among those that nobody has decided about")
	case was.Tag != is.Tag && was.Tag != "" && is.Tag != "":
		say(true, "tagged %s in place of %s", is.Tag, was.Tag)
	}
	switch a, b := was.Allotted, is.Allotted; {
	case b == nil && a != nil:
		say(true, "its address %s is allotted to it no more", a.Address)
	case b != nil && (a == nil || a.Address != b.Address || a.Prefix != b.Prefix || a.Gateway != b.Gateway || a.DHCP != b.DHCP):
		how := ""
		if b.DHCP {
			how = " by a reservation"
		}
		say(true, "allotted %s%s: %s", b.Address, how, is.Why)
	}
	switch {
	case is.Alarm != "" && was.Alarm != is.Alarm:
		say(false, "%s", alarmText(is.Alarm))
	case is.Alarm == "" && was.Alarm != "":
		say(true, "is what it was again: passwords are sent to it")
	}
	return out
}
