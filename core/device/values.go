package device

import (
	"maps"

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
