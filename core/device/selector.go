package device

import (
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"janustat/core/advice"
	"janustat/core/text"
)

// ErrNoDevice is returned when nothing matches a reference or a selector.
var ErrNoDevice = errors.New("no such device")

// AmbiguousError is returned when a reference fits more than one device.
type AmbiguousError struct {
	Ref        string
	Candidates []Device
}

// Error lists the candidates, so that the person can name one.
func (e *AmbiguousError) Error() string {
	lines := make([]string, len(e.Candidates))
	for i := range e.Candidates {
		d := &e.Candidates[i]
		lines[i] = strings.Join(strings.Fields(fmt.Sprintf("  %s %s %s %s", d.Tag, d.MAC, d.Serial, addressText(d.Address()))), "  ")
	}
	return fmt.Sprintf("%q fits %d devices; name one by its MAC:\n  %s", e.Ref, len(lines), strings.Join(lines, "\n  "))
}

// Find resolves a reference: a tag, a MAC or its last four or more hex digits,
// a serial number, or an address. An exact tag, MAC or serial wins over the
// looser forms; more than one match is an *AmbiguousError.
func Find(devices []Device, ref string) (*Device, error) {
	for _, fits := range []func(*Device) bool{
		func(d *Device) bool { return d.Tag != "" && strings.EqualFold(d.Tag, ref) },
		func(d *Device) bool { m, err := ParseMAC(ref); return err == nil && m == d.MAC },
		func(d *Device) bool { m, err := ParseMAC(ref); return err == nil && slices.Contains(d.OtherMAC, m) },
		func(d *Device) bool { return d.Serial != "" && strings.EqualFold(d.Serial, ref) },
		func(d *Device) bool {
			a, err := netip.ParseAddr(ref)
			return err == nil && slices.Contains(d.Addresses, a)
		},
		func(d *Device) bool { return d.MAC.endsIn(ref) },
		func(d *Device) bool { return sameTag(d.Tag, ref) },
	} {
		var hits []int
		for i := range devices {
			if fits(&devices[i]) {
				hits = append(hits, i)
			}
		}
		switch len(hits) {
		case 0:
			continue
		case 1:
			return &devices[hits[0]], nil
		}
		amb := &AmbiguousError{Ref: ref}
		for _, h := range hits {
			amb.Candidates = append(amb.Candidates, devices[h])
		}
		return nil, amb
	}
	return nil, advice.Wrap(fmt.Errorf("%w: %q (looked for as tag, MAC, serial and address)%s", ErrNoDevice, ref, text.Meant(ref, tagsOf(devices))), "%s shows them", advice.ListAll)
}

var shortTag = regexp.MustCompile(`^(?i)([CDIPRX])0*([1-9][0-9]{0,3})$`)

// sameTag reports whether two tags are one but for the noughts in them: C1 is C01.
func sameTag(tag, ref string) bool {
	a, b := shortTag.FindStringSubmatch(tag), shortTag.FindStringSubmatch(ref)
	return a != nil && b != nil && strings.EqualFold(a[1], b[1]) && a[2] == b[2]
}

func tagsOf(devices []Device) (out []string) {
	for i := range devices {
		if t := devices[i].Tag; t != "" {
			out = append(out, t)
		}
	}
	return out
}

// filterKeys are the keys of key=value terms and how each is compared.
var filterKeys = map[string]func(*Device) string{
	"kind":      func(d *Device) string { return string(d.Kind) },
	"access":    func(d *Device) string { return string(d.Access) },
	"condition": func(d *Device) string { return string(d.Condition) },
	"make":      func(d *Device) string { return d.Make },
	"model":     func(d *Device) string { return d.Model },
}

// filterWords are the values of keys that have no others.
var filterWords = map[string][]string{
	"kind":      words(Kinds),
	"access":    words([]Access{Fresh, Factory, Keyed, Sealed, Unread, Mute, Unmanaged}),
	"condition": words([]Condition{Settled, Static, Leased, Stray, Clash, Adrift, Bare}),
}

// FilterWords gives the keys of filters with the values that they take; none is any text.
func FilterWords() map[string][]string {
	out := map[string][]string{}
	for key := range filterKeys {
		out[key] = slices.Clone(filterWords[key])
	}
	return out
}

func words[T ~string](list []T) []string {
	out := make([]string, len(list))
	for i, w := range list {
		out[i] = string(w)
	}
	return out
}

// Selector chooses devices. Build one with ParseSelector.
type Selector struct {
	all     bool
	filters map[string][]string
	refs    []string
}

// ParseSelector reads selector terms. `all` and key=value terms narrow each
// other (several values of one key widen it); references to single devices add
// to what the terms chose.
func ParseSelector(terms []string) (Selector, error) {
	s := Selector{filters: map[string][]string{}}
	for _, t := range terms {
		key, value, isFilter := strings.Cut(t, "=")
		switch {
		case t == "all":
			s.all = true
		case isFilter:
			if _, ok := filterKeys[key]; !ok {
				return Selector{}, fmt.Errorf("%q selects nothing%s: use all, kind=, access=, condition=, make=, model=, or a tag, MAC, serial or address", t, text.Meant(key, slices.Collect(maps.Keys(filterKeys))))
			}
			values := []string{value}
			if words, ok := filterWords[key]; ok {
				values = strings.Split(value, ",")
				for _, v := range values {
					if !slices.Contains(words, v) {
						return Selector{}, fmt.Errorf("%q is no %s%s: use %s", v, key, text.Meant(v, words), strings.Join(words, ", "))
					}
				}
			}
			s.filters[key] = append(s.filters[key], values...)
		default:
			for _, ref := range strings.Split(t, ",") {
				if ref = strings.TrimSpace(ref); ref != "" {
					s.refs = append(s.refs, ref)
				}
			}
		}
	}
	return s, nil
}

// Refs gives the references to single devices.
func (s Selector) Refs() []string { return s.refs }

// Choose gives the indexes of the chosen devices, in order. `all` and filters mean
// devices that can be configured and that nobody else has set up (SetApart): never a
// sealed or an unmanaged one, which must be named to be chosen. Filters alone mean an
// unmanaged one where they ask for that access.
func (s Selector) Choose(devices []Device) ([]int, error) {
	var out []int
	if s.all || len(s.filters) > 0 {
		for i := range devices {
			if s.matches(&devices[i]) {
				out = append(out, i)
			}
		}
	}
	for _, ref := range s.refs {
		d, err := Find(devices, ref)
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(devices, func(x Device) bool { return x.MAC == d.MAC && x.Endpoint == d.Endpoint })
		if !slices.Contains(out, i) {
			out = append(out, i)
		}
	}
	slices.Sort(out)
	return out, nil
}

// List gives the indexes of the devices that the terms describe, whether or not
// they can be configured: for looking, not for taking.
func (s Selector) List(devices []Device) ([]int, error) {
	looking := Selector{refs: s.refs}
	out, err := looking.Choose(devices)
	if err != nil {
		return nil, err
	}
	for i := range devices {
		if (s.all || len(s.filters) > 0) && s.fits(&devices[i]) && !slices.Contains(out, i) {
			out = append(out, i)
		}
	}
	slices.Sort(out)
	return out, nil
}

func (s Selector) matches(d *Device) bool {
	if d.NotOurs {
		return false
	}
	if d.SetUpBy != "" && d.InJob == Undecided {
		return false // whose it is has to be said of each
	}
	if _, asked := s.filters["access"]; (!asked || s.all) && !d.Configurable() {
		return false
	}
	return s.fits(d)
}

// fits applies the key=value terms alone.
func (s Selector) fits(d *Device) bool {
	for key, values := range s.filters {
		have := filterKeys[key](d)
		if !slices.ContainsFunc(values, func(v string) bool { return strings.EqualFold(v, have) }) {
			return false
		}
	}
	return true
}

// AssignTags gives a tag to each of the chosen devices that has none: the
// letter of its kind and the next free number of that letter, in the order of
// maker, serial and MAC, so that it never depends on which answer came first.
func AssignTags(devices []Device, chosen []int) {
	next := map[string]int{}
	for i := range devices {
		var letter string
		var n int
		if c, err := fmt.Sscanf(devices[i].Tag, "%1s%d", &letter, &n); err == nil && c == 2 {
			next[letter] = max(next[letter], n)
		}
	}
	order := slices.Clone(chosen)
	slices.SortFunc(order, func(a, b int) int {
		x, y := &devices[a], &devices[b]
		if c := strings.Compare(x.Make, y.Make); c != 0 {
			return c
		}
		if c := strings.Compare(x.Serial, y.Serial); c != 0 {
			return c
		}
		return slices.Compare(x.MAC[:], y.MAC[:])
	})
	for _, i := range order {
		if d := &devices[i]; d.Tag == "" {
			letter := d.TagLetter()
			next[letter]++
			d.Tag = fmt.Sprintf("%s%02d", letter, next[letter])
		}
	}
}
