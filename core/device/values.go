package device

import (
	"maps"
	"net/netip"

	"janustat/core/setting"
	"janustat/core/settings/zone"
)

// All gives the values of the settings that are folders of their own, as far as they are recorded.
func (s *Settings) All() setting.Values {
	out := setting.Values{}
	maps.Copy(out, s.Values)
	if s.Zone != "" { // it was recorded before there were others, by a name of its own
		out[zone.Name] = s.Zone
	}
	return out
}

// ForSettings gives what settings may go by: the address is the allotted one.
func (d *Device) ForSettings() setting.Device {
	out := setting.Device{Camera: d.Kind == Camera || d.Kind == Intercom && !d.Indoor}
	if to := d.Allotted; to != nil {
		out.Address = netip.PrefixFrom(to.Address, to.Prefix)
	}
	return out
}

// Setting gives a setting as the device was read last, else as it was left, else as it was found; "" is
// not known, or what is said of one that does not tell it.
func (d *Device) Setting(s setting.Setting) string {
	for _, of := range []*Settings{d.Settings, d.AsLeft, d.AsFound} {
		if of != nil {
			if value := of.All()[s.Name]; value != "" {
				return value
			}
		}
	}
	if d.AsLeft != nil {
		return s.Untold
	}
	return ""
}

// Keep records values.
func (s *Settings) Keep(values setting.Values) {
	s.Values = maps.Clone(s.Values)
	for name, value := range values {
		if name == zone.Name {
			s.Zone = value
			continue
		}
		if s.Values == nil {
			s.Values = setting.Values{}
		}
		s.Values[name] = value
	}
}
