package device

import (
	"slices"

	"janustat/core/text"
)

// Sort puts devices into the order in which people read them: those with a tag first,
// then by kind, tag, address and MAC.
func Sort(devices []Device) {
	slices.SortStableFunc(devices, func(x, y Device) int {
		if (x.Tag == "") != (y.Tag == "") {
			if x.Tag == "" {
				return 1
			}
			return -1
		}
		if c := x.Kind.Order() - y.Kind.Order(); c != 0 {
			return c
		}
		if c := text.Natural(x.Tag, y.Tag); c != 0 {
			return c
		}
		if c := x.Address().Compare(y.Address()); c != 0 {
			return c
		}
		return slices.Compare(x.MAC[:], y.MAC[:])
	})
}

// OfJob gives the devices that are in the job, in the order of Sort.
func OfJob(devices []Device) []Device {
	out := slices.DeleteFunc(slices.Clone(devices), func(d Device) bool { return d.InJob != Taken })
	Sort(out)
	return out
}

// ByID gives the device of an ID, which must be among them.
func ByID(devices []Device, id int64) *Device {
	return &devices[slices.IndexFunc(devices, func(d Device) bool { return d.ID == id })]
}

// ByMAC gives the device with a MAC, or nil.
func ByMAC(devices []Device, mac MAC) *Device {
	at := slices.IndexFunc(devices, func(d Device) bool { return d.MAC == mac })
	if at < 0 {
		return nil
	}
	return &devices[at]
}
