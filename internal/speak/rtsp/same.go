package rtsp

import (
	"net/url"
	"strconv"
	"strings"

	"janustat/core/device"
)

// Same reports whether two URIs without users name the same stream (RFC 3986, 6.2): whatever the
// case of scheme and host, with or without the default port, a slash at the end or escapes that
// need not be. What is none is the same as nothing.
func Same(a, b string) bool {
	x, ok := normal(a)
	y, also := normal(b)
	return ok && also && x == y
}

func normal(uri string) (url.URL, bool) {
	u, err := url.Parse(strings.TrimSpace(uri))
	if err != nil || u.Host == "" {
		return url.URL{}, false
	}
	host, port := strings.TrimSuffix(strings.ToLower(u.Hostname()), "."), u.Port()
	scheme := strings.ToLower(u.Scheme)
	if port == strconv.Itoa(int(device.StreamPorts[scheme])) {
		port = ""
	}
	// Path holds it unescaped; a slash that was escaped is another matter.
	path := strings.TrimRight(u.Path, "/")
	if strings.Contains(strings.ToLower(u.EscapedPath()), "%2f") {
		path = strings.TrimRight(u.EscapedPath(), "/")
	}
	query, err := url.QueryUnescape(u.RawQuery)
	if err != nil {
		query = u.RawQuery
	}
	return url.URL{Scheme: scheme, Host: host + ":" + port, Path: path, RawQuery: query}, true
}
