// Package settings lists the settings that are folders of it.
package settings

import (
	"fmt"

	"janustat/core/setting"
	"janustat/core/settings/certificate"
	"janustat/core/settings/discovery"
	"janustat/core/settings/httpport"
	"janustat/core/settings/https"
	"janustat/core/settings/httpsport"
	"janustat/core/settings/outside"
	"janustat/core/settings/plainhttp"
	"janustat/core/settings/rtspport"
	"janustat/core/settings/zone"
)

// All are the settings, in the order in which they are set and shown.
var All = []setting.Setting{https.Setting, zone.Setting, rtspport.Setting, outside.Setting, certificate.Setting, httpsport.Setting, httpport.Setting, plainhttp.Setting, discovery.Setting}

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
	for name, err := range meeting(said, out, d) {
		if wrong == nil {
			wrong = map[setting.Name]error{}
		}
		wrong[name] = err
		delete(out, name)
	}
	return out, wrong
}

// meeting gives the ports that two devices, or one, would have twice behind one forwarded address.
func meeting(said, wants setting.Values, d setting.Device) map[setting.Name]error {
	type one struct {
		of    setting.Setting
		ports setting.Ports
	}
	var had []one
	out := map[setting.Name]error{}
	for _, s := range All {
		if s.Ports == nil || wants[s.Name] == "" {
			continue
		}
		p, err := s.Ports(said[s.Name])
		if err != nil {
			continue
		}
		for _, o := range had {
			if p.Meets(o.ports, d.Address) {
				way := "take another port"
				if p.Each || o.ports.Each {
					way = fmt.Sprintf("keep them %d apart at least", 1<<(32-d.Address.Bits()))
				}
				out[s.Name] = fmt.Errorf("%s (%s) and %s (%s) meet: %s", s.Key, said[s.Name], o.of.Key, said[o.of.Name], way)
			}
		}
		had = append(had, one{s, p})
	}
	return out
}
