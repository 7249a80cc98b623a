package cli

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/device"
	"janustat/internal/work"
)

const selectorHelp = `
A SELECTOR is all, a key=value (kind=, access=, condition=, make=, model=; several
narrow each other, several values of one key widen it), or a device: a tag, a MAC
or its last digits, a serial number, or an address. "all" and key=value mean devices as
their factory left them. One that somebody has set up (it is protected, or has a name or
a fixed address that no factory gave it) has to be named, and so does an unmanaged one.`

func (a *App) takeCommand() *cobra.Command {
	return a.choiceCommand("take", "Put devices into the job", device.Taken,
		"  janustat take all\n  janustat take kind=camera access=fresh\n  janustat take R01 02:e4:42:00:01:02\n  janustat take 02:7a:11:00:0a:01 --kind camera")
}

func (a *App) leaveCommand() *cobra.Command {
	return a.choiceCommand("leave", "Never touch these devices", device.Left,
		"  janustat leave C07\n  janustat leave make=Tallow")
}

func (a *App) choiceCommand(verb, short string, choice device.Choice, example string) *cobra.Command {
	var kind string
	long := short + ", after showing which.\n" + selectorHelp
	if choice == device.Taken {
		long += byHandHelp
	}
	cmd := &cobra.Command{
		Use:     verb + " SELECTOR …",
		Short:   short,
		Long:    long,
		Example: example,
		Args:    someDevices(verb),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := device.ParseSelector(args)
			if err != nil {
				return usageError{err}
			}
			if k := device.Kind(kind); kind != "" && (k == device.Other || !slices.Contains(device.Kinds, k)) {
				return usagef("--kind %s: use camera, recorder, intercom or panel", kind)
			}
			return a.withJob(c.Context(), verb, func(d *work.Desk) error {
				return a.choose(c.Context(), d, s, choice, device.Kind(kind))
			})
		},
	}
	if choice == device.Taken {
		cmd.Flags().StringVar(&kind, "kind", "", "what the named devices are, where they do not say so themselves")
	}
	return cmd
}

// someDevices refuses a command that needs selectors and has none.
func someDevices(verb string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) == 0 {
			return usagef("%s what? Name devices, or use all: `janustat %s --help`", verb, verb)
		}
		return nil
	}
}

const byHandHelp = `

A device that cannot be set up over the network, or has no address yet, can be
taken by its MAC or address with --kind: what is there to be configured by hand, or
to be given an address by "janustat lease".`

func (a *App) choose(ctx context.Context, desk *work.Desk, s device.Selector, choice device.Choice, kind device.Kind) error {
	c, err := desk.Choose(s, choice, kind, time.Now())
	if err != nil {
		return err
	}
	shown := c.Changed
	if len(shown) > 0 {
		if !a.json {
			if err := a.showDevices(ctx, desk.Job, c.Devices(), shown); err != nil {
				return err
			}
			for _, text := range c.Kept {
				fmt.Fprintln(a.Out, a.wrap(a.Out, 2, text))
			}
		}
		if err := a.confirm(ctx, fmt.Sprintf("Mark %s (%s) as %s?", plural(len(shown), "device"), countByKind(shown), choice)); err != nil {
			return err
		}
		if err := c.Keep(ctx); err != nil {
			return err
		}
	}
	if a.json {
		if err := a.emit(allJSON(shown)); err != nil || c.All > 0 {
			return err
		}
		return needsError{}
	}
	if c.All == 0 {
		fmt.Fprintln(a.Out, "No device matches. `janustat list --all` shows every device found.")
		a.printSetApart(desk.Devices, choice)
		return needsError{}
	}
	fmt.Fprintf(a.Out, "%s %s", plural(len(shown), "device"), choice)
	if n := c.All - len(shown); n > 0 {
		fmt.Fprintf(a.Out, ", %d already", n)
	}
	fmt.Fprintln(a.Out)
	a.printSetApart(desk.Devices, choice)
	return nil
}

// printSetApart names the devices that somebody has set up, which all and filters never mean.
func (a *App) printSetApart(devices []device.Device, choice device.Choice) {
	if choice != device.Taken {
		return
	}
	for _, text := range setApart(devices) {
		fmt.Fprintln(a.Out, a.wrap(a.Out, 2, text))
	}
}
