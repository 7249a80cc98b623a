package commission

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"janustat/core/advice"
	"janustat/core/device"
)

// Flashing is how long a device may be away over its firmware, beyond what it says of that.
const Flashing = 10 * time.Minute

const (
	flashSettles = time.Minute      // after a restart with the former version: some restart twice
	flashLooks   = 20 * time.Second // how often one that stays where it is is asked for its version
	maxDown      = 30 * time.Minute // of what it says
)

// Upgrade is the firmware that a device is to get.
type Upgrade struct {
	Image   Image
	SHA256  string
	Version string // as the device tells it afterwards
	// Follows reports whether the image may follow a version.
	Follows func(version string) bool
	// Keep takes the device's own backup, before anything is sent to it; nil is none.
	Keep func([]File) error
	// Passed reports whether a version is one that a later image brings: it was there before.
	Passed func(version string) bool
	// Places are where a device may come back to that has lost its address.
	Places []netip.Addr
	// Pace shortens waits for what a device does by itself; nil leaves them.
	Pace func(time.Duration) time.Duration
	// Earlier tells that an earlier run may have sent firmware a moment ago: it may be away over that.
	Earlier bool
}

// FlashState is what came of firmware.
type FlashState string

// The states.
const (
	FlashDone    FlashState = "done"
	FlashThere   FlashState = "already there"
	FlashSame    FlashState = "same version" // it took the image, and has the version that it had
	FlashOther   FlashState = "another version"
	FlashRefused FlashState = "refused"
	FlashFresh   FlashState = "settings lost" // it is as it was delivered
	FlashAway    FlashState = "does not come back"
)

// Flashed is what came of the firmware of a device.
type Flashed struct {
	State   FlashState
	From    string // the version that it was found with
	Version string // the version that it has now; "" where that is not known
}

// Upgrade replaces the firmware of one device, and waits until it is back. Safe to call again after any
// interruption: what it is to have is read of it first.
func (w Worker) Upgrade(ctx context.Context, p Plan, u Upgrade) Result {
	return w.carry(ctx, p, func(r *run, ctx context.Context) error { return r.upgrade(ctx, u) })
}

func (r *run) upgrade(ctx context.Context, u Upgrade) error {
	r.plan.Target.Address = r.plan.From
	if err := r.arrive(ctx); err != nil {
		return err
	}
	limit := FindLimit
	if u.Earlier {
		limit = Flashing
	}
	if err := r.find(ctx, StepFind, limit); err != nil {
		return err
	}
	found, err := r.read(ctx)
	if err != nil {
		return err
	}
	r.result.Flashed = &Flashed{FlashThere, found.Firmware, found.Firmware}
	switch {
	case found.Firmware == u.Version, u.Passed != nil && u.Passed(found.Firmware):
		return nil
	case found.Firmware == "" || !u.Follows(found.Firmware):
		r.result.Flashed = nil
		return trouble(nil, advice.Say("run %s, then look at %s", advice.Survey, advice.Firmware), fmt.Sprintf("now has version %q, which this image is not for", found.Firmware))
	}
	if err := r.backup(ctx, u); err != nil {
		r.result.Flashed = nil
		return err
	}
	down, err := r.send(ctx, u, found.Firmware)
	switch {
	case errors.Is(err, ErrReplyLost) && ctx.Err() == nil: // what became of it is told by its version
	case err != nil:
		return err
	}
	return r.flashed(ctx, u, found.Firmware, err == nil, Flashing+min(down, maxDown))
}

// backup keeps what the device gives of its settings, where it does.
func (r *run) backup(ctx context.Context, u Upgrade) error {
	a, ok := r.session.(Backer)
	if u.Keep == nil || !ok || r.plan.RequireTLS && !r.session.Encrypted() {
		return nil
	}
	files, err := a.Backup(ctx)
	if errors.Is(err, ErrNoBackup) {
		r.note("no backup of its own settings was to be had")
		return nil
	}
	if err == nil {
		err = u.Keep(files)
	}
	if err != nil && ctx.Err() == nil {
		return trouble(err, advice.Say("see to it, then run %s again", advice.Firmware.On(r.plan.Tag)), "its backup could not be kept, so its firmware was left as it is")
	}
	return err
}

// send sends the image.
func (r *run) send(ctx context.Context, u Upgrade, from string) (down time.Duration, err error) {
	value := flash{from, u.Version, u.SHA256}
	r.patience.pause(r.Site.Now()) // an image takes as long as the wire does
	defer func() {
		if r.held {
			r.patience.begin(r.Site.Now())
		}
	}()
	var own error
	err = r.do(ctx, Write{Step: StepFlash, Intent: value.String(), Value: value}, func() error {
		a, err := able[Flasher](r.session, "firmware")
		if err != nil {
			return err
		}
		down, err = a.Flash(ctx, u.Image)
		var broken *ImageError
		if errors.As(err, &broken) {
			own = broken
		}
		return err
	})
	switch {
	case own != nil:
		r.result.Flashed.State = FlashRefused
		return 0, trouble(own, advice.Say("see to the file, then run %s again", advice.Firmware.On(r.plan.Tag)), "was not sent all of the image")
	case denied(err) && ctx.Err() == nil:
		r.result.Flashed.State = FlashRefused
		return 0, trouble(errors.Unwrap(err), advice.Say("make sure that the image is for its model and revision, or set it at its own page: %s", advice.Web.On(r.plan.Tag)), "refuses its firmware ("+u.Version+")")
	}
	return down, err
}

// ImageError is an error of the image itself, while it was sent.
type ImageError struct{ Err error }

// Error gives the text of the error.
func (e *ImageError) Error() string { return e.Err.Error() }

// Unwrap gives the error.
func (e *ImageError) Unwrap() error { return e.Err }

// flashed waits until a device that was sent an image is back, and tells what it has then. taken tells that
// it has confirmed the image.
func (r *run) flashed(ctx context.Context, u Upgrade, from string, taken bool, limit time.Duration) error {
	until := r.Site.Now().Add(limit)
	pace := u.Pace
	if pace == nil {
		pace = func(d time.Duration) time.Duration { return d }
	}
	r.phase++
	away := func(err error) error {
		if ctx.Err() != nil {
			return err
		}
		r.result.Flashed.State, r.result.Flashed.Version = FlashAway, ""
		return trouble(err, advice.Say("do not power it off yet; run %s again later, which looks for it", advice.Firmware.On(r.plan.Tag)), "was sent its firmware and has not come back within "+limit.Round(time.Minute).String())
	}
	r.plan.Anywhere, r.also = true, u.Places
	if err := r.find(ctx, StepReturn, limit); err != nil {
		return away(err)
	}
	if r.at != r.plan.From {
		at := r.at
		r.result.At = r.plan.From // anybody may claim its MAC: where it is, it tells when it is asked there
		r.result.Flashed.State, r.result.Flashed.Version = FlashAway, ""
		return trouble(nil, advice.Say("run %s, then %s", advice.Survey, advice.Commission), fmt.Sprintf("has come back at %s, and not at %s", at, r.plan.From))
	}
	gone, settled := !r.stayed, false
	for {
		found, fresh, err := r.version(ctx)
		switch {
		case fresh:
			r.result.Flashed.State, r.result.Flashed.Version = FlashFresh, ""
			return trouble(nil, advice.Say("%s sets it up again", advice.Restore.On(r.plan.Tag)), "has lost its settings by its firmware")
		case errors.Is(err, ErrReplyLost) && ctx.Err() == nil && r.Site.Now().Before(until): // it is about to go, or has just come
		case err != nil:
			return err
		case found.Firmware == u.Version:
			r.result.Flashed.State, r.result.Flashed.Version = FlashDone, found.Firmware
			return nil
		case found.Firmware != from:
			r.result.Flashed.State, r.result.Flashed.Version = FlashOther, found.Firmware
			return trouble(nil, advice.Say("correct its version in the list of images, or look at its own page: %s", advice.Web.On(r.plan.Tag)), fmt.Sprintf("has version %s now, not %s", found.Firmware, u.Version))
		case settled || !r.Site.Now().Before(until):
			r.result.Flashed.State, r.result.Flashed.Version = FlashSame, found.Firmware
			return trouble(nil, advice.Say("run %s again; if it repeats, set it at its own page: %s", advice.Firmware.On(r.plan.Tag), advice.Web.On(r.plan.Tag)),
				map[bool]string{true: "took its firmware, and has the version that it had", false: "did not say whether it takes its firmware, and has the version that it had"}[taken])
		}
		// One that has restarted once may do so again; one that stays where it is may be at it yet.
		r.close()
		r.tell(StepReturn, "waiting for it to restart with its firmware")
		wait := pace(flashLooks)
		if gone || !taken {
			wait, settled = pace(flashSettles), true
		}
		again, err := r.goesAgain(ctx, min(wait, max(until.Sub(r.Site.Now()), time.Second)))
		if err != nil {
			return away(err)
		}
		gone, settled = gone || again, settled && !again
	}
}

// goesAgain waits whether a device restarts within a while.
func (r *run) goesAgain(ctx context.Context, wait time.Duration) (bool, error) {
	defer r.clock(StepReturn)()
	short, cancel := context.WithTimeoutCause(ctx, wait, errStays)
	defer cancel()
	at, err := r.Site.Repowered(short, r.plan, r.at, r.places())
	switch {
	case err == nil:
		r.at, r.result.At, r.stayed = at, at, false
		return true, nil
	case ctx.Err() != nil:
		return false, err
	}
	return false, r.find(ctx, StepReturn, Flashing) // it may be away just now
}

var errStays = errors.New("it has not restarted")

// version opens a device that is back, and reads it; fresh is one that has no password any more. What
// it says without one is all that is asked of that.
func (r *run) version(ctx context.Context) (f Found, fresh bool, err error) {
	if err := r.open(ctx); err != nil {
		return Found{}, false, err
	}
	access, err := r.session.Access(ctx)
	if err != nil {
		return Found{}, false, err
	}
	if access == device.Fresh {
		bare := r.plan // without its certificate, which is made anew with all else
		bare.TLS = nil
		_, err := Recognise(ctx, r.session, bare, true)
		return Found{}, err == nil, err
	}
	f, err = r.read(ctx)
	return f, false, err
}
