package cli

import (
	"bufio"
	"context"
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
				if err := a.confirm(fmt.Sprintf("Restart %s?", w.device.Label())); err != nil {
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
				line, err := bufio.NewReader(a.In).ReadString('\n')
				if typed := strings.TrimSpace(line); typed != w.device.Tag {
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
	return a.withNet(func(n *reach.Net) error {
		prover, err := a.prover(ctx, w.job, w.devices, n)
		if err != nil {
			return err
		}
		plan := w.planner.KeyPlan(w.device)
		worker := commission.Worker{
			Site: prover.Site, Journal: w.job.Register, Attempts: prover.Attempts, Place: commission.NewPlaces(1),
			Watch: func(_ commission.Plan, s commission.Step, text string) { a.say("  %-8s %s", s, text) },
		}
		r := work(worker, ctx, plan)
		if field.TakeKeys(w.planner.Keys, r, time.Now()) {
			if err := w.planner.Keys.Save(); err != nil {
				return err
			}
		}
		if r.Status != commission.Done {
			return needsError{fmt.Sprintf("%s %s. Next: %s", plan.Tag, r.Reason, r.Next)}
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
recorded name, address and password. For a dead device: put the replacement in and
name its MAC (--with): it takes the dead one's place in the record.`,
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
	return a.withNet(func(n *reach.Net) error {
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
			if time.Since(begun) >= wait {
				return needsError{fmt.Sprintf("%s was not seen fresh within %s: reset it, and run this again", w.device.Label(), wait)}
			}
		}
		carried, err := a.carry(ctx, w.job, w.devices, found, job.SurveyRecord{At: time.Now(), Laptop: n.Facts().Addresses, Offers: found.Offers})
		if err != nil {
			return err
		}
		d, err := replace(carried.devices, w.device.ID, want)
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
func replace(devices []device.Device, id int64, mac device.MAC) (*device.Device, error) {
	d := deviceByID(devices, id)
	if d.MAC != mac {
		unit := deviceByMAC(devices, mac)
		if unit == nil || unit.InJob == device.Taken {
			return nil, usagef("%s is in the job already under another tag: `janustat leave` it first", mac)
		}
		d.MAC, d.Endpoint, d.Facts, d.Addresses, d.Clashing = unit.MAC, unit.Endpoint, unit.Facts, unit.Addresses, unit.Clashing
		d.SeenAt = unit.SeenAt
	}
	d.Access, d.AsLeft, d.Proved = device.Fresh, nil, time.Time{}
	return d, nil
}

func (a *App) recommission(ctx context.Context, w worked, n *reach.Net, d *device.Device) error {
	if user, password, ok := w.planner.Keys.For(w.device.MAC); ok && d.MAC != w.device.MAC {
		w.planner.Keys.Set(d.MAC, user, password) // the one in the record
		w.planner.Changed = true
	}
	w.planner.Keys.Forget(d.MAC)
	w.planner.MaybeKeyed[d.ID] = true // it keeps the password that the record has
	plans, err := a.plans(w.planner, []device.Device{*d})
	if err != nil {
		return err
	}
	prover, err := a.prover(ctx, w.job, []device.Device{*d}, n)
	if err != nil {
		return err
	}
	return a.carryOut(ctx, w.job, prover.Site, w.planner, plans, 1, commission.DefaultHandLimit)
}
