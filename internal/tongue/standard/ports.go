package standard

import (
	"context"
	"fmt"
	"strings"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/setting"
	"janustat/core/settings/httpport"
	"janustat/core/settings/httpsport"
	"janustat/internal/speak/onvif"
)

// HTTPPort implements httpport.Keeper.
func (s *session) HTTPPort(ctx context.Context) (port uint16, told bool, err error) {
	has, serves, port, err := s.Client.HTTP(ctx)
	return port, has && serves, s.lost(err)
}

// SetHTTPPort implements httpport.Keeper.
func (s *session) SetHTTPPort(ctx context.Context, port uint16) error {
	_, _, was, err := s.Client.HTTP(ctx)
	if err == nil {
		err = s.ServeHTTP(ctx, true, port)
	}
	if err != nil {
		return s.lost(err)
	}
	there := place{"http", port, s.servicePath()}.service()
	if s.Encrypted() { // it goes on as it was
		s.moved = there
		return nil
	}
	err = s.answersAt(ctx, there)
	if err == nil {
		s.moved = there
		return nil
	}
	if ctx.Err() != nil {
		return s.lost(err)
	}
	if oerr := s.ServeHTTP(ctx, true, was); oerr != nil {
		return s.lost(oerr)
	}
	return &setting.BrokenError{Told: fmt.Sprintf("accepts %d as its HTTP port and does not answer there: its former one is set again", port), Err: err}
}

// answersAt waits until the service answers at another place.
func (s *session) answersAt(ctx context.Context, there string) error {
	ctx, cancel := context.WithTimeoutCause(ctx, s.way.Network().Pace.Of(switchLimit), fmt.Errorf("no answer at its new port"))
	defer cancel()
	for {
		c := onvif.New("http", hostOf(s.at), there, newCarrier(s.path)).Veiled(s.way.Blank())
		err := c.Greet(ctx)
		c.Close()
		if err == nil || !fatal(err) {
			return nil
		}
		select {
		case <-time.After(openEvery):
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// HTTPSPort implements httpsport.Keeper.
func (s *session) HTTPSPort(ctx context.Context) (port uint16, told bool, err error) {
	if !s.Encrypted() {
		return 0, false, nil
	}
	has, serves, port, err := s.Client.HTTPS(ctx)
	return port, has && serves, s.lost(err)
}

// SetHTTPSPort implements httpsport.Keeper.
func (s *session) SetHTTPSPort(ctx context.Context, port uint16) error {
	was := s.plan.TLS.Port
	if err := s.ServeHTTPS(ctx, true, port); err != nil {
		return s.lost(err)
	}
	shown := s.Certificate()
	tls, err := meetTLS(ctx, s.path, s.at, place{"https", port, s.servicePath()}, s.ours(), s.way.Network().Pace, func(t *device.TLS) error {
		if t.Fingerprint != shown && !t.OfSite {
			return fmt.Errorf("%w: it shows another certificate there", errNeither)
		}
		return nil
	})
	if err == nil {
		s.secure = tls
		return nil
	}
	if ctx.Err() != nil {
		return s.lost(err)
	}
	if oerr := s.ServeHTTPS(ctx, true, was); oerr != nil {
		return s.lost(oerr)
	}
	return &setting.BrokenError{Told: fmt.Sprintf("accepts %d as its HTTPS port and does not answer there: its former one is set again", port), Err: err}
}

// Moved implements commission.Moved.
func (s *session) Moved() string { return s.moved }

// elsewhere gives a plan by the ports that the device is to have: a run that was cut off may have set them.
func elsewhere(p commission.Plan) (commission.Plan, bool) {
	path := p.Service
	if at := strings.IndexByte(path, '/'); at >= 0 {
		path = path[at:]
	}
	name := httpport.Name
	if p.TLS != nil {
		name = httpsport.Name
	}
	var port uint16
	if _, err := fmt.Sscanf(p.Wants[name], "%d", &port); err != nil {
		return p, false
	}
	if p.TLS != nil {
		t := *p.TLS
		t.Port = port
		was := p.TLS.Port
		p.TLS = &t
		return p, was != port
	}
	there := place{"http", port, orDefault(path)}.service()
	was := p.Service
	p.Service = there
	return p, was != there
}

func orDefault(path string) string {
	if path == "" {
		return onvif.DefaultPath
	}
	return path
}
