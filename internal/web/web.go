// Package web shows devices' own pages in a browser of this laptop: a reverse
// proxy that listens on loopback only, each device under a host name nobody can
// guess, carried to the device by whatever dialer it is given. It fills in no
// password and changes no page beyond the addresses in it.
package web

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"html"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"net/netip"
	"strconv"
	"sync"
	"time"

	"janustat/internal/secure"
)

// Dial opens a TCP connection to a port of one device.
type Dial func(ctx context.Context, port uint16) (net.Conn, error)

// Port is a port of a device with what is spoken there.
type Port struct {
	Number uint16
	TLS    bool
}

func (p Port) scheme() string {
	if p.TLS {
		return "https"
	}
	return "http"
}

// usual reports whether the port is the scheme's own, which URLs leave out.
func (p Port) usual() bool { return p == Port{80, false} || p == Port{443, true} }

// Device is a device whose pages are shown.
type Device struct {
	Label   string
	Address netip.Addr // as the device's own pages name it
	Dial    Dial
	// Pin is the certificate that it is known by, as its SHA-256 in hexadecimal: then nothing
	// else is shown, on any port, but what is shown under it. "" is none.
	Pin string

	doors int // of its ports that are open; the server's
}

// host is the device's address as it stands in a URL.
func (d *Device) host() string {
	if d.Address.Is6() {
		return "[" + d.Address.WithZone("").String() + "]"
	}
	return d.Address.String()
}

// Server serves pages of devices on one loopback port.
type Server struct {
	listener net.Listener
	log      *slog.Logger

	mu    sync.Mutex
	doors map[string]*door // by host name
	byKey map[doorKey]*door
}

type doorKey struct {
	device *Device
	port   Port
}

// door is one port of one device, under its own host name.
type door struct {
	server *Server
	device *Device
	port   Port
	name   string // host name, without the port
	proxy  *httputil.ReverseProxy
	mend   *mender
	seen   *secure.Seen // of the device's encryption
}

// Listen opens a port on loopback.
func Listen(log *slog.Logger) (*Server, error) {
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("listen on loopback: %w", err)
	}
	return &Server{listener: l, log: log, doors: map[string]*door{}, byKey: map[doorKey]*door{}}, nil
}

// headerLimit bounds how long a browser may take over its question.
const headerLimit = 20 * time.Second

// Serve answers until ctx ends.
func (s *Server) Serve(ctx context.Context) error {
	srv := &http.Server{Handler: s, ReadHeaderTimeout: headerLimit, BaseContext: func(net.Listener) context.Context { return ctx }, ErrorLog: slog.NewLogLogger(s.log.Handler(), slog.LevelDebug)}
	stop := context.AfterFunc(ctx, func() { _ = srv.Close() })
	defer stop()
	if err := srv.Serve(s.listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// domain is where every name leads to loopback (RFC 6761, 6.3).
const domain = ".localhost"

// Open gives the link to a port of a device.
func (s *Server) Open(d *Device, p Port) string {
	return "http://" + s.authority(s.door(d, p, maxPort)) + "/"
}

// How many ports of one device are opened: what a person asks for always is, what its pages
// lead to as long as there are no more than any device serves.
const (
	maxDoors = 64
	maxPort  = 1 << 16
)

func (s *Server) authority(d *door) string {
	return net.JoinHostPort(d.name, strconv.Itoa(s.listener.Addr().(*net.TCPAddr).Port))
}

// door gives the door of a port, or nil where the device would have more than so many.
func (s *Server) door(d *Device, p Port, most int) *door {
	s.mu.Lock()
	defer s.mu.Unlock()
	key := doorKey{d, p}
	if have := s.byKey[key]; have != nil {
		return have
	}
	if d.doors++; d.doors > most {
		return nil
	}
	raw := make([]byte, 16)
	_, _ = rand.Read(raw) // never fails (crypto/rand)
	x := &door{server: s, device: d, port: p, name: hex.EncodeToString(raw) + domain}
	x.mend = newMender(d.host(), func(p Port) string {
		if to := s.door(d, p, maxDoors); to != nil {
			return s.authority(to)
		}
		return ""
	})
	x.proxy = &httputil.ReverseProxy{
		Transport: x.transport(), Rewrite: x.ask, ModifyResponse: x.answer, FlushInterval: -1,
		ErrorHandler: x.fail, ErrorLog: slog.NewLogLogger(s.log.Handler(), slog.LevelDebug),
	}
	s.doors[x.name], s.byKey[key] = x, x
	return x
}

// ServeHTTP finds the door by the host name asked for. Without it there is
// nothing to be seen, so that no other page in the browser can reach a device.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	name, _, err := net.SplitHostPort(r.Host)
	if err != nil {
		name = r.Host
	}
	s.mu.Lock()
	d := s.doors[name]
	s.mu.Unlock()
	if d == nil {
		http.NotFound(w, r)
		return
	}
	if d.device.Pin != "" && !d.port.TLS {
		d.fail(w, r, errUnproven)
		return
	}
	d.proxy.ServeHTTP(w, r)
}

// errUnproven is for a port that proves nothing, of a device that has a certificate on record.
var errUnproven = errors.New("nothing on this port proves who answers, and the device's certificate is on record; nobody is to type a password here")

// Limits towards a device: small ones have few sockets and little patience.
const (
	maxConnections = 6
	idleLimit      = 15 * time.Second
	answerLimit    = 60 * time.Second
)

func (d *door) transport() *http.Transport {
	d.seen = secure.Expect(d.device.Pin)
	return &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) { return d.device.Dial(ctx, d.port.Number) },
		// A device's certificate is its own: who it is, the pin says, or else the path to its MAC.
		TLSClientConfig:    secure.Config(d.seen),
		DisableCompression: true, MaxConnsPerHost: maxConnections, IdleConnTimeout: idleLimit, ResponseHeaderTimeout: answerLimit,
	}
}

func (d *door) fail(w http.ResponseWriter, _ *http.Request, err error) {
	d.server.log.Debug("page not shown", "device", d.device.Label, "err", err)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(http.StatusBadGateway)
	what, then := "does not answer on port %d: %s.", "It may be restarting: reload in half a minute."
	if errors.Is(err, errUnproven) || errors.Is(err, secure.ErrChanged) {
		what, then = "is not shown on port %d: %s.", "If it got another certificate on purpose, survey and prove it again."
	}
	fmt.Fprintf(w, "<!doctype html><title>%s</title><p>%s "+what+"</p><p>%s</p>",
		html.EscapeString(d.device.Label), html.EscapeString(d.device.Label), d.port.Number, html.EscapeString(err.Error()), then)
}

// base is how the device's own pages name this port.
func (d *door) base() string { return d.port.scheme() + "://" + d.authority() }

func (d *door) authority() string {
	if d.port.usual() {
		return d.device.host()
	}
	return d.device.host() + ":" + strconv.Itoa(int(d.port.Number))
}

// Forward carries plain TCP between a new loopback port and a port of a device
// until ctx ends, and gives the loopback address.
func Forward(ctx context.Context, d *Device, port uint16, log *slog.Logger) (netip.AddrPort, error) {
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		return netip.AddrPort{}, fmt.Errorf("listen on loopback: %w", err)
	}
	context.AfterFunc(ctx, func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return // ctx has ended
			}
			go join(ctx, c, d, port, log)
		}
	}()
	return l.Addr().(*net.TCPAddr).AddrPort(), nil
}
