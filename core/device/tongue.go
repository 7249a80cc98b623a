package device

import (
	"slices"
	"strconv"
	"strings"
)

// Tongue is a protocol by which a device can be set up, by its name.
type Tongue string

// Standard is the standard device service among tongues.
const Standard Tongue = "onvif"

// Preferred gives the tongues of a device in the order of preference: what the first can do is not
// asked of the others. The standard service is the first, the others follow by name.
func (f *Facts) Preferred() []Tongue {
	out := slices.Sorted(slices.Values(f.Tongues))
	slices.SortStableFunc(out, func(a, b Tongue) int {
		switch {
		case a == b:
			return 0
		case a == Standard:
			return -1
		case b == Standard:
			return 1
		}
		return 0
	})
	return out
}

// ByService is what a sighting is by when the device's own service described it.
const ByService = "device service"

// ServicePort gives the port of its device service without HTTPS, where that is not 80; else 0.
func (f *Facts) ServicePort() uint16 {
	digits, found := strings.CutPrefix(f.Service, ":")
	if at := strings.IndexByte(digits, '/'); found && at > 0 {
		if n, err := strconv.ParseUint(digits[:at], 10, 16); err == nil {
			return uint16(n)
		}
	}
	return 0
}

// SecurePort gives the port of its device service over HTTPS, where it has one and that is not 443; else 0.
func (f *Facts) SecurePort() uint16 {
	if f.TLS == nil || f.TLS.Port == 443 {
		return 0
	}
	return f.TLS.Port
}
