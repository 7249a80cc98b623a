package proving

import (
	"context"
	"errors"
	"net/netip"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
)

// Doubt is why a device is not taken for what it was.
type Doubt string

// The doubts.
const (
	Alarmed  Doubt = "alarmed"  // it was not what it was at an earlier meeting
	Stranger Doubt = "stranger" // whoever answers is not it
	Silent   Doubt = "silent"   // it has not proved who it is
	Changed  Doubt = "changed"  // it says that it was reset, or replaced
	Unsaid   Doubt = "unsaid"   // it does not say who it is
)

// DoubtError tells a doubt, and what it comes from.
type DoubtError struct {
	Doubt Doubt
	Why   string
}

// Error gives what the doubt comes from.
func (e *DoubtError) Error() string { return e.Why }

// recogniseLimit is how long a device may take to say who it is.
const recogniseLimit = 12 * time.Second

// Itself makes sure that a device which was opened before is what it was, before a person types its
// password at its page: it is asked who it is, by what is on record of it, and offered nothing. The
// error is a *DoubtError. plan is as for trying a key on it.
func Itself(ctx context.Context, site commission.Site, d *device.Device, plan commission.Plan, at netip.Addr) error {
	if d.OpenedAt.IsZero() {
		return nil // nobody has given it a password of this job
	}
	if d.Alarm != "" && d.ResetAt.IsZero() {
		return &DoubtError{Alarmed, d.Alarm}
	}
	plan.MuteTLS = ""
	ctx, cancel := context.WithTimeoutCause(ctx, recogniseLimit, errors.New("its service does not answer"))
	defer cancel()
	s, err := site.Open(ctx, plan, at)
	var told *commission.Trouble
	switch {
	case errors.As(err, &told):
		return &DoubtError{Stranger, err.Error()}
	case err != nil:
		return &DoubtError{Silent, err.Error()}
	}
	defer s.Close()
	_, err = commission.Recognise(ctx, s, plan, false)
	if err == nil {
		access, aerr := s.Access(ctx)
		if aerr == nil && access == device.Fresh && d.ResetAt.IsZero() {
			err = &commission.AlarmError{Why: "it says that it has no password, and was opened by one before"}
		}
	}
	var alarm *commission.AlarmError
	switch {
	case errors.As(err, &alarm):
		return &DoubtError{Changed, alarm.Why}
	case err != nil:
		return &DoubtError{Unsaid, err.Error()}
	}
	return nil
}
