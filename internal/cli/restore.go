package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/text"
	"janustat/internal/reach"
	"janustat/internal/work"
)

func oneDevice(verb string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) != 1 {
			return usagef("%s takes one device", verb)
		}
		return nil
	}
}

func (a *App) restartCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "restart SELECTOR …",
		Short:   "Restart devices of the job, and wait until they are back",
		Long:    "Restarts devices of the job, side by side, and waits until each is back.\n" + selectorHelp,
		Example: "  janustat restart C03 --wire eth0\n  janustat restart kind=camera",
		Args:    someDevices("restart"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.withJob(c.Context(), "restart", func(d *work.Desk) error { return a.restart(c.Context(), d, args) })
		},
	}
}

func (a *App) restart(ctx context.Context, d *work.Desk, terms []string) error {
	only, err := d.Select(terms)
	if err != nil {
		return err
	}
	var list []*device.Device
	var tags []string
	for _, x := range device.OfJob(d.Devices) {
		if only.Has(x.ID) {
			list, tags = append(list, device.ByID(d.Devices, x.ID)), append(tags, x.Tag)
		}
	}
	if err := a.confirm(ctx, fmt.Sprintf("Restart %s?", text.List(tags))); err != nil {
		return err
	}
	planner, err := a.planner(ctx, d, false)
	if err != nil {
		return err
	}
	return a.do(ctx, d, planner, list, commission.Worker.Restart, func(tags []string) string { return text.Are(tags) + " back" })
}

func (a *App) resetCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "reset DEVICE",
		Short: "Factory-reset a device (erases password, address, name)",
		Long: `Erases password, address and name of a device of the job. There is no way back, so its tag
must be typed, --yes or not. "restore" sets it up again with its recorded name and address.`,
		Example: "  janustat reset C03 --wire eth0",
		Args:    oneDevice("reset"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.withDevice(c.Context(), "reset", args[0], func(w worked) error {
				question := text.Words(w.device.Label(), w.device.Make, w.device.Model, "at", addressText(w.device.Address())) + " loses its password, address and name."
				if err := a.confirmTag(c.Context(), "reset", question, w.device.Tag); err != nil {
					return err
				}
				return a.do(c.Context(), w.Desk, w.planner, []*device.Device{w.device}, commission.Worker.Reset, func(tags []string) string {
					return fmt.Sprintf("%s was reset; bring it back with `janustat restore %[1]s`", tags[0])
				})
			})
		},
	}
}

// worked is a device of the job that is to be worked on by itself.
type worked struct {
	*work.Desk
	device  *device.Device
	planner *work.Planner
}

func (a *App) withDevice(ctx context.Context, verb, ref string, f func(worked) error) error {
	return a.withJob(ctx, verb, func(d *work.Desk) error {
		x, err := d.InJob(ref)
		if err != nil {
			return err
		}
		planner, err := a.planner(ctx, d, false)
		if err != nil {
			return err
		}
		return f(worked{d, x, planner})
	})
}

// do does one thing to devices, and tells which it is done to.
func (a *App) do(ctx context.Context, d *work.Desk, planner *work.Planner, list []*device.Device, deed work.Deed, done func(tags []string) string) error {
	return a.withNet(ctx, d, longPatience, func(ctx context.Context, n *reach.Net) error {
		view := a.startSteps(len(list))
		results, err := d.Do(ctx, n, planner, list, deed, work.View{Step: view.step, Result: view.result})
		view.stop()
		if err != nil {
			return err
		}
		var tags []string
		for _, r := range results {
			if r.Status == commission.Done {
				tags = append(tags, r.Plan.Tag)
			}
		}
		told := ""
		if len(tags) > 0 {
			told = done(tags)
		}
		if told != "" || a.json {
			if err := a.report(told); err != nil {
				return err
			}
		}
		return work.Left(ctx, results)
	})
}

func (a *App) restoreCommand() *cobra.Command {
	var with string
	wait := 10 * time.Minute
	c := &cobra.Command{
		Use:   "restore DEVICE",
		Short: "Bring a reset device, or its replacement, to its recorded name and address",
		Long: `Sets up again a device that you have factory-reset, or its replacement (--with MAC). First
reset it as its manual says. This waits until it answers without a password, and then gives
it its recorded name and address and a new password. A replacement takes the dead unit's
place in the record, on its recorder channel and in its pairs.

It is also the only way back for a device whose identity changed (ALARM). What answers by
its MAC gets a password, so its tag must be typed then, --yes or not.`,
		Example: "  janustat restore C03 --wire eth0\n  janustat restore C03 --with 02:e4:42:00:01:77 --wire eth0",
		Args:    oneDevice("restore"),
		RunE: func(c *cobra.Command, args []string) error {
			var mac device.MAC
			if with != "" {
				var err error
				if mac, err = device.ParseMAC(with); err != nil {
					return usageError{err}
				}
			}
			return a.withDevice(c.Context(), "restore", args[0], func(w worked) error {
				if w.device.Allotted == nil {
					return usagef("%s has no address allotted: there is nothing to restore", w.device.Label())
				}
				return a.restore(c.Context(), w, mac, wait)
			})
		},
	}
	c.Flags().StringVar(&with, "with", "", "the `MAC` of the unit that takes its place")
	c.Flags().DurationVar(&wait, "for", wait, "wait this long for it to come back fresh")
	return c
}

// park has the recorders among partners rest, as far as devices go that get new passwords.
func (a *App) park(ctx context.Context, d *work.Desk, n *reach.Net, planner *work.Planner, partners []*device.Device, tags []string) error {
	if len(partners) == 0 {
		return nil
	}
	view := a.startSteps(len(partners))
	results, err := d.Park(ctx, n, planner, partners, tags, work.View{Step: view.step, Result: view.result})
	view.stop()
	for _, r := range results {
		if r.Status != commission.Done && ctx.Err() == nil {
			a.say("note: recording on %s could not be paused (%s): it may try the old password on %s meanwhile", r.Plan.Tag, r.Reason, text.List(tags))
		}
	}
	return err
}

// resting tells which recorders have been told to rest, where they were not joined up again: until
// they are, they do not record what they did.
func (a *App) resting(partners []*device.Device, tags []string) {
	for _, x := range partners {
		if x.Kind == device.Recorder {
			a.say("note: %s does not record %s until `janustat commission %[1]s` has connected them again", x.Tag, text.List(tags))
		}
	}
}

func tagsOf(list []*device.Device) (out []string) {
	for _, x := range list {
		out = append(out, x.Tag)
	}
	return out
}

func (a *App) restore(ctx context.Context, w worked, with device.MAC, wait time.Duration) error {
	want := w.device.MAC
	if !with.IsZero() {
		want = with
	}
	question := fmt.Sprintf("Set up the device with MAC %s as %s, with a new password?", want, w.device.Label())
	var err error
	if w.device.Alarm != "" {
		question = fmt.Sprintf("Identity changed: %s %s. Only if you reset or replaced it yourself: set up the device with MAC %s as %[1]s, with a new password.", w.device.Label(), w.device.Alarm, want)
		err = a.confirmTag(ctx, "restore of a device whose identity changed", question, w.device.Tag)
	} else {
		err = a.confirm(ctx, question)
	}
	if err != nil {
		return err
	}
	return a.withNet(ctx, w.Desk, longPatience, func(ctx context.Context, n *reach.Net) error {
		a.say("waiting for %s (%s) to come back fresh: reset it as its manual says …", w.device.Label(), want)
		back, err := w.AwaitFresh(ctx, n, w.device, want, !with.IsZero(), wait)
		if err != nil {
			return err
		}
		partners := w.Partners([]string{back.Tag})
		if len(partners) > 0 {
			a.say("set there as well: %s", text.List(tagsOf(partners)))
		}
		if err := a.park(ctx, w.Desk, n, w.planner, partners, []string{back.Tag}); err != nil {
			return err
		}
		plans, err := w.Recommission(w.planner, partners, back)
		if err == nil {
			err = a.carryOut(ctx, w.Desk, n, w.planner, plans, work.Crew{Size: 1, Hands: commission.DefaultHandLimit})
		}
		if err != nil && ctx.Err() != nil {
			a.resting(partners, []string{back.Tag})
		}
		return err
	})
}
