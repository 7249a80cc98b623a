// Package standard is the tongue of the standard device service: it reads what a device tells
// everyone, and opens conversations with it.
package standard

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/internal/reach"
	"janustat/internal/speak/onvif"
	"janustat/internal/tongue"
)

// Timing of meeting a service.
const (
	openLimit = 30 * time.Second       // from answering ARP to answering HTTP
	openEvery = 300 * time.Millisecond // between tries
)

// standard is the standard device service. Its discovery is the survey's own, since it is
// by that that bystanders are told from devices.
type Tongue struct{}

// Name is that of the standard device service among tongues.
const Name = device.Standard

func (Tongue) Name() device.Tongue                       { return Name }
func (Tongue) Seek(*reach.Net) error                     { return nil }
func (Tongue) Hear(*reach.Heard) (device.Sighting, bool) { return device.Sighting{}, false }

// Open implements tongue.Tongue. A device that answers ARP may take a
// while until its service is up.
func (Tongue) Open(ctx context.Context, w tongue.Way, p commission.Plan, at netip.Addr) (commission.Session, error) {
	v, err := w.Visitor(ctx, at)
	if err != nil {
		return nil, err
	}
	path, err := w.Network().Open(v, p.MAC)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeoutCause(ctx, openLimit, errors.New("its service does not answer"))
	defer cancel()
	other, differs := elsewhere(p)
	for tries := 0; ; tries++ {
		if differs && tries > 0 {
			p, other = other, p // in turn
		}
		by := newCarrier(path)
		c := onvif.New("http", hostOf(at), p.Service, by).Veiled(w.Blank())
		if p.TLS != nil {
			// What offered HTTPS is not spoken to without: only a new survey takes that back.
			c = onvif.New("https", hostOf(at), secured(p), by).Veiled(w.Blank())
		}
		c.Expect(expectedOf(p))
		err := c.Greet(ctx)
		if err == nil || !fatal(err) {
			if told, ok := w.Memory().Load(p.MAC); ok {
				c.Recall(told.(map[string][]byte))
			}
			return &session{Client: c, by: by, path: path, way: w, plan: p, at: at, visitor: v}, nil
		}
		c.Close()
		t := time.NewTimer(w.Network().Pace.Of(openEvery))
		select {
		case <-t.C:
		case <-w.Network().Done():
			path.Close()
			return nil, w.Network().Err()
		case <-ctx.Done():
			t.Stop()
			path.Close()
			return nil, fmt.Errorf("%w: %w", context.Cause(ctx), err)
		}
	}
}

// mayBeAhead is by how much a clock that was set may be ahead before that is a leap.
const mayBeAhead = 5 * time.Minute

// expectedOf is what a plan knows of a device's login.
func expectedOf(p commission.Plan) onvif.Expected {
	e := onvif.Expected{Digest: p.Login == device.LoginDigest}
	if p.ClockSet && p.Known {
		e.Ahead = mayBeAhead
	}
	return e
}

// secured is where a plan's service is over HTTPS.
func secured(p commission.Plan) string {
	path := onvif.DefaultPath
	if at := strings.IndexByte(p.Service, '/'); at >= 0 {
		path = p.Service[at:]
	}
	return place{"https", p.TLS.Port, path}.service()
}
