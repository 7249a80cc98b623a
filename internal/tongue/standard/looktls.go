package standard

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sync/atomic"
	"time"

	"janustat/core/device"
	"janustat/core/text"
	"janustat/internal/authority"
	"janustat/internal/pace"
	"janustat/internal/reach"
	"janustat/internal/speak/onvif"
	"janustat/internal/speak/soap"
	"janustat/internal/speak/wsd"
)

// vouching reports whether a certificate is the site's own of the device that is looked at.
type vouching func(*x509.Certificate) bool

// vouchingFor is that of a device, by the root of the site's authority, which may be nil.
func vouchingFor(root *authority.Root, mac device.MAC) vouching {
	return func(c *x509.Certificate) bool { return root != nil && c != nil && root.Vouches(c, mac, time.Now()) }
}

// securePlaces gives where the service may be over HTTPS: where the device says, where it was met before, at the
// well-known port, and at the other that is common if it is open.
func securePlaces(all []place, open []uint16, met uint16) (out []place) {
	for _, w := range all {
		if w.scheme == "https" {
			out = append(out, w)
		}
	}
	for _, port := range []uint16{met, httpsPort, otherHTTPS} {
		w := place{"https", port, all[0].path}
		if port != 0 && !slices.Contains(out, w) && (port == met || port == httpsPort || slices.Contains(open, port)) {
			out = append(out, w)
		}
	}
	return out
}

// How long a device may take to show that it speaks HTTPS: where it says that it does,
// and where it only might.
const (
	announcedLimit = 25 * time.Second
	tlsLook        = 8 * time.Second
)

// lookTLS looks whether the device service answers over HTTPS, and takes down what it
// finds. Nothing but the time is asked, which a device tells everyone. HTTPS that is
// announced, or whose port is open, is never taken for absent because it is slow.
func lookTLS(ctx context.Context, path *reach.Path, h Host, m *wsd.Match, ours vouching, f *device.Facts) {
	all, at := placesOf(m), h.Addr
	var mute string
	for _, w := range securePlaces(all, f.Ports, h.Met.HTTPS) {
		announced := len(m.XAddrs) > 0 && slices.Contains(all, w)
		limit := tlsLook
		if announced {
			limit = announcedLimit
		}
		tls, open, err := askTLS(ctx, path, at, w, ours, limit)
		if to, led := ledTo(w, at, err); led {
			if to.scheme != "https" {
				continue // its service is without, by its own word
			}
			tls, open, err = askTLS(ctx, path, at, to, ours, limit)
		}
		if err == nil {
			f.TLS, f.Ports = tls, append(f.Ports, w.port)
			return
		}
		var fault *soap.Fault
		if !announced && (!open || errors.As(err, &fault)) {
			continue // no such port, or other pages than the service
		}
		if open || announced {
			mute = fmt.Sprintf("port %d: %s", w.port, text.Harmless(err.Error(), text.Long, nil))
		}
	}
	if f.MuteTLS = mute; mute == "" {
		f.NoTLS = true
	}
}

// switchLimit is how long a device may take, once its HTTPS was switched on, until it answers over it:
// some make their key only then.
const switchLimit = 40 * time.Second

// alertLimit is how long it may answer a handshake by an alert.
const alertLimit = 10 * time.Second

// meetTLS asks at one place until there is an answer that fits: a port may open a while after it was
// switched on.
func meetTLS(ctx context.Context, path *reach.Path, at netip.Addr, w place, ours vouching, p pace.Pace, fits func(*device.TLS) error) (*device.TLS, error) {
	limit := p.Of(switchLimit)
	ctx, cancel := context.WithTimeoutCause(ctx, limit, fmt.Errorf("no answer over it within %s", limit))
	defer cancel()
	begun := time.Now()
	for {
		t, _, err := askTLS(ctx, path, at, w, ours, limit)
		if err == nil {
			if err = fits(t); err == nil {
				return t, nil
			}
			if errors.Is(err, errNeither) {
				return nil, err
			}
		}
		var alert *net.OpError // crypto/tls gives an alert of the other end so
		if errors.As(err, &alert) && alert.Op == "remote error" && time.Since(begun) > p.Of(alertLimit) {
			return nil, err
		}
		select {
		case <-time.After(openEvery):
		case <-ctx.Done():
			return nil, err
		}
	}
}

// shownTLS is what a device has shown of its encryption at a port.
func shownTLS(port uint16, c *carrier, ours vouching) *device.TLS {
	t := &device.TLS{Port: port, Fingerprint: c.seen.Fingerprint(), Weak: c.seen.Weak()}
	if leaf := c.seen.Leaf(); leaf != nil {
		t.OfSite, t.Ends = ours(leaf), leaf.NotAfter.UTC()
	}
	return t
}

// askTLS asks at one place. open tells whether the port takes connections.
func askTLS(ctx context.Context, path *reach.Path, at netip.Addr, w place, ours vouching, limit time.Duration) (t *device.TLS, open bool, err error) {
	ctx, cancel := context.WithTimeoutCause(ctx, limit, fmt.Errorf("no answer within %s", limit))
	defer cancel()
	c := newCarrier(path)
	defer c.CloseIdleConnections()
	dial := c.DialContext
	var connected atomic.Bool
	c.DialContext = func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := dial(ctx, network, address)
		if err == nil {
			connected.Store(true)
		}
		return conn, err
	}
	for {
		client := onvif.New("https", hostOf(at), w.service(), c)
		_, _, err = client.Clock(ctx)
		client.Close()
		switch {
		case err == nil:
			return shownTLS(w.port, c, ours), true, nil
		case ctx.Err() != nil:
			return nil, connected.Load(), context.Cause(ctx)
		case !connected.Load() || !errors.Is(err, onvif.ErrNoReply):
			return nil, connected.Load(), err
		}
		select { // it took the connection and was lost: once more
		case <-time.After(openEvery):
		case <-ctx.Done():
		}
	}
}
