// Package settings lists the settings that are folders of it.
package settings

import (
	"janustat/core/setting"
	"janustat/core/settings/certificate"
	"janustat/core/settings/discovery"
	"janustat/core/settings/https"
	"janustat/core/settings/outside"
	"janustat/core/settings/plainhttp"
	"janustat/core/settings/rtspport"
	"janustat/core/settings/zone"
)

// All are the settings, in the order in which they are set and shown.
var All = []setting.Setting{https.Setting, zone.Setting, rtspport.Setting, outside.Setting, certificate.Setting, plainhttp.Setting, discovery.Setting}

// Wanted gives what a device is to have by what the job sheet says of each, and, by setting, why what is
// meant for it cannot be.
func Wanted(said setting.Values, d setting.Device) (out setting.Values, wrong map[setting.Name]error) {
	for _, s := range All {
		if text := said[s.Name]; text != "" {
			value, err := s.Wanted(text, d)
			if err != nil {
				if wrong == nil {
					wrong = map[setting.Name]error{}
				}
				wrong[s.Name] = err
			}
			if value != "" {
				if out == nil {
					out = setting.Values{}
				}
				out[s.Name] = value
			}
		}
	}
	return out, wrong
}
