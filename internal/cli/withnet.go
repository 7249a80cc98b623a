package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"time"

	"janustat/internal/job"
	"janustat/internal/keyring"
	"janustat/internal/reach"
	"janustat/internal/trace"
	"janustat/internal/wire"
	"janustat/internal/work"
)

// Patience with a cable that is out.
const (
	shortPatience = 20 * time.Second // of commands that begin anew as easily
	longPatience  = 10 * time.Minute // of those that go on where they were
)

// withNet runs f with the wire open. Where the laptop's own link goes, that is told
// once, and the work goes on when it is back; after patience it ends.
func (a *App) withNet(ctx context.Context, d *work.Desk, patience time.Duration, f func(context.Context, *reach.Net) error) error {
	if a.asBefore {
		a.say("on %s, as last time", a.wireSpec)
	}
	w, err := openWire(a.wireSpec)
	if err != nil {
		return err
	}
	if a.capture != "" {
		if !a.captureKeys {
			a.knowSecrets(ctx)() // what is recorded before that is recorded as it is
		}
		recorded, err := wire.Record(w, a.capture, a.captureKeys, &a.veil)
		if err != nil {
			w.Close()
			return usageError{err}
		}
		w = recorded
		if a.captureKeys {
			a.say("recording every frame in %s: where a password is set without encryption, it is in there; keep the file as safe as the keyring", a.capture)
		} else {
			a.say("recording every frame in %s; requests that set a password are blanked (--capture-keys keeps them)", a.capture)
		}
	}
	if a.capture == "" { // a capture is to show what there was
		if err := wire.Filter(w); err != nil {
			a.say("note: every frame is read, since the system filters none (%v)", err)
		}
	}
	if d.Log.Enabled(ctx, slog.LevelDebug) {
		w = wire.Tell(w, d.Log)
		ctx = trace.With(ctx, d.Log)
	}
	facts := w.Facts()
	if facts.Forwards {
		a.say("note: IPv4 forwarding is on here; the kernel may disturb visitors (sysctl net.ipv4.ip_forward=0 while you work)")
	}
	n := reach.New(w)
	n.Pace = a.Pace
	if err := d.Meet(ctx, n); err != nil {
		n.Close()
		return err
	}
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	n.Until(ctx)
	go a.mindLink(ctx, n, patience, stop)
	err = f(ctx, n)
	if cause := context.Cause(ctx); err != nil && errors.Is(cause, reach.ErrNoLink) {
		err = cause
	}
	a.tellDrops(n)
	// What is left over from it makes the next command quicker, and no more than that.
	if kerr := d.Clear(context.WithoutCancel(ctx)); kerr != nil && err == nil {
		a.say("note: %v", kerr)
	}
	// Closing tells, for one, that a capture could not be written whole.
	if cerr := n.Close(); err == nil && a.capture != "" {
		err = cerr
	}
	return err
}

// knowSecrets makes the keyring's passwords known, to be blanked out of what devices say,
// where that needs no asking. It is done beside other work; wait ends it.
func (a *App) knowSecrets(ctx context.Context) (wait func()) {
	if !a.passphraseKnown() {
		return func() {}
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		phrase, _, err := a.passphrase(ctx, false)
		if err != nil {
			return // told by those who need it
		}
		if keys, err := keyring.Open(filepath.Join(a.jobDir, job.KeyringFile), phrase); err == nil {
			keys.Veil(&a.veil)
		}
	}()
	return func() { <-done }
}

// mindLink tells, once each time, that the laptop's own link is gone, and that it is back.
func (a *App) mindLink(ctx context.Context, n *reach.Net, patience time.Duration, stop context.CancelCauseFunc) {
	for {
		if n.AwaitLink(ctx, false) != nil {
			return
		}
		why := n.LinkFault()
		fmt.Fprintf(a.Err, "janustat: %s: plug the cable back in; Janustat continues on its own\n", why)
		waiting, done := context.WithTimeout(ctx, patience)
		err := n.AwaitLink(waiting, true)
		done()
		if err != nil {
			stop(fmt.Errorf("%w: %s: plug the cable in and run the command again", reach.ErrNoLink, why))
			return
		}
		a.say("the link is back")
	}
}

// tellDrops tells of frames that came and could not be taken in time.
func (a *App) tellDrops(n *reach.Net) {
	if dropped := n.Dropped(); dropped > 0 {
		a.say("note: the laptop dropped %s before they could be read; what was lost was asked for again", plural(int(dropped), "frame"))
	}
}
