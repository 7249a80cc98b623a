package wsd

import (
	"net/url"
	"strings"

	"janustat/core/text"
)

// scopeRoot begins the scopes that the device standard defines.
const scopeRoot = "onvif://www.onvif.org/"

// Scopes are what a device's standard scopes say of it. Unknown scopes are left out.
type Scopes struct {
	Name     string
	Hardware string
	Location string
	Types    []string // such as video_encoder, audio_encoder
	Profiles []string // such as Streaming, G, C
}

// ReadScopes reads scope URIs; percent-escapes are resolved.
func ReadScopes(uris []string) Scopes {
	var s Scopes
	for _, u := range uris {
		rest, ok := strings.CutPrefix(u, scopeRoot)
		if !ok {
			continue
		}
		category, value, ok := strings.Cut(rest, "/")
		if !ok {
			continue
		}
		if plain, err := url.PathUnescape(value); err == nil {
			value = plain
		}
		value = text.Harmless(value, text.Short, nil)
		switch strings.ToLower(category) {
		case "name":
			s.Name = value
		case "hardware":
			s.Hardware = value
		case "location":
			s.Location = value
		case "type":
			s.Types = append(s.Types, strings.ToLower(value))
		case "profile":
			s.Profiles = append(s.Profiles, value)
		}
	}
	return s
}

// NameScope gives the scope URI of a name.
func NameScope(name string) string { return scopeRoot + "name/" + url.PathEscape(name) }

// IsNameScope reports whether a scope URI holds the device's name.
func IsNameScope(uri string) bool {
	return strings.HasPrefix(strings.ToLower(uri), scopeRoot+"name/")
}
