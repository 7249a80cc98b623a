package sheet

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"janustat/core/device"
	"janustat/core/settings"
)

// Remarks tells what in the sheet is most likely not meant, though it can be gone by: tags
// that no device has, names that several devices get, and marks that an editor has left.
func (a Among) Remarks(devices []device.Device) (out []string) {
	if a.Marked {
		out = append(out, "it begins with a byte-order mark, which is passed over")
	}
	has := func(ref string) bool {
		return slices.ContainsFunc(devices, func(d device.Device) bool { return a.means(ref, &d) != notMeant })
	}
	bearers := map[string][]string{}
	for _, ref := range slices.Sorted(maps.Keys(a.Names)) {
		name := strings.ToLower(strings.Join(strings.Fields(a.Names[ref]), " "))
		bearers[name] = append(bearers[name], ref)
		// A serial or a MAC may be of one that is still in its box.
		if IsTag(strings.TrimSpace(ref)) && !has(ref) && len(a.tags) > 0 {
			out = append(out, a.place("names."+ref)+"no device has the tag "+ref)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(bearers)) {
		if refs := bearers[name]; len(refs) > 1 {
			out = append(out, fmt.Sprintf("%s%s are all called %q", a.place("names."+refs[1]), strings.Join(refs, " and "), a.Names[refs[0]]))
		}
	}
	for i, u := range a.Users {
		for n, ref := range u.On {
			if !slices.Contains(device.Kinds, device.Kind(ref)) && IsTag(ref) && !has(ref) && len(a.tags) > 0 {
				out = append(out, fmt.Sprintf("%sno device has the tag %s", a.place(fmt.Sprintf("users[%d].on[%d]", i, n)), ref))
			}
		}
	}
	for i, ref := range a.Password.WithoutTLS {
		if IsTag(ref) && !has(ref) && len(a.tags) > 0 {
			out = append(out, fmt.Sprintf("%sno device has the tag %s", a.place(fmt.Sprintf("password.without_tls[%d]", i)), ref))
		}
	}
	for i := range devices {
		d := &devices[i]
		if d.InJob != device.Taken || d.Allotted == nil {
			continue
		}
		_, wrong := settings.Wanted(a.Settings, d.ForSettings())
		for _, s := range settings.All {
			if err := wrong[s.Name]; err != nil {
				out = append(out, fmt.Sprintf("%s%s: %v", a.place(s.Key), d.Tag, err))
			}
		}
	}
	return out
}

// place tells where something stands in the sheet.
func (s *Sheet) place(path string) string {
	if at, ok := s.At[path]; ok {
		return fmt.Sprintf("line %d, column %d: %s: ", at.Line, at.Column, path)
	}
	return path + ": "
}
