package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"janustat/core/firmware"
	"janustat/core/text"
	"janustat/internal/images"
	"janustat/internal/reach"
	"janustat/internal/work"
)

func (a *App) firmwareCommand() *cobra.Command {
	apply := false
	c := &cobra.Command{
		Use:   "firmware [SELECTOR …]",
		Short: "Show firmware against the agreed versions, or bring it there",
		Long: `Shows which version each device of the job has, and which one is agreed on: by firmware.yaml in
the job's folder, to which "add" writes. Nothing is sent to any device.

With --apply, devices that are due get their image. Their own backup is kept first. One device of
each model goes ahead: only if it comes back with its version and as it was, the others of its
model follow, eight at a time. Recorders come last, one by one. A device that loses its settings is
set up again, with a new password. A run that was cut off goes on by the version each device has.
Do not power devices off meanwhile.
` + selectorHelp,
		Example: "  janustat firmware add dome-2.4.0.bin --like C01 --version 2.4.0\n  janustat firmware\n  janustat firmware --apply --wire eth0\n  janustat firmware model=Dome --apply",
		RunE: func(c *cobra.Command, args []string) error {
			return a.withJob(c.Context(), "firmware", func(d *work.Desk) error {
				only, err := d.Select(args)
				if err != nil {
					return err
				}
				list, err := d.Firmware(only)
				switch {
				case errors.Is(err, images.ErrNone) && apply:
					return usageError{err}
				case err != nil && !errors.Is(err, images.ErrNone):
					return err
				case !apply:
					return a.printFirmware(list, err != nil)
				}
				return a.flash(c.Context(), d, list)
			})
		},
	}
	c.Flags().BoolVar(&apply, "apply", false, "send devices that are due their images")
	c.AddCommand(a.firmwareAddCommand())
	return c
}

func (a *App) firmwareAddCommand() *cobra.Command {
	var like string
	var x firmware.Image
	c := &cobra.Command{
		Use:   "add FILE --like DEVICE --version VERSION",
		Short: "Agree on a version: keep its image with the job, and write it down",
		Long: `Copies an image into the job's folder, and writes it into firmware.yaml with its SHA-256, for
devices of the make and model of one that is named. The version is what such a device shows once it
has the image. Of several images for one model the last is what is agreed on; the ones before are
ways there. Without --from an image goes onto earlier versions only.`,
		Example: "  janustat firmware add dome-2.4.0.bin --like C01 --version 2.4.0\n  janustat firmware add dome-3.0.bin --like C01 --version 3.0 --from '2.4*'",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usagef("firmware add takes one file")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			switch {
			case like == "":
				return usagef("name a device that the image is for: --like C01")
			case x.Version == "":
				return usagef("say which version devices show once they have it: --version 2.4.0")
			}
			return a.withJob(c.Context(), "firmware add", func(d *work.Desk) error {
				one, err := d.InJob(like)
				if err != nil {
					return err
				}
				if one.Model == "" {
					return usagef("the model of %s is not known yet: commission it first", one.Label())
				}
				x.Make, x.Model = one.Make, one.Model
				added, err := images.Add(d.Job.Dir, args[0], x)
				if err != nil {
					return usageError{err}
				}
				return a.report(fmt.Sprintf("%s %s: %s, SHA-256 %s", strings.TrimSpace(added.Make+" "+added.Model), added.Version, added.File, added.SHA256))
			})
		},
	}
	f := c.Flags()
	f.StringVar(&like, "like", "", "a `DEVICE` of the job whose make and model the image is for")
	f.StringVar(&x.Version, "version", "", "the `VERSION` that a device shows once it has it")
	f.StringSliceVar(&x.From, "from", nil, "`VERSIONS` that it may follow, * for any rest; left out: every earlier one")
	f.StringSliceVar(&x.Hardware, "hardware", nil, "`REVISIONS` that it is for; left out: any")
	f.StringVar(&x.Notes, "notes", "", "a `TEXT` to be kept with it")
	return c
}

// flash brings devices to their versions, and tells what became of each.
func (a *App) flash(ctx context.Context, d *work.Desk, list []work.Firmware) error {
	var due []*work.Firmware
	var tags []string
	for i := range list {
		x := &list[i]
		switch {
		case x.Standing.State != firmware.Due:
		case x.Device.Alarm != "":
			x.Outcome, x.Why = work.FlashNotBegun, "its identity changed since it was set up"
		case !x.Device.Commissioned():
			x.Outcome, x.Why, x.Next = work.FlashNotBegun, "it is not commissioned", "run `janustat commission`"
		default:
			due, tags = append(due, x), append(tags, x.Device.Tag)
		}
	}
	if len(due) == 0 {
		return a.printFirmware(list, false)
	}
	question := fmt.Sprintf("Send firmware to %s (%s)? Each restarts, and may be away for minutes. One that loses its settings is set up again.", text.List(tags), text.Plural(len(tags), "device"))
	if err := a.confirm(ctx, question); err != nil {
		return err
	}
	planner, err := a.planner(ctx, d, false)
	if err != nil {
		return err
	}
	return a.withNet(ctx, d, longPatience, func(ctx context.Context, n *reach.Net) error {
		view := a.startSteps(len(due))
		err := d.Flash(ctx, n, planner, due, work.View{Step: view.step, Result: view.result})
		view.stop()
		if err != nil && !errors.Is(err, work.ErrInterrupted) {
			return err
		}
		return errors.Join(a.printFirmware(list, false), err)
	})
}

// printFirmware tells how devices stand, and what became of them.
func (a *App) printFirmware(list []work.Firmware, none bool) error {
	if a.json {
		rows := []firmwareJSON{}
		for i := range list {
			rows = append(rows, asFirmware(&list[i]))
		}
		if err := a.emit(rows); err != nil {
			return err
		}
	} else {
		a.drawFirmware(list, none)
	}
	if slices.ContainsFunc(list, func(x work.Firmware) bool {
		return x.Outcome == work.FlashedBadly || x.Outcome == work.FlashNotBegun
	}) {
		return needsError{}
	}
	return nil
}

func asFirmware(x *work.Firmware) firmwareJSON {
	d := x.Device
	r := firmwareJSON{
		Tag: d.Tag, Name: d.Name, MAC: d.MAC, Make: d.Make, Model: d.Model, Hardware: d.Hardware, Version: d.Firmware, Agreed: x.Standing.Want,
		State: string(x.Standing.State), Outcome: string(x.Outcome), Was: x.Was, Why: x.Why, Next: x.Next, Notes: x.Notes,
	}
	for _, img := range x.Standing.Path {
		r.Path = append(r.Path, img.Version)
	}
	return r
}

func (a *App) drawFirmware(list []work.Firmware, none bool) {
	l := &listing{columns: []column{{head: "TAG"}, {head: "NAME"}, {head: "MODEL"}, {head: "HARDWARE"}, {head: "VERSION"}, {head: "AGREED"}, {head: "STATE"}}}
	count := map[firmware.State]int{}
	for i := range list {
		x := &list[i]
		count[x.Standing.State]++
		l.add(plain(x.Device.Tag), plain(x.Device.Name), plain(strings.TrimSpace(x.Device.Make+" "+x.Device.Model)), plain(x.Device.Hardware),
			plain(x.Device.Firmware), plain(agreedText(x)), firmwareState(x))
	}
	if len(list) > 0 {
		a.write(a.Out, l)
	}
	for i := range list {
		x := &list[i]
		if x.Why != "" {
			line := fmt.Sprintf("%s: %s", a.paint(a.Out, badStyle, x.Device.Tag), x.Why)
			if x.Next != "" {
				line += ". Next: " + x.Next
			}
			fmt.Fprintln(a.Out, a.wrap(a.Out, 4, line))
		}
	}
	a.drawNotes(list)
	switch {
	case none:
		fmt.Fprintln(a.Out, "Which versions are agreed on is not known: the job has no firmware.yaml.\nNext: `janustat firmware add FILE --like DEVICE --version VERSION`")
	case slices.ContainsFunc(list, func(x work.Firmware) bool { return x.Outcome != "" }):
		done := 0
		for _, x := range list {
			if x.Outcome == work.Flashed || x.Outcome == work.FlashedRestored {
				done++
			}
		}
		fmt.Fprintf(a.Out, "%d of %s brought to the agreed version\n", done, plural(count[firmware.Due], "device"))
	default:
		fmt.Fprintf(a.Out, "%d as agreed, %d due", count[firmware.Agreed], count[firmware.Due])
		for _, s := range []firmware.State{firmware.Newer, firmware.Stuck, firmware.Unknown, firmware.None} {
			if count[s] > 0 {
				fmt.Fprintf(a.Out, ", %d %s", count[s], s)
			}
		}
		fmt.Fprintln(a.Out)
		if count[firmware.Due] > 0 {
			fmt.Fprintln(a.Out, "Next: janustat firmware --apply")
		}
	}
}

// drawNotes tells what the installer may want to know, each thing once.
func (a *App) drawNotes(list []work.Firmware) {
	of := map[string][]string{}
	var notes []string
	for _, x := range list {
		for _, note := range x.Notes {
			if of[note] == nil {
				notes = append(notes, note)
			}
			if !slices.Contains(of[note], x.Device.Tag) {
				of[note] = append(of[note], x.Device.Tag)
			}
		}
	}
	for _, note := range notes {
		fmt.Fprintln(a.Out, a.wrap(a.Out, 4, text.List(of[note])+": "+note))
	}
}

// agreedText tells the version that is agreed on, and the ones between.
func agreedText(x *work.Firmware) string {
	if len(x.Standing.Path) < 2 {
		return x.Standing.Want
	}
	var through []string
	for _, img := range x.Standing.Path[:len(x.Standing.Path)-1] {
		through = append(through, img.Version)
	}
	return x.Standing.Want + " by " + strings.Join(through, ", ")
}

func firmwareState(x *work.Firmware) cell {
	switch {
	case x.Outcome == work.Flashed || x.Outcome == work.FlashedRestored:
		return styled(string(x.Outcome)+" ("+x.Was+" before)", &goodStyle)
	case x.Outcome != "":
		return styled(string(x.Outcome), &badStyle)
	case x.Standing.State == firmware.Agreed:
		return styled(string(x.Standing.State), &goodStyle)
	case x.Standing.State == firmware.Due:
		return styled(string(x.Standing.State), &workStyle)
	}
	return plain(string(x.Standing.State))
}
