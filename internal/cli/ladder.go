package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/spf13/cobra"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/internal/keyring"
	"janustat/internal/reach"
	"janustat/internal/survey"
	"janustat/internal/work"
)

func (a *App) ladderCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "ladder",
		Short: "Name devices as they come, on a full screen that reads from the ladder",
		Long: `Fills the screen with the devices, and stays: who is plugged in appears at the top, with
its tag in letters that read from two metres. Type to find a device: any part of its tag,
name, MAC, serial number, address or kind. Then one key does what is sensible:

  Enter    name the chosen device; the next one without a name is chosen after that
  Ctrl-W   have it show itself (wink), to see which one it is
  Ctrl-U   unplug the one in front of you: it is chosen when it is missed
  Ctrl-X   swap tags: on the first device, and then on the second
  Ctrl-T   put it into the job, or leave it out
  Ctrl-N   only those without a name, or all
  Esc      clears what was typed, then ends a swap or a search by unplugging; Ctrl-C ends

Names go into the job sheet at once. But for Ctrl-W nothing is sent to any device.`,
		Example: "  janustat ladder --wire eth0",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			in, tty := terminal(a.In)
			out, ttyOut := terminal(a.Out)
			if !tty || !ttyOut || a.Getenv("TERM") == "dumb" || a.json {
				return usagef("ladder fills the screen of a terminal, and there is none: `janustat survey --watch` shows the same line by line")
			}
			return a.withJob(c.Context(), "ladder", func(d *work.Desk) error { return a.ladder(c.Context(), d, in, out) })
		},
	}
}

// ladder is what the screen is a face of.
type ladder struct {
	app   *App
	desk  *work.Desk
	net   *reach.Net
	keys  *keyring.Keyring         // nil where the passphrase is not known
	ahead chan struct{}            // closed once the first survey is through
	fresh map[device.MAC]time.Time // when a device appeared while the screen was there
	gone  map[device.MAC]bool
}

func (a *App) ladder(ctx context.Context, d *work.Desk, in, out *os.File) error {
	keys, err := a.ladderKeys(ctx, d)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	l := &ladder{app: a, desk: d, keys: keys, ahead: make(chan struct{}), fresh: map[device.MAC]time.Time{}, gone: map[device.MAC]bool{}}
	m := newLadderModel(ctx, l)
	opts := []tea.ProgramOption{tea.WithContext(ctx), tea.WithInput(in), tea.WithOutput(out), tea.WithoutSignalHandler()}
	if !a.colour(out) {
		opts = append(opts, tea.WithColorProfile(colorprofile.ASCII))
	}
	a.fresh() // what was typed before the screen was there is meant for nothing on it
	p := tea.NewProgram(m, opts...)
	// While the screen is there, what would be printed is told on it.
	back := outletOf(a.Err).through(func(line string) { p.Send(toldMsg(line)) }, true)
	defer back()
	watching := make(chan error, 1)
	go func() {
		err := a.withNet(ctx, d, longPatience, func(ctx context.Context, n *reach.Net) error { return l.watch(ctx, n, p.Send) })
		p.Send(overMsg{err})
		watching <- err
	}()
	_, err = p.Run()
	cancel()
	watched := <-watching
	back()
	if errors.Is(err, tea.ErrProgramKilled) || errors.Is(err, tea.ErrInterrupted) {
		err = nil // the one who ends it
	}
	if watched != nil && !errors.Is(watched, context.Canceled) {
		err = watched
	}
	if err != nil {
		return err
	}
	return a.report(fmt.Sprintf("%s named here; the next commission gives them their names", plural(m.named, "device")))
}

// ladderKeys opens the keyring where there is one, since a device that has a password shows
// itself only to who has it. Without the passphrase everything else goes on.
func (a *App) ladderKeys(ctx context.Context, d *work.Desk) (*keyring.Keyring, error) {
	keys, err := a.keyring(ctx, d.Job, false)
	switch {
	case errors.Is(err, keyring.ErrNoKeyring), errors.As(err, new(needsError)):
		return nil, nil // none, or nothing was typed
	case err != nil:
		return nil, err
	}
	return keys, nil
}

// watch surveys, and then tells who comes and goes, until ctx ends.
func (l *ladder) watch(ctx context.Context, n *reach.Net, send func(tea.Msg)) error {
	var s *work.Surveyed
	var err error
	l.desk.Locked(func() {
		l.net = n
		if s, err = l.desk.Look(ctx, n, work.SurveyOrder{Listen: survey.DefaultListen, Silent: true}); err == nil {
			err = l.desk.Keep(context.WithoutCancel(ctx), s)
		}
	})
	if err != nil {
		return err
	}
	close(l.ahead)
	send(l.rows(context.WithoutCancel(ctx)))
	if ctx.Err() != nil {
		return nil
	}
	_, err = l.desk.Watch(ctx, n, s, work.SurveyOrder{Listen: survey.DefaultListen, Silent: true}, func(e survey.Event) error {
		l.happened(ctx, e)
		send(happenedMsg{e, l.rowsLocked(context.WithoutCancel(ctx))})
		return nil
	})
	return err
}

// happened takes down what was heard. The desk is locked.
func (l *ladder) happened(ctx context.Context, e survey.Event) {
	mac := e.Device.MAC
	switch e.What {
	case survey.Gone:
		l.gone[mac] = true
	case survey.Arrived, survey.Back, survey.Described:
		delete(l.gone, mac)
		l.fresh[mac] = e.At
	}
	if device.ByMAC(l.desk.Devices, mac) == nil || e.What == survey.Described {
		// Known at once, so that it can be named, taken and swapped; the watch's end keeps it anyway.
		l.desk.Devices, _ = device.Reconcile(l.desk.Devices, []device.Device{e.Device}, e.At)
		if err := l.desk.Save(context.WithoutCancel(ctx), "watch"); err != nil {
			l.app.say("%v", err)
		}
	}
}

// rows lays out what is known now.
func (l *ladder) rows(ctx context.Context) (msg rowsMsg) {
	l.desk.Locked(func() { msg = l.rowsLocked(ctx) })
	return msg
}

func (l *ladder) rowsLocked(ctx context.Context) rowsMsg {
	devices := make([]device.Device, 0, len(l.desk.Devices))
	for _, d := range l.desk.Devices {
		if !d.NotOurs && (d.Kind != device.Other || d.InJob == device.Taken || d.Condition == device.Bare) {
			devices = append(devices, d)
		}
	}
	device.Sort(devices)
	rows, err := l.app.rows(ctx, l.desk.Job, l.desk.Devices, devices)
	if err != nil {
		return rowsMsg{err: err}
	}
	among := l.desk.Job.Sheet.Among(l.desk.Devices)
	out := make([]rung, len(rows))
	for i, r := range rows {
		out[i] = rung{row: r, given: among.NameFor(r.Device), came: l.fresh[r.MAC], gone: l.gone[r.MAC] || r.news == newsGone && l.fresh[r.MAC].IsZero()}
	}
	sortRungs(out)
	return rowsMsg{rungs: out}
}

// do carries out a decision at the desk, and tells how it went and what is known then.
func (l *ladder) do(ctx context.Context, f func() (string, error)) tea.Cmd {
	return func() tea.Msg {
		var msg didMsg
		l.desk.Locked(func() {
			msg.text, msg.err = f()
			msg.rows = l.rowsLocked(ctx)
		})
		return msg
	}
}

func (l *ladder) name(ctx context.Context, mac device.MAC, name string) tea.Cmd {
	return l.do(ctx, func() (string, error) {
		x := device.ByMAC(l.desk.Devices, mac)
		if x == nil {
			return "", fmt.Errorf("%s: %w", mac, device.ErrNoDevice)
		}
		return fmt.Sprintf("%s is called %s", x.Label(), name), l.desk.Name(ctx, x, name)
	})
}

func (l *ladder) swap(ctx context.Context, one, other device.MAC) tea.Cmd {
	return l.do(ctx, func() (text string, err error) {
		err = l.desk.Swap(ctx, one.String(), other.String(), func(m []work.Move) error {
			text = fmt.Sprintf("%s and %s are swapped", m[0].Device.Tag, m[1].Device.Tag)
			for _, x := range m {
				if x.Name != x.NameWas { // a name that the job sheet gives to a tag goes with it
					text += fmt.Sprintf("; %s is %s, called %s", x.Device.MAC, x.Tag, orDash(x.Name))
				}
			}
			return nil
		})
		return text, err
	})
}

// take puts a device into the job, or leaves it out if it is in.
func (l *ladder) take(ctx context.Context, mac device.MAC) tea.Cmd {
	return l.do(ctx, func() (string, error) {
		choice := device.Taken
		if x := device.ByMAC(l.desk.Devices, mac); x != nil && x.InJob == device.Taken {
			choice = device.Left
		}
		s, err := device.ParseSelector([]string{mac.String()})
		if err != nil {
			return "", err
		}
		c, err := l.desk.Choose(s, choice, "", time.Now())
		if err == nil {
			err = c.Keep(ctx)
		}
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%s: %s", device.ByMAC(l.desk.Devices, mac).Label(), choice), nil
	})
}

// wink has a device show itself.
func (l *ladder) wink(ctx context.Context, mac device.MAC) tea.Cmd {
	return func() tea.Msg {
		select {
		case <-l.ahead: // the wire is open
		case <-ctx.Done():
			return nil
		}
		var msg didMsg
		l.desk.Locked(func() {
			msg.text, msg.err = l.winkLocked(ctx, mac)
			msg.rows = l.rowsLocked(ctx)
		})
		return msg
	}
}

func (l *ladder) winkLocked(ctx context.Context, mac device.MAC) (string, error) {
	x := device.ByMAC(l.desk.Devices, mac)
	switch {
	case x == nil || x.InJob != device.Taken:
		return "", errors.New("it is not in the job, so nothing is sent to it: Ctrl-T takes it")
	case l.keys == nil && x.Access == device.Keyed:
		return "", errors.New("it shows itself only with its password: start again and give the passphrase")
	}
	keys := l.keys
	if keys == nil {
		keys = keyring.New("", "")
	}
	planner, err := l.desk.Planner(ctx, keys)
	if err != nil {
		return "", err
	}
	quiet := work.View{Step: func(commission.Plan, commission.Step, string) {}, Result: func(commission.Result) {}}
	results, err := l.desk.Do(ctx, l.net, planner, []*device.Device{x}, commission.Worker.Wink, quiet)
	if err != nil {
		return "", err
	}
	label := x.Label()
	// What the device told was taken down in the register.
	if l.desk.Devices, err = readDevices(ctx, l.desk.Job); err != nil {
		return "", err
	}
	if err := work.Left(ctx, results); err != nil {
		return "", errors.New(errorText(err))
	}
	return label + " shows itself", nil
}
