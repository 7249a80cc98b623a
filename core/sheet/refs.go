package sheet

import (
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"janustat/core/commission"
	"janustat/core/device"
)

// Among is a job sheet beside the devices that it speaks of. It tells which device a
// reference in the sheet means: a tag, then a MAC, then a serial number. A device says
// its serial itself, so what has the form of a tag, or is the tag of any device, never
// means a serial; nor does a serial that two devices claim.
type Among struct {
	*Sheet
	tags    map[string]bool
	serials map[string]int
}

// Among gives the sheet beside devices.
func (s *Sheet) Among(devices []device.Device) Among {
	a := Among{s, map[string]bool{}, map[string]int{}}
	for i := range devices {
		if t := devices[i].Tag; t != "" {
			a.tags[strings.ToLower(t)] = true
		}
		if serial := devices[i].Serial; serial != "" {
			a.serials[strings.ToLower(serial)]++
		}
	}
	return a
}

// tagForm is that of the tags which devices are given.
var tagForm = regexp.MustCompile(`(?i)^[CDIPRX][0-9]{2,4}$`)

// IsTag reports whether text has the form of a tag.
func IsTag(s string) bool { return tagForm.MatchString(s) }

// how a reference means a device, the surest last.
const (
	notMeant = iota
	bySerial
	byMAC
	byTag
)

func (a Among) means(ref string, d *device.Device) int {
	ref = strings.TrimSpace(ref)
	if d.Tag != "" && strings.EqualFold(ref, d.Tag) {
		return byTag
	}
	if tagForm.MatchString(ref) || a.tags[strings.ToLower(ref)] {
		return notMeant
	}
	if mac, err := device.ParseMAC(ref); err == nil {
		if mac == d.MAC {
			return byMAC
		}
		return notMeant
	}
	if d.Serial != "" && strings.EqualFold(ref, d.Serial) && a.serials[strings.ToLower(ref)] <= 1 {
		return bySerial
	}
	return notMeant
}

func (a Among) anyMeans(list []string, d *device.Device) bool {
	return slices.ContainsFunc(list, func(ref string) bool { return a.means(ref, d) != notMeant })
}

// NameFor gives the name the sheet has for a device, by tag, then MAC, then serial; ""
// when it has none.
func (a Among) NameFor(d *device.Device) string { return a.Names[a.NamedBy(d)] }

// AddressFor gives the address that the sheet names for a device, by tag, then MAC, then
// serial; the zero value where it names none.
func (a Among) AddressFor(d *device.Device) (out netip.Addr) {
	best := notMeant
	for ref, x := range a.Addresses {
		if how := a.means(ref, d); how > best || how == best && how != notMeant && x.Less(out) {
			best, out = how, x
		}
	}
	return out
}

// NamedBy gives the reference by which the sheet names a device, "" when it does not.
func (a Among) NamedBy(d *device.Device) string {
	best, by := notMeant, ""
	for ref, n := range a.Names {
		// Of two ways to write the same reference the first by its text counts.
		if how := a.means(ref, d); how > best || how == best && how != notMeant && n < a.Names[by] {
			best, by = how, ref
		}
	}
	return by
}

// NameBySerial gives the name the sheet has for a serial number that no known device
// has, or "".
func (a Among) NameBySerial(serial string) string {
	if serial == "" || a.serials[strings.ToLower(serial)] > 0 {
		return ""
	}
	return a.NameFor(&device.Device{Facts: device.Facts{Serial: serial}})
}

// UsersOn gives the further users that a device is to have, without passwords.
func (a Among) UsersOn(d *device.Device) (out []commission.Account) {
	for _, u := range a.Users {
		if len(u.On) == 0 || slices.Contains(u.On, string(d.Kind)) || a.anyMeans(u.On, d) {
			out = append(out, commission.Account{Name: u.Name, Level: levels[u.Role]})
		}
	}
	return out
}

// AllowsPlain reports whether the sheet excepts a device from encryption by name.
func (a Among) AllowsPlain(d *device.Device) bool { return a.anyMeans(a.Password.WithoutTLS, d) }

// NeedsTLS reports whether the sheet refuses to set a password of a device without
// encryption.
func (a Among) NeedsTLS(d *device.Device) bool { return a.Password.RequireTLS && !a.AllowsPlain(d) }
