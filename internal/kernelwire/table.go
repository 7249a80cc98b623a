package kernelwire

import (
	"net/netip"
	"regexp"
	"strings"

	"janustat/core/device"
)

// neighbourLine is a line of `arp -a`: an address, in brackets on macOS, and a MAC, whose
// octets are parted by hyphens on Windows and lack leading zeros on macOS.
var neighbourLine = regexp.MustCompile(`(?i)\(?\b(\d{1,3}(?:\.\d{1,3}){3})\)?\s+(?:at\s+)?([0-9a-f]{1,2}(?:[:-][0-9a-f]{1,2}){5})\b`)

// parseTable reads what `arp -a` writes, in any language.
func parseTable(text string) map[netip.Addr]device.MAC {
	out := map[netip.Addr]device.MAC{}
	for _, m := range neighbourLine.FindAllStringSubmatch(text, -1) {
		octets := strings.FieldsFunc(m[2], func(r rune) bool { return r == ':' || r == '-' })
		for i, o := range octets {
			if len(o) == 1 {
				octets[i] = "0" + o
			}
		}
		a, err := netip.ParseAddr(m[1])
		mac, merr := device.ParseMAC(strings.Join(octets, ":"))
		if err == nil && merr == nil && !mac.IsZero() && !mac.IsGroup() {
			out[a] = mac
		}
	}
	return out
}
