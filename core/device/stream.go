package device

import (
	"cmp"
	"net/netip"
	"net/url"
	"strings"
)

// StreamPorts are the ports of the schemes that a stream is watched by, where its URI names none:
// RTSP (RFC 2326, 3.2), RTSP over TLS (RFC 7826, 4.2), and inside of HTTP (RFC 9110, 4.2).
var StreamPorts = map[string]uint16{"rtsp": 554, "rtsps": 322, "http": 80, "https": 443}

// URI is where the stream of a device is watched, without the user.
func (s Stream) URI(at netip.Addr) string {
	host, scheme := at.String(), cmp.Or(s.Scheme, "rtsp")
	if s.Port != StreamPorts[scheme] {
		host = netip.AddrPortFrom(at, s.Port).String()
	}
	path, query, _ := strings.Cut(s.Path, "?")
	u := url.URL{Scheme: scheme, Host: host, Path: path, RawQuery: query}
	if raw, err := url.PathUnescape(path); err == nil {
		u.Path, u.RawPath = raw, path
	}
	return u.String()
}
