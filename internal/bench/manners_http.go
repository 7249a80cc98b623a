package bench

import (
	"net/http"
	"strings"
	"time"
)

// Manners of HTTP and of its logins, that others look for by name.
const (
	saysClose     = "says close"
	idleShort     = "idle for a second"
	oneConnection = "one connection"
	oldHTTP       = "HTTP 1.0"
	resetsAfter   = "resets"
	wakesLate     = "wakes late"
	stalls        = "stalls"
	pagesOfErrors = "pages of errors"
	oddRealm      = "odd realm"
	noQOP         = "no qop"
	opaque        = "opaque"
)

const (
	stallsEvery = 17
	wakeTime    = 6 * time.Second
	opaqueText  = "5ccc069c403ebaf9f0171e9517f40e41"
)

// idle is how long a device keeps a connection open for further requests.
func (d *Device) idle() time.Duration {
	if d.is(idleShort) {
		return time.Second
	}
	return 0
}

// wakes is how long the device is still over its first answer since it started. The lock is held.
func (d *Device) wakes() time.Duration {
	if !d.is(wakesLate) {
		return 0
	}
	if d.woken.IsZero() {
		d.woken = time.Now()
	}
	return max(0, d.host.port.sw.pace.Of(wakeTime)-time.Since(d.woken))
}

func only5MD5(m Model) bool { return m.Auth == "md5" }

// httpManners are those of connections, of HTTP and of its logins.
var httpManners = map[string]manner{
	saysClose:     {stands: "RFC 9112, 9.6: Connection: close with each answer", weight: 2, group: "connections"},
	idleShort:     {stands: "RFC 9112, 9.5: idle connections are closed after a second", weight: 2, group: "connections"},
	oneConnection: {stands: "practice: one connection at a time, others are hung up on", weight: 1, group: "connections"},
	oldHTTP:       {stands: "RFC 1945: HTTP/1.0", weight: 1, group: "connections"},
	resetsAfter:   {stands: "RFC 9293, 3.5.2; seen: a reset after each answer", weight: 2, group: "connections", needs: plainHTTP},
	wakesLate:     {stands: "seen: six seconds over the first answer since power-on", weight: 2, group: "busy"},
	stalls:        {stands: "seen: every 17th question is never answered", weight: 1, group: "busy"},
	pagesOfErrors: {stands: "RFC 9110, 15.6.1: every 17th answer is 500 and a page", weight: 1, group: "busy"},
	"plain text type": {
		stands: "practice: answers are called text/xml", weight: 1, group: "types",
		head: func(h http.Header) { h.Set("Content-Type", "text/xml") },
	},
	"no type": {
		stands: "RFC 9110, 8.3: Content-Type is optional", weight: 1, group: "types",
		head: func(h http.Header) { h["Content-Type"] = nil },
	},
	"old date": {
		stands: "seen: a Date of 1970, a cookie and a cache that is never to be used", weight: 1, group: "types",
		head: func(h http.Header) {
			h.Set("Date", "Thu, 01 Jan 1970 00:03:12 GMT")
			h.Set("Set-Cookie", "session=0; path=/")
			h.Set("Cache-Control", "no-store")
		},
	},
	oddRealm: {stands: "RFC 9110, 5.6.4: quoted pairs, commas and octets beyond ASCII in a realm", weight: 2, group: "login", needs: digests},
	noQOP: {
		stands: "RFC 2617, 3.2.1: qop is optional", weight: 1, group: "login", needs: only5MD5,
		login: func(c string) []string { return []string{"Digest " + strings.Replace(c, `qop="auth", `, "", 1)} },
	},
	opaque: {
		stands: "RFC 7616, 3.3: opaque comes back unchanged; domain", weight: 1, group: "login", needs: digests,
		login: func(c string) []string {
			return []string{"Digest " + c + `, opaque="` + opaqueText + `", domain="/ /onvif"`}
		},
	},
	"both qops": {
		stands: "RFC 7616, 3.3: auth and auth-int are offered", weight: 1, group: "login", needs: digests,
		login: func(c string) []string {
			return []string{"Digest " + strings.Replace(c, `"auth"`, `"auth,auth-int"`, 1)}
		},
	},
	"basic first": {
		stands: "RFC 9110, 11.6.1: several challenges, the weakest first", weight: 2, group: "login", needs: digests,
		login: func(c string) []string { return []string{`Basic realm="device", charset="UTF-8"`, "Digest " + c} },
	},
	"challenges in a line": {
		stands: "RFC 9110, 11.6.1: several challenges in one field", weight: 2, group: "login", needs: digests,
		login: func(c string) []string { return []string{`Basic realm="device", Digest ` + c} },
	},
	"no algorithm": {
		stands: "RFC 7616, 3.3: without algorithm it is MD5; schemes in any case", weight: 1, group: "login", needs: only5MD5,
		login: func(c string) []string { return []string{"DIGEST " + strings.Replace(c, ", algorithm=MD5", "", 1)} },
	},
	"quoted algorithm": {
		stands: "practice: algorithm in quotes, qop without, white space between", weight: 1, group: "login", needs: only5MD5,
		login: func(c string) []string {
			c = strings.Replace(strings.Replace(c, "algorithm=MD5", `algorithm="MD5"`, 1), `qop="auth"`, "qop=auth", 1)
			return []string{"Digest " + strings.ReplaceAll(c, ", ", " ,  ")}
		},
	},
}
