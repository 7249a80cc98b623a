package work

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"janustat/core/device"
	"janustat/core/policy"
	"janustat/core/text"
	"janustat/internal/job"
	"janustat/internal/survey"
)

// Expected is what a survey is to find: so many devices in all, or of each kind.
type Expected struct {
	All    int
	ByKind map[device.Kind]int
}

// None reports whether nothing is expected.
func (e Expected) None() bool { return e.All == 0 && len(e.ByKind) == 0 }

// ExpectedOf gives what a job sheet expects.
func ExpectedOf(sheet map[string]int) Expected {
	e := Expected{ByKind: map[device.Kind]int{}}
	for kind, n := range sheet {
		e.ByKind[device.Kind(kind)] = n
	}
	return e
}

// ParseExpected reads 24, or camera=22 and recorder=1.
func ParseExpected(terms []string) (Expected, error) {
	e := Expected{ByKind: map[device.Kind]int{}}
	for _, t := range terms {
		key, value, byKind := strings.Cut(t, "=")
		if !byKind {
			value = t
		}
		n, err := strconv.Atoi(value)
		if err != nil || n < 1 || byKind && !slices.Contains(device.Kinds, device.Kind(key)) || !byKind && len(terms) > 1 {
			return Expected{}, misuse("--expect %s: use a count such as 24, or counts by kind such as camera=22,recorder=1", t)
		}
		if byKind {
			e.ByKind[device.Kind(key)] = n
		} else {
			e.All = n
		}
	}
	return e, nil
}

// Counts reports whether a device is one that a person hung: what has told what
// it is, or was taken; no bystander, and nothing that is another's.
func Counts(d *device.Device) bool {
	return d.Kind != device.Other && !d.NotOurs && (!d.Access.Dumb() || d.InJob == device.Taken)
}

// Missing says what is not there yet, a line each.
func (e Expected) Missing(devices []device.Device) []string {
	have, all := map[device.Kind]int{}, 0
	for i := range devices {
		if Counts(&devices[i]) {
			all++
			have[devices[i].Kind]++
		}
	}
	var out []string
	if e.All > all {
		out = append(out, fmt.Sprintf("%d of %s", e.All-all, text.Plural(e.All, "device")))
	}
	for _, kind := range slices.SortedFunc(maps.Keys(e.ByKind), func(a, b device.Kind) int { return a.Order() - b.Order() }) {
		if n := e.ByKind[kind]; n > have[kind] {
			out = append(out, fmt.Sprintf("%d of %s", n-have[kind], text.Plural(n, string(kind))))
		}
	}
	return out
}

// Met tells whether a survey's findings so far hold everything expected, described: a
// device that is only counted might turn out to be configured by hand for want of an
// answer.
func (e Expected) Met(j *job.Job, known []device.Device) func(*survey.Findings) bool {
	if e.None() {
		return nil
	}
	return func(f *survey.Findings) bool {
		found := WithKinds(j, device.Merge(f.Sightings))
		all, _ := device.Reconcile(known, found, time.Time{})
		seen, described := map[device.MAC]bool{}, map[device.MAC]bool{}
		for i := range found {
			seen[found[i].MAC] = true
		}
		for i := range f.Sightings {
			if f.Sightings[i].By == device.ByService {
				described[f.Sightings[i].MAC] = true
			}
		}
		all = slices.DeleteFunc(all, func(d device.Device) bool {
			return !seen[d.MAC] || !described[d.MAC] && !d.Access.Dumb()
		})
		policy.Judge(j.Sheet, all, netip.Prefix{})
		return len(e.Missing(all)) == 0
	}
}
