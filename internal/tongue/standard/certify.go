package standard

import (
	"context"
	"errors"
	"fmt"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/setting"
	"janustat/core/settings/certificate"
	"janustat/internal/authority"
	"janustat/internal/speak/onvif"
)

// keyAlias is what a key of ours is called in a device's keystore, and its certificate.
const keyAlias = "janustat"

// keyEvery is how often a device is asked whether its key is made.
const keyEvery = 500 * time.Millisecond

// errNeither means that somebody shows a certificate that is neither the one on record nor the new one.
var errNeither = errors.New("it shows a certificate that is neither its former nor the new one")

// Vouched implements commission.Vouched.
func (s *session) Vouched() bool {
	a, leaf := s.way.Authority(), s.by.seen.Leaf()
	return a != nil && leaf != nil && a.Vouches(leaf, s.plan.MAC, time.Now())
}

// SiteCertificate implements certificate.Holder. One that is about to end counts as one that is not there.
func (s *session) SiteCertificate(ctx context.Context) (value string, told bool, err error) {
	if s.way.Authority() == nil || !s.Encrypted() {
		return "", false, nil
	}
	if s.Vouched() {
		leaf, at := s.by.seen.Leaf(), s.plan.Target.Address
		switch left := time.Until(leaf.NotAfter); {
		case left < authority.RenewBefore:
			return "until " + leaf.NotAfter.Format(time.DateOnly), true, nil
		case leaf.VerifyHostname(at.String()) == nil:
			return certificate.For(at), true, nil
		case len(leaf.IPAddresses) > 0:
			return "for " + leaf.IPAddresses[0].String(), true, nil
		}
	}
	can, err := s.KeepsKeys(ctx)
	return certificate.None, can, s.lost(err)
}

// Certify implements certificate.Holder.
func (s *session) Certify(ctx context.Context) error {
	a := s.way.Authority()
	if a == nil || !s.Encrypted() {
		return errors.New("the job has no authority, or the device no HTTPS")
	}
	if err := s.TidyKeystore(ctx, keyAlias); err != nil {
		return s.lost(err)
	}
	var der []byte
	err := s.Client.Certify(ctx, keyAlias, s.way.Network().Pace.Of(keyEvery), func(request []byte) (_ []byte, err error) {
		der, err = a.Sign(request, s.plan.MAC, s.plan.Target.Address, time.Now())
		return der, err
	})
	if err != nil && (der == nil || !errors.Is(err, onvif.ErrNoReply) && !errors.Is(err, onvif.ErrUnreachable)) {
		return s.lost(err)
	}
	// Whoever shows it has the key that the request was signed with. An answer that was lost may have been
	// that of a device that took it.
	want, former := authority.Fingerprint(der), s.Certificate()
	t, merr := meetTLS(ctx, s.path, s.at, place{"https", s.plan.TLS.Port, s.servicePath()}, vouchingFor(a.Root, s.plan.MAC), s.way.Network().Pace, func(t *device.TLS) error {
		switch t.Fingerprint {
		case want:
			return nil
		case former:
			return errors.New("it still shows its former certificate")
		}
		return errNeither
	})
	if errors.Is(merr, errNeither) { // it is not the device that answers: whoever meets it next finds that out
		return fmt.Errorf("%w: %w", commission.ErrReplyLost, merr)
	}
	if merr != nil {
		if err != nil || ctx.Err() != nil {
			return s.lost(errors.Join(err, merr))
		}
		return &setting.BrokenError{Told: "it accepts the site's certificate and does not show it. Choose it on its web page", Err: merr}
	}
	s.secure = t
	return nil
}
