package bench

import (
	"bufio"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"time"
)

// rtspsPort is where a device streams over TLS (RFC 7826, 4.2).
const rtspsPort = 322

// Manners of streams: had in other ways than by RTSP over TCP, and guarded with the rest.
const (
	streamsOverTLS  = "streams over TLS"
	streamsOverHTTP = "streams inside HTTP"
	fixedPorts      = "fixed ports"
	deadRTSP        = "dead RTSP"
	countsViewers   = "counts viewers"
)

// decoded reads what comes in base64 whose pieces are padded each (RFC 4648, 4).
type decoded struct {
	r    *bufio.Reader
	left []byte
}

func (d *decoded) Read(b []byte) (int, error) {
	for len(d.left) == 0 {
		var four [4]byte
		if _, err := io.ReadFull(d.r, four[:]); err != nil {
			return 0, err
		}
		out, err := base64.StdEncoding.DecodeString(string(four[:]))
		if err != nil {
			return 0, err
		}
		d.left = out
	}
	n := copy(b, d.left)
	d.left = d.left[n:]
	return n, nil
}

// serveTunnel plays the device's still inside HTTP (Streaming Specification, RTP/RTSP/HTTP/TCP):
// what a POST brings is what is asked, and goes to the GET of the same session.
func (d *Device) serveTunnel(w http.ResponseWriter, r *http.Request) {
	cookie := r.Header.Get("x-sessioncookie")
	hijacker, ok := w.(http.Hijacker)
	if cookie == "" || !ok || !d.is(streamsOverHTTP) && !d.is(deadRTSP) {
		http.NotFound(w, r)
		return
	}
	d.mu.Lock()
	if d.tunnels == nil {
		d.tunnels = map[string]net.Conn{}
	}
	get := d.tunnels[cookie]
	d.mu.Unlock()
	if r.Method == http.MethodPost && get == nil {
		http.Error(w, "no such session", http.StatusNotFound)
		return
	}
	c, buffered, err := hijacker.Hijack()
	if err != nil {
		return
	}
	d.host.onDown(func() { c.Close() })
	_ = c.SetDeadline(time.Time{})
	if r.Method == http.MethodGet {
		d.mu.Lock()
		d.tunnels[cookie] = c
		d.mu.Unlock()
		_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Type: application/x-rtsp-tunnelled\r\nCache-Control: no-cache\r\n\r\n")
		return
	}
	defer c.Close()
	v := &viewer{d: d, c: get, in: &decoded{r: buffered.Reader}, nonce: randomHex(), session: randomHex()}
	v.serve()
	d.mu.Lock()
	delete(d.tunnels, cookie)
	d.mu.Unlock()
}

// tunnelled is a recorder's conversation with a camera inside HTTP.
type tunnelled struct {
	net.Conn // the GET
	r        *bufio.Reader
	post     net.Conn
}

func (t *tunnelled) Read(b []byte) (int, error) { return t.r.Read(b) }
func (t *tunnelled) Write(b []byte) (int, error) {
	if _, err := io.WriteString(t.post, base64.StdEncoding.EncodeToString(b)); err != nil {
		return 0, err
	}
	return len(b), nil
}
func (t *tunnelled) Close() error { return errors.Join(t.Conn.Close(), t.post.Close()) }

// connect opens the conversation of a recorder with a camera for a stream, and gives the URI
// to ask for in it.
func connect(dial func(netip.AddrPort) (net.Conn, error), uri string) (net.Conn, string, error) {
	u, err := url.Parse(uri)
	if err != nil {
		return nil, "", fmt.Errorf("%q is no address", uri)
	}
	port := map[string]uint16{"rtsp": rtspPort, "rtsps": rtspsPort, "http": 80}[u.Scheme]
	to, err := netip.ParseAddrPort(u.Host)
	if err != nil {
		at, aerr := netip.ParseAddr(u.Host)
		if aerr != nil {
			return nil, "", fmt.Errorf("%q is no address", u.Host)
		}
		to = netip.AddrPortFrom(at, port)
	}
	c, err := dial(to)
	if err != nil {
		return nil, "", fmt.Errorf("no answer from %s", to.Addr())
	}
	switch u.Scheme {
	case "rtsps":
		return tls.Client(c, &tls.Config{InsecureSkipVerify: true}), uri, nil //nolint:gosec // a recorder of the bench
	case "http":
		cookie := randomHex()
		_, err := fmt.Fprintf(c, "GET %s HTTP/1.1\r\nHost: %s\r\nx-sessioncookie: %s\r\n\r\n", u.RequestURI(), u.Host, cookie)
		r := bufio.NewReader(c)
		for line := ""; err == nil && line != "\r\n"; {
			line, err = r.ReadString('\n')
		}
		post, perr := dial(to)
		if err != nil || perr != nil {
			c.Close()
			return nil, "", fmt.Errorf("no answer from %s", to.Addr())
		}
		_, _ = fmt.Fprintf(post, "POST %s HTTP/1.1\r\nHost: %s\r\nx-sessioncookie: %s\r\nContent-Length: 32767\r\n\r\n", u.RequestURI(), u.Host, cookie)
		u.Scheme = "rtsp"
		return &tunnelled{c, r, post}, u.String(), nil
	}
	return c, uri, nil
}
