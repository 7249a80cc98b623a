package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/device"
	"janustat/core/text"
	"janustat/internal/store"
	"janustat/internal/work"
)

func (a *App) retagCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "retag DEVICE TAG",
		Short: "Give a device another tag",
		Long: `Gives a device a tag that no other has. What the job sheet says of the old tag it says
of the new one then, its comments kept; address, notes and password stay with the device.
Nothing is sent to any device.`,
		Example: "  janustat retag C09 C30",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 2 {
				return usagef("retag takes a device and its new tag: janustat retag C09 C30")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			return a.withJob(c.Context(), "retag", func(d *work.Desk) error {
				err := d.Retag(c.Context(), args[0], args[1], func(m []work.Move) error { return a.agreeMoves(c.Context(), d, m) })
				if err != nil {
					return err
				}
				return a.report(fmt.Sprintf("%s is %s now", args[0], strings.ToUpper(args[1])))
			})
		},
	}
}

func (a *App) swapCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "swap DEVICE DEVICE",
		Short: "Give two devices each other's tags",
		Long: `Gives two devices of one kind each other's tags, as where tags are to follow the walls.
What the job sheet says of a tag (its name, its channel) is of the other device then; what
it says of a MAC, and what was noted, stays with the device. Before the two are set up their
allotted addresses go with the tags; after that each stays at its address, and the next
commission changes names and channels. All of it is shown first. Nothing is sent to any
device.`,
		Example: "  janustat swap C03 C04",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 2 {
				return usagef("swap takes two devices: janustat swap C03 C04")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			return a.withJob(c.Context(), "swap", func(d *work.Desk) error {
				err := d.Swap(c.Context(), args[0], args[1], func(m []work.Move) error { return a.agreeMoves(c.Context(), d, m) })
				if err != nil {
					return err
				}
				return a.report(fmt.Sprintf("%s and %s are swapped", args[0], args[1]))
			})
		},
	}
}

// agreeMoves shows what other tags change, and asks.
func (a *App) agreeMoves(ctx context.Context, d *work.Desk, moves []work.Move) error {
	if !a.json {
		l := &listing{columns: []column{{head: "TAG"}, {head: "BECOMES"}, {head: "MAC"}, {head: "MODEL", spare: 1}, {head: "NAME"}, {head: "ADDRESS"}}}
		for _, m := range moves {
			name := m.Name
			if m.NameWas != m.Name {
				name = fmt.Sprintf("%s → %s", orDash(m.NameWas), orDash(m.Name))
			}
			address := ""
			if s := m.Device.Allotted; s != nil {
				address = s.Address.String() + ", stays"
				if m.Address != "" {
					address = fmt.Sprintf("%s → %s", s.Address, m.Address)
				}
			}
			l.add(plain(m.Device.Tag), styled(m.Tag, &goodStyle), plain(m.Device.MAC.String()), plain(short(m.Device.Model, maxWhat)), plain(name), plain(address))
		}
		a.write(a.Out, l)
		if len(moves) > 1 && d.Job.Sheet.Channels.Given() && moves[0].Device.Kind == device.Camera {
			fmt.Fprintln(a.Out, a.wrap(a.Out, 2, "Recorder channels that the job sheet gives to a tag go with it; the next commission says so to the recorder."))
		}
	}
	tags := make([]string, len(moves))
	for i, m := range moves {
		tags[i] = m.Device.Tag
	}
	return a.confirm(ctx, fmt.Sprintf("Change the %s of %s?", map[bool]string{true: "tag", false: "tags"}[len(tags) == 1], strings.Join(tags, " and ")))
}

func orDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

func (a *App) forgetCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "forget SELECTOR …",
		Short: "Delete removed devices from the register",
		Long: `Takes devices out of the register, with their history and what was noted of them. Their
passwords stay on the keyring, so that one which turns up again still opens. Who is met
by the next survey is new then. Nothing is sent to any device.
` + selectorHelp,
		Example: "  janustat forget C07\n  janustat forget 02:e4:42:00:01:02",
		Args:    someDevices("forget"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := device.ParseSelector(args)
			if err != nil {
				return usageError{err}
			}
			return a.withJob(c.Context(), "forget", func(d *work.Desk) error { return a.forget(c.Context(), d, s) })
		},
	}
}

func (a *App) forget(ctx context.Context, d *work.Desk, s device.Selector) error {
	chosen, err := s.List(d.Devices)
	if err != nil {
		return err
	}
	if len(chosen) == 0 {
		return needsError{"no device fits: nothing was done"}
	}
	var list []device.Device
	var labels, met []string
	_, last, err := d.Job.Register.SurveySpan(ctx)
	if err != nil {
		return err
	}
	for _, i := range chosen {
		x := d.Devices[i]
		list, labels = append(list, x), append(labels, x.Label())
		if !last.IsZero() && !x.SeenAt.Before(last) {
			met = append(met, x.Label())
		}
	}
	device.Sort(list)
	if !a.json {
		if err := a.showDevices(ctx, d.Job, d.Devices, list); err != nil {
			return err
		}
		if len(met) > 0 {
			fmt.Fprintln(a.Out, a.wrap(a.Out, 2, fmt.Sprintf("In the last survey: %s. The next survey lists it again, without its tag. To keep it out of the job instead: `janustat leave %s`", text.List(met), met[0])))
		}
	}
	if err := a.confirm(ctx, fmt.Sprintf("Forget %s, with all that is recorded?", plural(len(list), "device"))); err != nil {
		return err
	}
	if err := d.Forget(ctx, list); err != nil {
		return err
	}
	return a.report("forgotten: " + text.List(labels))
}

func (a *App) undoCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "undo",
		Short: "Undo the last decision that has not reached a device",
		Long: `Takes back the last take, leave, allot, name, note, retag, swap, forget or schedule, in
the register and in the job sheet. What surveys and readings found since then stays.
Once something was sent to a device that it is about, or the job sheet was edited, nothing
is taken back.`,
		Example: "  janustat undo",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.withJob(c.Context(), "undo", func(d *work.Desk) error {
				var what string
				err := d.Undo(c.Context(), func(b store.Before) error {
					what = b.What
					return a.confirm(c.Context(), fmt.Sprintf("Take back the %s, of %s?", b.What, b.At.Local().Format(time.DateTime)))
				})
				if err != nil {
					return err
				}
				return a.report("taken back: the " + what)
			})
		},
	}
}
