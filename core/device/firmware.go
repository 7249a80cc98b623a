package device

import "time"

// Upgraded is that the device was found with a version of its firmware, after that was to be replaced.
type Upgraded struct {
	At      time.Time
	Version string
}

func (e Upgraded) apply(d *Device) {
	if d.Firmware != e.Version {
		d.Firmware = e.Version
		d.touched(e.At)
	}
}
