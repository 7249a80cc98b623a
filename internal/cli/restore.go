package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/internal/field"
	"janustat/internal/job"
	"janustat/internal/reach"
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
		Use:     "restart DEVICE",
		Short:   "Restart a device of the job, and wait until it is back",
		Example: "  janustat restart C03 --wire eth0",
		Args:    oneDevice("restart"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.withDevice(c.Context(), "restart", args[0], func(w worked) error {
				if err := a.confirm(c.Context(), fmt.Sprintf("Restart %s?", w.device.Label())); err != nil {
					return err
				}
				return a.oneByService(c.Context(), w, commission.Worker.Restart, "is back")
			})
		},
	}
}

func (a *App) resetCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "reset DEVICE",
		Short: "Put a device back into its factory state",
		Long: `Puts a device of the job back into its factory state: password, address and name are
gone. Because there is no way back, its tag has to be typed, --yes or not. Afterwards
"restore" brings it to its recorded name and address again.`,
		Example: "  janustat reset C03 --wire eth0",
		Args:    oneDevice("reset"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.withDevice(c.Context(), "reset", args[0], func(w worked) error {
				fmt.Fprintf(a.Err, "%s %s %s at %s loses its password, address and name. Type its tag to go ahead: ", w.device.Label(), w.device.Make, w.device.Model, addressText(w.device.Address()))
				line, err := a.line(c.Context())
				if errors.Is(err, errInterrupted) {
					return err
				}
				if typed := strings.TrimSpace(line); err != nil || typed != w.device.Tag {
					if typed == "" && err != nil {
						return usagef("reset wants the tag typed on standard input")
					}
					return needsError{"that is not its tag: nothing was done"}
				}
				return a.oneByService(c.Context(), w, commission.Worker.Reset, "was reset; bring it back with `janustat restore "+w.device.Tag+"`")
			})
		},
	}
}

// worked is a device of the job that is to be worked on by itself.
type worked struct {
	job     *job.Job
	devices []device.Device
	device  *device.Device
	planner *field.Planner
}

func (a *App) withDevice(ctx context.Context, verb, ref string, f func(worked) error) error {
	return a.withJob(ctx, verb, func(j *job.Job, devices []device.Device) error {
		d, err := device.Find(devices, ref)
		if err != nil {
			return err
		}
		if d.InJob != device.Taken {
			return usagef("%s is not in the job: `janustat take %s` first", d.Label(), ref)
		}
		planner, err := a.planner(ctx, j, devices, false)
		if err != nil {
			return err
		}
		return f(worked{j, devices, d, planner})
	})
}

// oneByService does one thing to one device, where it is.
func (a *App) oneByService(ctx context.Context, w worked, work func(commission.Worker, context.Context, commission.Plan) commission.Result, done string) error {
	plan := w.planner.KeyPlan(w.device)
	if plan.Stop != nil {
		return needsError{fmt.Sprintf("%s %s. Next: %s", plan.Tag, plan.Stop.Error(), plan.Stop.Next.Text(command))}
	}
	return a.withNet(ctx, longPatience, func(ctx context.Context, n *reach.Net) error {
		prover, closed, err := a.prover(ctx, w.job, w.devices, n)
		if err != nil {
			return err
		}
		defer closed()
		worker := commission.Worker{
			Site: prover.Site, Journal: a.journal(w.job), Attempts: prover.Attempts, Place: commission.NewPlaces(1),
			Watch: func(_ commission.Plan, s commission.Step, text string) { a.say("  %-8s %s", s, text) },
		}
		r := work(worker, ctx, plan)
		if err := a.saveResult(context.WithoutCancel(ctx), w.job, r); err != nil {
			return err
		}
		if field.TakeKeys(w.planner.Keys, r, time.Now()) {
			if err := w.planner.Keys.Save(); err != nil {
				return err
			}
		}
		switch {
		case ctx.Err() != nil && r.Status != commission.Done:
			return errInterrupted
		case r.Status != commission.Done:
			return needsError{fmt.Sprintf("%s %s. Next: %s", plan.Tag, r.Reason, r.Next.Text(command))}
		}
		return a.report(w.device.Label() + " " + done)
	})
}

func (a *App) restoreCommand() *cobra.Command {
	var with string
	wait := 10 * time.Minute
	c := &cobra.Command{
		Use:   "restore DEVICE",
		Short: "Bring a reset device, or its replacement, to its recorded name and address",
		Long: `For a device whose password is lost, or that was reset: reset it by its maker's steps;
this waits until it is back and fresh, knows it by its MAC, and commissions it to its
recorded name and address, with a new password. For a dead device: put the replacement
in and name its MAC (--with): it takes the dead one's place in the record. It is also
the only way back in for a device that raised an alarm, since whoever answers by its
MAC is given a password: so it asks first.`,
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

func (a *App) restore(ctx context.Context, w worked, with device.MAC, wait time.Duration) error {
	want := w.device.MAC
	if !with.IsZero() {
		want = with
	}
	who := want.String()
	if w.device.Alarm != "" {
		who += ", which " + w.device.Alarm
	}
	if err := a.confirm(ctx, fmt.Sprintf("Give whoever answers as %s (%s) its place in the job, and a new password?", w.device.Label(), who)); err != nil {
		return err
	}
	return a.withNet(ctx, longPatience, func(ctx context.Context, n *reach.Net) error {
		a.say("waiting for %s (%s) to come back fresh: reset it by its maker's steps …", w.device.Label(), want)
		s, err := a.newSurvey(ctx, w.job, w.devices, n, surveyOptions{listen: wait, quietly: true})
		if err != nil {
			return err
		}
		s.Enough = func(f *field.Findings) bool {
			for _, x := range f.Sightings {
				if x.MAC == want && x.Facts.Access == device.Fresh {
					return true
				}
			}
			return false
		}
		// Rounds, since a survey asks a device what it is when it is first heard.
		var found *field.Findings
		for begun := time.Now(); ; {
			s.Listen = min(field.DefaultListen, max(wait-time.Since(begun), time.Second))
			if found, err = s.Run(ctx); err != nil {
				return err
			}
			if found.Enough {
				break
			}
			if err := ctx.Err(); err != nil {
				return errInterrupted
			}
			if time.Since(begun) >= wait {
				return needsError{fmt.Sprintf("%s was not seen fresh within %s: reset it, and run this again", w.device.Label(), wait)}
			}
		}
		d, err := replace(w.devices, w.device.ID, want, withKinds(w.job, device.Merge(found.Sightings)))
		if err != nil {
			return err
		}
		if err := w.job.Register.Replace(ctx, *d, want); err != nil {
			return err
		}
		return a.recommission(ctx, w, n, d)
	})
}

// replace gives the device of an ID as the unit with a MAC: itself, or another
// that takes its place and keeps tag, name and address.
func replace(devices []device.Device, id int64, mac device.MAC, found []device.Device) (*device.Device, error) {
	d := *deviceByID(devices, id)
	if known := deviceByMAC(devices, mac); d.MAC != mac && known != nil && known.InJob == device.Taken {
		return nil, usagef("%s is in the job already under another tag: `janustat leave` it first", mac)
	}
	unit := deviceByMAC(found, mac)
	if unit == nil {
		return nil, fmt.Errorf("%s was not heard again: run this once more", mac)
	}
	d.Apply(device.Restored{At: time.Now(), Unit: *unit})
	return &d, nil
}

func (a *App) recommission(ctx context.Context, w worked, n *reach.Net, d *device.Device) error {
	for i := range w.planner.All {
		if w.planner.All[i].ID == d.ID {
			w.planner.All[i] = *d
		}
	}
	w.planner.AdmitNewcomers = true // it was asked for by name
	if err := w.planner.Renew(d); err != nil {
		return usageError{err}
	}
	plans, err := a.plans(ctx, w.planner, []device.Device{*d})
	if err != nil {
		return err
	}
	subnets, avoid, err := a.lay(ctx, w.job, w.planner.All, n)
	if err != nil {
		return err
	}
	return a.carryOut(ctx, w.job, a.site(n, subnets, avoid), w.planner, plans, commissioning{crew: 1, hands: commission.DefaultHandLimit})
}
