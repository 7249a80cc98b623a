package bench

import (
	"cmp"
	"crypto/tls"
	"errors"
	"net/http"
	"sync"
	"time"
)

// Manners of HTTPS, that others look for by name.
const (
	brokenTLS = "broken https"
	deafPorts = "ports without effect"
)

// secureManners are those.
var secureManners = map[string]manner{
	deafPorts: {stands: "practice: another port is confirmed, and it goes on serving at the former one"},
	brokenTLS: {stands: "practice: HTTPS is switched on, takes connections, and no handshake comes of one"},
}

// serving is which of HTTP and HTTPS a device serves.
type serving struct {
	plain, secure         bool
	plainPort, securePort uint16 // other than the usual ones
}

// servingOf is what a device comes with.
func servingOf(m Model) serving {
	return serving{plain: m.HTTPS != "only", secure: m.HTTPS == "on" || m.HTTPS == "only"}
}

// serve has the device serve so from now on. The lock is held.
func (d *Device) serve(s serving) {
	d.state.serving = s
	d.secureOnly.Store(!s.plain)
	d.plainPort.Store(uint32(s.plainPort))
	d.securePort.Store(uint32(s.securePort))
}

// HoldService keeps the device's service from coming up, whenever it starts, until release is called.
func (d *Device) HoldService() (release func()) {
	d.mu.Lock()
	defer d.mu.Unlock()
	held := make(chan struct{})
	d.held = held
	return sync.OnceFunc(func() { close(held) })
}

func (d *Device) holding() <-chan struct{} {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.held
}

// Serves gives which of HTTP and HTTPS the device serves.
func (d *Device) Serves() (plain, secure bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.state.serving.plain, d.state.serving.secure
}

// Serve has the device serve HTTP and HTTPS or not, as somebody does at its pages.
func (d *Device) Serve(plain, secure bool) {
	d.mu.Lock()
	s := d.state.serving
	s.plain, s.secure = plain, secure
	d.serve(s)
	d.mu.Unlock()
	d.openPages()
}

// openPages has the pages and services of the device served as it is set to: what is so stays as it is.
func (d *Device) openPages() {
	d.paging.Lock()
	defer d.paging.Unlock()
	d.mu.Lock()
	want, model, mux, plain := d.state.serving, d.unit.model, d.pages, d.plainPages
	d.mu.Unlock()
	if mux == nil { // it has not come up
		return
	}
	if d.plainly != nil && (!want.plain || d.opened.plainPort != want.plainPort) {
		_ = d.plainly.Close()
		d.plainly = nil
	}
	if d.securely != nil && (!want.secure || d.opened.securePort != want.securePort) {
		_ = d.securely.Close()
		d.securely = nil
	}
	d.opened = want
	if d.plainly == nil && want.plain {
		d.plainly, _ = d.host.serveOn(cmp.Or(want.plainPort, model.Plain, 80), plain, nil, nil) // one that goes down meanwhile serves nothing
	}
	if d.securely == nil && want.secure {
		d.securely, _ = d.host.serveOn(cmp.Or(want.securePort, 443), mux, nil, tlsOf(d))
	}
}

// tlsOf gives how a device takes connections over TLS: with the certificate that it has at the time.
func tlsOf(d *Device) tlsListening {
	return overTLS(&tls.Config{GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
		time.Sleep(d.unit.TLSDelay) // over its handshake, as small devices are
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.cert == nil || d.is(brokenTLS) {
			return nil, errors.New("it has no certificate")
		}
		return d.certificate(), nil
	}})
}

// paged takes down what the device serves once it has come up.
func (d *Device) paged(mux, plain http.Handler) {
	d.mu.Lock()
	d.pages, d.plainPages = mux, plain
	d.mu.Unlock()
	d.paging.Lock()
	d.plainly, d.securely = nil, nil // they went down with the stack
	d.paging.Unlock()
}
