package commission

import (
	"context"
	"errors"
	"fmt"

	"janustat/core/advice"
)

// AlarmError tells that a device which was opened before is not what it was. Nothing
// of the keyring was offered to it.
type AlarmError struct{ Why string }

// Error gives the reason.
func (e *AlarmError) Error() string { return e.Why }

// alarmed makes the trouble of an alarm.
func alarmed(p Plan, why string) error {
	return trouble(&AlarmError{why}, advice.Say(
		"look at the device. If you reset or replaced it: %s (it gets a new password). If not: ask whoever runs the network to disconnect it, then run %s", advice.Restore.On(p.Tag), advice.Survey),
		"identity changed since it was set up, so no password was sent to it")
}

// Recognise makes sure that a device is the planned one before any password is offered
// to it or set on it: by its certificate where one is pinned, and by its serial number
// or else its endpoint reference; its MAC is that of the path. renews tells that it
// may have made itself another certificate since, which is then given.
func Recognise(ctx context.Context, s Session, p Plan, renews bool) (certificate string, err error) {
	if p.MuteTLS != "" {
		return "", trouble(nil, advice.Say("run %s again; if it stays so, look at its own page (%s), or except it under password.without_tls in the job sheet", advice.Survey, advice.Web.On(p.Tag)),
			"its HTTPS does not work, so no password was sent to it unencrypted ("+p.MuteTLS+")")
	}
	if p.TLS != nil {
		shown := s.Certificate()
		switch {
		case shown == p.TLS.Fingerprint:
		case vouched(s): // as a run left it that was cut short
			certificate = shown
		case renews && shown != "":
			certificate = shown
		case p.Known:
			return "", alarmed(p, fmt.Sprintf("it shows another certificate, %.16s… and not %.16s…", shown, p.TLS.Fingerprint))
		default:
			return "", trouble(nil, advice.Say("run %s to record the new certificate, then %s again", advice.Survey, advice.Commission),
				fmt.Sprintf("shows another certificate than when it was surveyed, %.16s… and not %.16s…", shown, p.TLS.Fingerprint))
		}
	}
	id, err := s.Identity(ctx)
	if err != nil {
		return certificate, err
	}
	switch {
	case id.Serial != "" && p.Serial != "":
		if id.Serial != p.Serial {
			return "", Stranger(p, fmt.Sprintf("its serial number is %s, not %s", id.Serial, p.Serial))
		}
	case id.Endpoint != "" && p.Endpoint != "" && id.Endpoint != p.Endpoint:
		return "", Stranger(p, "its endpoint reference is another")
	}
	return certificate, nil
}

func vouched(s Session) bool {
	v, ok := s.(Vouched)
	return ok && v.Vouched()
}

// Stranger makes the trouble of a conversation whose other end is not the planned device.
func Stranger(p Plan, why string) error {
	if p.Known {
		return alarmed(p, why)
	}
	return trouble(errors.New(why), advice.Say("run %s and look at both devices", advice.Survey), "another device answers")
}

// recognise does so once in a conversation.
func (r *run) recognise(ctx context.Context) error {
	certificate, err := Recognise(ctx, r.session, r.plan, r.renews)
	if err != nil {
		var t *Trouble
		if errors.As(err, &t) || errors.Is(err, ErrReplyLost) {
			return err
		}
		return trouble(err, advice.Say("run %s again", advice.Commission), "does not say who it is")
	}
	if certificate != "" {
		pinned := *r.plan.TLS
		if !vouched(r.session) {
			r.note(fmt.Sprintf("made itself another certificate with its new name or address: %.16s…, and %.16s… before", certificate, pinned.Fingerprint))
		}
		pinned.Fingerprint = certificate
		r.plan.TLS = &pinned
	}
	return nil
}
