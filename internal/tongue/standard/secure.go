package standard

import (
	"context"
	"strings"

	"janustat/core/device"
	"janustat/core/setting"
	"janustat/core/settings/https"
	"janustat/internal/speak/onvif"
)

// HTTPS implements https.Switch.
func (s *session) HTTPS(ctx context.Context) (state string, told bool, err error) {
	if s.Encrypted() {
		return https.On, true, nil
	}
	has, serves, _, err := s.Client.HTTPS(ctx)
	if serves {
		return https.Beside, has, s.lost(err)
	}
	return https.Off, has, s.lost(err)
}

// SetHTTPS implements https.Switch. What has been switched on and does not work is switched off again:
// otherwise a later survey would find HTTPS there that nobody can speak, and hold the device up for it.
func (s *session) SetHTTPS(ctx context.Context) error {
	_, served, port, err := s.Client.HTTPS(ctx)
	if err != nil {
		return s.lost(err)
	}
	if !served {
		if err := s.ServeHTTPS(ctx, true, port); err != nil {
			return s.lost(err)
		}
	}
	tls, err := meetTLS(ctx, s.path, s.at, place{"https", port, s.servicePath()}, s.ours(), s.way.Network().Pace, func(*device.TLS) error { return nil })
	if err == nil {
		s.secure = tls
		return nil
	}
	if ctx.Err() != nil {
		return s.lost(err)
	}
	if !served {
		if oerr := s.ServeHTTPS(ctx, false, port); oerr != nil {
			return s.lost(oerr)
		}
	}
	return &setting.BrokenError{Told: "its HTTPS was switched on, does not work, and is off again. Look at it on its web page", Err: err}
}

// ours is what the site's own authority has made for the device.
func (s *session) ours() vouching {
	if a := s.way.Authority(); a != nil {
		return vouchingFor(a.Root, s.plan.MAC)
	}
	return vouchingFor(nil, s.plan.MAC)
}

// servicePath is where the service is, as the plan has it.
func (s *session) servicePath() string {
	if at := strings.IndexByte(s.plan.Service, '/'); at >= 0 {
		return s.plan.Service[at:]
	}
	return onvif.DefaultPath
}

// Secured implements commission.Secured.
func (s *session) Secured() *device.TLS { return s.secure }

// HTTP implements plainhttp.Switch.
func (s *session) HTTP(ctx context.Context) (serves, told bool, err error) {
	has, serves, _, err := s.Client.HTTP(ctx)
	return serves, has, s.lost(err)
}

// SetHTTP implements plainhttp.Switch.
func (s *session) SetHTTP(ctx context.Context, on bool) error {
	_, _, port, err := s.Client.HTTP(ctx)
	if err == nil {
		err = s.ServeHTTP(ctx, on, port)
	}
	return s.lost(err)
}
