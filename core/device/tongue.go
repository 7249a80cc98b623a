package device

import (
	"slices"
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
