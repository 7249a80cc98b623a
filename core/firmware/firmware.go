// Package firmware decides which devices of a site are to have another version of their firmware, and by
// which images they come to it.
package firmware

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Image is a file that brings devices of one model to a version.
type Image struct {
	Make     string   // "" is any
	Model    string   // as the device tells it
	Hardware []string // revisions that it is for, as devices tell them; none is any
	From     []string // versions that it may follow, with * for any rest; none is any earlier one
	Version  string   // as the device tells it afterwards
	File     string   // in the job's folder
	SHA256   string   // of the file, hexadecimal, in lower case
	Notes    string
}

// Unit is what a device tells of itself.
type Unit struct{ Make, Model, Hardware, Version string }

// List has the agreed images. Of several for one device the last is what is agreed on, and the ones before
// are ways there.
type List []Image

// State is how a device stands to what is agreed on.
type State string

// The states.
const (
	None    State = "none agreed" // for its model, or its revision
	Agreed  State = "as agreed"
	Due     State = "due"     // and there is a way
	Stuck   State = "no way"  // no image may follow the version that it has
	Newer   State = "newer"   // than what is agreed on, and no image may follow it: it is left as it is
	Unknown State = "unknown" // it does not tell its version
)

// Standing is how one device stands.
type Standing struct {
	State State
	Want  string   // the version that is agreed on; "" is none
	Path  []*Image // the images that bring it there, in order, where it is due
}

// Of tells how a device stands: the shortest way from the version that it has, by images that
// are for it.
func (l List) Of(u Unit) Standing {
	var own []*Image
	for i := range l {
		if l[i].suits(u) {
			own = append(own, &l[i])
		}
	}
	if len(own) == 0 {
		return Standing{State: None}
	}
	want := own[len(own)-1]
	out := Standing{Want: want.Version}
	switch u.Version {
	case want.Version:
		out.State = Agreed
		return out
	case "":
		out.State = Unknown
		return out
	}
	if out.State = Stuck; Compare(u.Version, want.Version) > 0 {
		out.State = Newer
	}
	// Breadth first, over versions: each is reached once, by as few images as can be.
	type place struct {
		version string
		path    []*Image
	}
	seen := map[string]bool{u.Version: true}
	for next := []place{{version: u.Version}}; len(next) > 0; next = next[1:] {
		here := next[0]
		for _, x := range slices.Backward(own) { // of two that lead on, the later one
			if seen[x.Version] || !x.Follows(here.version) {
				continue
			}
			path := append(slices.Clone(here.path), x)
			if x.Version == want.Version {
				out.State, out.Path = Due, path
				return out
			}
			seen[x.Version] = true
			next = append(next, place{x.Version, path})
		}
	}
	return out
}

// suits reports whether an image is for a device.
func (x *Image) suits(u Unit) bool {
	return (x.Make == "" || x.Make == u.Make) && x.Model == u.Model && (len(x.Hardware) == 0 || slices.Contains(x.Hardware, u.Hardware))
}

// Follows reports whether an image may be set on a device of a version. A step back has to be
// said: devices that take one may lose their settings by it.
func (x *Image) Follows(version string) bool {
	if len(x.From) == 0 {
		return Compare(version, x.Version) < 0
	}
	return slices.ContainsFunc(x.From, func(f string) bool {
		if rest, any := strings.CutSuffix(f, "*"); any {
			return strings.HasPrefix(version, rest)
		}
		return f == version
	})
}

// Compare gives the order of two versions as people read them: numbers by their worth, a part that goes on
// after one that ends.
func Compare(a, b string) int {
	for a != "" && b != "" {
		x, restA := run(a)
		y, restB := run(b)
		if digit(x[0]) && digit(y[0]) {
			x, y = strings.TrimLeft(x, "0"), strings.TrimLeft(y, "0")
			if c := cmp.Or(cmp.Compare(len(x), len(y)), cmp.Compare(x, y)); c != 0 {
				return c
			}
		} else if c := cmp.Compare(x, y); c != 0 {
			return c
		}
		a, b = restA, restB
	}
	return cmp.Compare(len(a), len(b))
}

// run parts the digits, or what is none, at the beginning of a text.
func run(s string) (first, rest string) {
	n := strings.IndexFunc(s, func(r rune) bool { return (r >= '0' && r <= '9') != digit(s[0]) })
	if n < 0 {
		return s, ""
	}
	return s[:n], s[n:]
}

func digit(b byte) bool { return b >= '0' && b <= '9' }

// Check refuses a list that says one thing twice, or nothing: each error names the image by its place in
// the list, from 1.
func (l List) Check() error {
	var errs []error
	type of struct{ maker, model, hardware, version string }
	had := map[of]int{}
	for i, x := range l {
		bad := func(format string, args ...any) {
			errs = append(errs, fmt.Errorf("image %d: %s", i+1, fmt.Sprintf(format, args...)))
		}
		for what, value := range map[string]string{"model": x.Model, "version": x.Version, "file": x.File, "sha256": x.SHA256} {
			if value == "" {
				bad("it has no %s", what)
			}
		}
		if x.SHA256 != "" && (len(x.SHA256) != 64 || strings.Trim(x.SHA256, "0123456789abcdef") != "") {
			bad("its sha256 is not 64 hexadecimal digits")
		}
		if slices.ContainsFunc(x.From, func(f string) bool { return strings.Contains(strings.TrimSuffix(f, "*"), "*") }) {
			bad("of a version in `from`, * stands at its end alone")
		}
		k := of{x.Make, x.Model, strings.Join(x.Hardware, "\x00"), x.Version}
		if first := had[k]; first > 0 && x.Model != "" && x.Version != "" {
			bad("it brings %s to %s, as image %d does", x.Model, x.Version, first)
		} else {
			had[k] = i + 1
		}
	}
	return errors.Join(errs...)
}
