package device

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"unicode"
)

// Here is where a site's own addresses are, as far as that is known, and what a person has said
// of single devices.
type Here struct {
	Subnets []netip.Prefix     // of the site
	Said    func(*Device) bool // a person has named the device, in the job sheet; may be nil
}

// SetApart marks the devices that somebody has set up before, outside this job: those that are
// protected, and those with a name or an address that no factory gave them. Such a device is
// nobody's to take among others; it has to be named. A device of the job, one that the job has
// opened, and one that a person has named in the job sheet are not among them.
func SetApart(devices []Device, here Here) {
	called := map[string]int{}
	for i := range devices {
		called[compact(devices[i].Name)]++
	}
	for i := range devices {
		d := &devices[i]
		d.SetUpBy = ""
		if d.Kind == Other || d.NotOurs || d.InJob == Taken || d.Tag != "" || !d.OpenedAt.IsZero() || d.Access == Keyed || here.Said != nil && here.Said(d) {
			continue
		}
		var why []string
		if d.Access == Sealed {
			why = append(why, "protected")
		}
		if d.Access == Fresh || d.Access == Factory {
			if !FactoryName(d) && called[compact(d.Name)] == 1 {
				why = append(why, fmt.Sprintf("called %q", d.Name))
			}
			if d.givenAddress(here.Subnets) {
				why = append(why, "at a fixed address of this network")
			}
		}
		d.SetUpBy = strings.Join(why, ", ")
	}
}

// givenAddress reports whether somebody has given it its address: it is a static one in the
// site's own subnet, which no other device answers for, as those fresh from a factory do.
func (d *Device) givenAddress(here []netip.Prefix) bool {
	s := d.Settings
	if s == nil || s.DHCP || !s.Address.Is4() || len(d.Clashing) > 0 || d.Address() != s.Address || s.Address.IsLinkLocalUnicast() {
		return false
	}
	return slices.ContainsFunc(here, func(p netip.Prefix) bool { return p.Contains(s.Address) })
}

// tradeWords are what factories call devices by, whatever their make.
var tradeWords = map[string]bool{
	"access": true, "ahd": true, "audio": true, "box": true, "bullet": true, "cam": true, "camera": true, "channel": true, "control": true, "controller": true,
	"cube": true, "default": true, "device": true, "digital": true, "dome": true, "door": true, "dvr": true, "fisheye": true, "hd": true, "host": true, "hvr": true, "indoor": true,
	"intercom": true, "kamera": true, "camara": true, "telecamera": true, "caméra": true, "ip": true, "ipc": true, "ipcam": true, "ipcamera": true, "ir": true, "localhost": true, "mini": true, "mp": true, "name": true, "net": true, "netcam": true,
	"network": true, "none": true, "null": true, "nvr": true, "nvt": true, "onvif": true, "outdoor": true, "panel": true, "phone": true, "ptz": true, "recorder": true, "server": true,
	"speaker": true, "station": true, "system": true, "the": true, "turret": true, "unknown": true, "unnamed": true, "vdp": true, "video": true, "wifi": true, "xvr": true,
}

// FactoryName reports whether a device is called as factories call theirs: not at all, by its
// make, model, serial number or MAC, or by words and numbers of the trade.
func FactoryName(d *Device) bool {
	name := compact(d.Name)
	if name == "" {
		return true
	}
	for _, own := range []string{d.Make + d.Model, d.Model, d.Make, d.Serial, d.MAC.String(), d.Registry} { // its host name may be a person's too
		own = compact(own)
		if own != "" && strings.Contains(own, name) || len(own) > 3 && strings.Contains(name, own) {
			return true
		}
	}
	// Many end theirs with the last digits of the MAC.
	if mac := compact(d.MAC.String()); len(name) > 4 && strings.HasSuffix(mac, name[len(name)-4:]) {
		name = strings.TrimRight(name[:len(name)-4], "0123456789abcdef")
		return name == "" || tradeWords[name] || strings.Contains(compact(d.Make+d.Model+string(d.Kind)), name)
	}
	own := map[string]bool{}
	for _, w := range tokens(d.Make + " " + d.Model + " " + string(d.Kind)) {
		own[w] = true
	}
	return !slices.ContainsFunc(tokens(d.Name), func(w string) bool {
		return len(w) > 1 && !tradeWords[w] && !own[w] && strings.Trim(w, "0123456789") != ""
	})
}

// tokens gives the words of a name, in lower case; digits and letters are words apart.
func tokens(name string) []string {
	var b strings.Builder
	last := ' '
	for _, r := range strings.ToLower(name) {
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			r = ' '
		case unicode.IsLetter(r) != unicode.IsLetter(last) && last != ' ':
			b.WriteRune(' ')
		}
		b.WriteRune(r)
		last = r
	}
	return strings.Fields(b.String())
}

// compact gives the letters and digits of a name, in lower case.
func compact(name string) string { return strings.Join(tokens(name), "") }
