package web

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/http/httputil"
	"regexp"
	"strconv"
	"strings"
)

// mender puts our own addresses in the place of a device's, and back.
type mender struct {
	links *regexp.Regexp
	at    func(Port) string // our authority for a port of the device; empty where it has too many
}

// newMender mends absolute links to a host: with a scheme, as in a page or with
// slashes escaped as in JSON, or without one as in //host/path.
func newMender(host string, at func(Port) string) *mender {
	return &mender{
		links: regexp.MustCompile(`(?i)(https?:|wss?:|)(\\?/\\?/)` + regexp.QuoteMeta(host) + `(?::([0-9]{1,5}))?`),
		at:    at,
	}
}

// out mends what comes from the device. base is the port that it came from,
// whose scheme a link without one has.
func (m *mender) out(text []byte, base Port) []byte {
	var b bytes.Buffer
	last := 0
	for next := 0; b.Len() < maxMended; {
		at := m.links.FindSubmatchIndex(text[next:])
		if at == nil {
			break
		}
		for i := range at {
			if at[i] >= 0 {
				at[i] += next
			}
		}
		if next = at[1]; continues(text, at) {
			continue
		}
		scheme := strings.ToLower(string(text[at[2]:at[3]]))
		port := Port{Number: 80}
		switch scheme {
		case "https:", "wss:":
			port = Port{443, true}
		case "":
			port = base
			if !port.usual() {
				port = Port{Number: 80, TLS: base.TLS}
			}
		}
		if at[6] >= 0 {
			n, err := strconv.ParseUint(string(text[at[6]:at[7]]), 10, 16)
			if err != nil {
				continue
			}
			port.Number = uint16(n)
		}
		own := m.at(port)
		if own == "" {
			continue // the link stays, and leads nowhere from here
		}
		b.Write(text[last:at[0]])
		switch scheme {
		case "ws:", "wss:":
			b.WriteString("ws:")
		case "http:", "https:":
			b.WriteString("http:")
		}
		b.Write(text[at[4]:at[5]])
		b.WriteString(own)
		last = at[1]
	}
	b.Write(text[last:])
	return b.Bytes()
}

// continues reports whether a match is only the beginning of another host, such
// as 192.168.77.2 of 192.168.77.20, or no link but a path with a double slash.
func continues(text []byte, at []int) bool {
	if at[1] < len(text) {
		switch c := text[at[1]]; {
		case c >= '0' && c <= '9', c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c == '-':
			return true
		case c == '.' && at[1]+1 < len(text):
			next := text[at[1]+1]
			return next >= '0' && next <= '9' || next >= 'a' && next <= 'z'
		}
	}
	bare := at[2] == at[3]
	return bare && at[0] > 0 && !strings.ContainsRune("\"'`(=, \t\n<>", rune(text[at[0]-1]))
}

// ask makes a browser's question one that the device itself was asked.
func (d *door) ask(r *httputil.ProxyRequest) {
	out := r.Out
	out.URL.Scheme, out.URL.Host, out.Host = d.port.scheme(), d.authority(), d.authority()
	// Pages are mended as text, so they must not come packed.
	out.Header.Set("Accept-Encoding", "identity")
	own := "http://" + d.server.authority(d)
	for _, name := range []string{"Origin", "Referer"} {
		if v := out.Header.Get(name); v != "" {
			out.Header.Set(name, strings.Replace(v, own, d.base(), 1))
		}
	}
}

// answer makes the device's answer one that works from here.
func (d *door) answer(r *http.Response) error {
	for _, name := range []string{"Location", "Content-Location", "Refresh", "Content-Security-Policy", "Access-Control-Allow-Origin", "Link"} {
		for i, v := range r.Header[name] {
			r.Header[name][i] = string(d.mend.out([]byte(v), d.port))
		}
	}
	// What would turn the browser away from this plain loopback address.
	r.Header.Del("Strict-Transport-Security")
	r.Header.Del("Alt-Svc")
	if csp := r.Header.Get("Content-Security-Policy"); csp != "" {
		r.Header.Set("Content-Security-Policy", strings.ReplaceAll(csp, "upgrade-insecure-requests", ""))
	}
	for i, v := range r.Header["Set-Cookie"] {
		r.Header["Set-Cookie"][i] = mendCookie(v)
	}
	if r.StatusCode == http.StatusSwitchingProtocols || !mendable(r.Header.Get("Content-Type")) {
		return nil
	}
	return d.mendBody(r)
}

// mendCookie drops what binds a cookie to the device's own address or to
// encryption: our host names are one for each device already.
func mendCookie(v string) string {
	parts := strings.Split(v, ";")
	kept := parts[:1]
	for _, p := range parts[1:] {
		key, value, _ := strings.Cut(strings.ToLower(strings.TrimSpace(p)), "=")
		if key == "domain" || key == "secure" || key == "samesite" && value == "none" {
			continue
		}
		kept = append(kept, p)
	}
	return strings.Join(kept, ";")
}

// mendable reports whether a body is text that may hold links.
func mendable(contentType string) bool {
	t, _, err := mime.ParseMediaType(contentType)
	if err != nil {
		return false
	}
	switch t {
	case "text/html", "text/css", "text/javascript", "application/javascript", "application/x-javascript",
		"application/json", "text/xml", "application/xml", "application/xhtml+xml", "image/svg+xml":
		return true
	}
	return false
}

// maxPage bounds a page that is mended; a longer one passes as it is.
const maxPage = 16 << 20

// maxMended bounds what a page may grow to: past that, its links stay as they are.
const maxMended = 2 * maxPage

func (d *door) mendBody(r *http.Response) error {
	data, err := io.ReadAll(io.LimitReader(r.Body, maxPage+1))
	if err != nil {
		return fmt.Errorf("page cut short: %w", err)
	}
	if len(data) > maxPage {
		r.Body = struct {
			io.Reader
			io.Closer
		}{io.MultiReader(bytes.NewReader(data), r.Body), r.Body}
		return nil
	}
	r.Body.Close()
	// Some devices pack their pages whatever they were asked.
	if strings.EqualFold(r.Header.Get("Content-Encoding"), "gzip") {
		if plain, err := unpack(data); err == nil {
			data = plain
			r.Header.Del("Content-Encoding")
		}
	}
	if r.Header.Get("Content-Encoding") == "" {
		data = d.mend.out(data, d.port)
	}
	r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(data)), int64(len(data))
	r.Header.Set("Content-Length", strconv.Itoa(len(data)))
	r.TransferEncoding = nil
	return nil
}

func unpack(data []byte) ([]byte, error) {
	z, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(z, maxPage))
}
