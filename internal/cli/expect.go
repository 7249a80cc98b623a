package cli

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"janustat/core/device"
	"janustat/internal/field"
	"janustat/internal/job"
)

// expected is what a survey is to find: so many devices in all, or of each kind.
type expected struct {
	all    int
	byKind map[device.Kind]int
}

func (e expected) none() bool { return e.all == 0 && len(e.byKind) == 0 }

func expectedOf(sheet map[string]int) expected {
	e := expected{byKind: map[device.Kind]int{}}
	for kind, n := range sheet {
		e.byKind[device.Kind(kind)] = n
	}
	return e
}

// parseExpected reads 24, or camera=22 and recorder=1.
func parseExpected(terms []string) (expected, error) {
	e := expected{byKind: map[device.Kind]int{}}
	for _, t := range terms {
		key, value, byKind := strings.Cut(t, "=")
		if !byKind {
			value = t
		}
		n, err := strconv.Atoi(value)
		if err != nil || n < 1 || byKind && !slices.Contains(device.Kinds, device.Kind(key)) || !byKind && len(terms) > 1 {
			return expected{}, usagef("--expect %s: use a count such as 24, or counts by kind such as camera=22,recorder=1", t)
		}
		if byKind {
			e.byKind[device.Kind(key)] = n
		} else {
			e.all = n
		}
	}
	return e, nil
}

// counts reports whether a device is one that a person hung: what has told what
// it is, or was taken; no bystander, and nothing that is another's.
func counts(d *device.Device) bool {
	return d.Kind != device.Other && !d.NotOurs && (d.Access != device.Unmanaged || d.InJob == device.Taken)
}

// missing says what is not there yet, a line each.
func (e expected) missing(devices []device.Device) []string {
	have, all := map[device.Kind]int{}, 0
	for i := range devices {
		if counts(&devices[i]) {
			all++
			have[devices[i].Kind]++
		}
	}
	var out []string
	if e.all > all {
		out = append(out, fmt.Sprintf("%d of %s", e.all-all, plural(e.all, "device")))
	}
	for _, kind := range slices.SortedFunc(maps.Keys(e.byKind), func(a, b device.Kind) int { return a.Order() - b.Order() }) {
		if n := e.byKind[kind]; n > have[kind] {
			out = append(out, fmt.Sprintf("%d of %s", n-have[kind], plural(n, string(kind))))
		}
	}
	return out
}

// met tells whether a survey's findings so far hold everything expected, described: a
// device that is only counted might turn out to be configured by hand for want of an
// answer.
func (e expected) met(j *job.Job, known []device.Device) func(*field.Findings) bool {
	if e.none() {
		return nil
	}
	return func(f *field.Findings) bool {
		found := withKinds(j, device.Merge(f.Sightings))
		all, _ := device.Reconcile(known, found, time.Time{})
		seen, described := map[device.MAC]bool{}, map[device.MAC]bool{}
		for i := range found {
			seen[found[i].MAC] = true
		}
		for i := range f.Sightings {
			if f.Sightings[i].By == field.ByService {
				described[f.Sightings[i].MAC] = true
			}
		}
		all = slices.DeleteFunc(all, func(d device.Device) bool {
			return !seen[d.MAC] || !described[d.MAC] && d.Access != device.Unmanaged
		})
		field.Judge(j.Sheet, all, netip.Prefix{})
		return len(e.missing(all)) == 0
	}
}

func (a *App) printExpected(e expected, devices []device.Device, missing, notThere []string) {
	if len(notThere) > 0 {
		fmt.Fprintf(a.Out, "%s %s\n", a.paint(a.Out, badStyle, "not there:"), a.wrap(a.Out, 2, strings.Join(notThere, " ")))
	}
	switch {
	case e.none():
	case len(missing) == 0:
		fmt.Fprintf(a.Out, "%s: everything expected is there\n", a.paint(a.Out, goodStyle, "complete"))
	default:
		fmt.Fprintf(a.Out, "%s %s\n", a.paint(a.Out, badStyle, "missing:"), strings.Join(missing, ", "))
		var gone []string
		for i := range devices {
			if d := &devices[i]; d.InJob == device.Taken && counts(d) {
				gone = append(gone, d.Tag)
			}
		}
		if len(gone) > 0 {
			fmt.Fprintf(a.Out, "  there: %s\n", strings.Join(gone, " "))
		}
		fmt.Fprintln(a.Out, "  Look at the switch's port lights, power the missing ones off and on, and watch them come: janustat survey --watch")
	}
}
