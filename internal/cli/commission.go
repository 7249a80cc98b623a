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
	"janustat/core/ground"
	"janustat/core/text"
	"janustat/internal/reach"
	"janustat/internal/work"
)

func (a *App) commissionCommand() *cobra.Command {
	var dry, newcomers, replace bool
	crew, hands := 0, commission.DefaultHandLimit
	c := &cobra.Command{
		Use:   "commission [SELECTOR …]",
		Short: "Set up the devices: password, clock, name, address; then verify",
		Long: `Carries out for every taken and allotted device, in parallel: the first password,
the clock, the name, the address (after an RFC 5227 probe), a restart where the
device asks for one, and a reading back of everything. Every step is journaled
before it is sent. Run it again at any time: it goes on where it stopped, and
writes nothing to a device that is right already.

For a device that cannot be set up over the network, it prints exactly
what to type into it and waits until it appears at its address. It says which devices
have to be powered off and on because they take settings only for a while after that,
and waits for them too. A device that takes nothing but a lease ends as leased by
reservation, with the line for the site's own DHCP server.

A device that was opened before and says now that it has no password, shows another
certificate or no longer offers HTTPS is an alarm: nothing is sent to it ("restore"
takes it back in). Where devices share a password (style: shared or by_kind), a new
device is given it only once you say that it is one of yours.

With selectors, only those devices of the job are commissioned. Devices without an
allotted address are listed and skipped.`,
		Example: "  janustat commission --dry-run\n  janustat commission --wire eth0 --yes\n  janustat commission C07 C08\n  janustat commission kind=camera --by-hand 0s",
		RunE: func(c *cobra.Command, args []string) error {
			if crew < 0 || crew > 256 {
				return usagef("--crew %d: use 1 to 256, or leave it out", crew)
			}
			if hands < 0 || hands > 24*time.Hour {
				return usagef("--by-hand %s: use 0s to 24h", hands)
			}
			return a.withJob(c.Context(), "commission", func(d *work.Desk) error {
				only, err := d.Select(args)
				switch {
				case err != nil:
					return err
				case dry:
					return a.dryRun(c.Context(), d, only)
				}
				return a.commission(c.Context(), d, only, work.Crew{Size: crew, Hands: hands}, newcomers, replace)
			})
		},
	}
	c.Flags().BoolVar(&dry, "dry-run", false, "show what would be written and send nothing")
	c.Flags().BoolVar(&newcomers, "newcomers", false, "give new devices the shared password without asking (styles shared and by_kind)")
	c.Flags().BoolVar(&replace, "replace-channels", false, "give cameras the channels that the job sheet names, whatever others have on them")
	c.Flags().IntVar(&crew, "crew", crew, "how many devices are spoken with at once; left out, as many as this computer bears")
	c.Flags().DurationVar(&hands, "by-hand", hands, "how long to wait for what you do yourself: typing into devices, or their power")
	return c
}

func (a *App) commission(ctx context.Context, d *work.Desk, only work.Selection, crew work.Crew, newcomers, replace bool) error {
	n, waiting, err := d.Ready(only)
	if err != nil {
		return err
	}
	changed, err := d.Refresh(ctx, only)
	var disagree *ground.DisagreeError
	switch {
	case errors.As(err, &disagree): // what was decided before they did stands
		a.say("note: %s; going on by what was allotted before", errorText(err))
	case err != nil:
		return err
	}
	for _, text := range changed {
		a.say("allotted again, from what was learnt since: %s", text)
	}
	question := fmt.Sprintf("Commission %s now?", plural(n, "device"))
	if len(waiting) > 0 {
		question = fmt.Sprintf("%s no address allotted, and will wait (`janustat allot`). %s", text.Have(waiting), question)
	}
	if replace {
		question = "Whatever others have on the channels that the job sheet names is replaced, and is not brought back" + othersOn(d.Devices, only) + ". Has the client agreed to that? " + question
	}
	if err := a.confirmCount(ctx, question, n); err != nil {
		return err
	}
	if unread := d.Unread(only); len(unread) > 0 {
		var tags []string
		for i := range unread {
			tags = append(tags, unread[i].Label())
		}
		a.say("%s not answered yet to the question what it is: asking again", text.Have(tags))
		if err := a.withNet(ctx, d, longPatience, func(ctx context.Context, net *reach.Net) error { return d.ReadAgain(ctx, net, unread) }); err != nil {
			return err
		}
	}
	unlocked := a.unlocking(ctx, d.Job, true)
	err = a.withNet(ctx, d, longPatience, func(ctx context.Context, net *reach.Net) error {
		d.Warm(ctx, net, only)
		keys, err := unlocked()
		if err != nil {
			return err
		}
		planner, err := d.Planner(ctx, keys)
		if err != nil {
			return err
		}
		planner.AdmitNewcomers, planner.ReplaceChannels = newcomers, replace
		plans, err := d.Plans(planner, d.Devices, only, a.admit(ctx))
		if err != nil {
			return err
		}
		a.printTyping(plans, d.Devices)
		return a.carryOut(ctx, d, net, planner, plans, crew)
	})
	if len(waiting) > 0 && (err == nil || errors.As(err, new(needsError))) {
		return needsError{fmt.Sprintf("%s no address allotted: `janustat allot`, then this again", text.Have(waiting))}
	}
	return err
}

// othersOn says what others were seen to have on channels that the job sheet names.
func othersOn(devices []device.Device, only work.Selection) string {
	var seen []string
	for i := range devices {
		for _, l := range devices[i].Links {
			if devices[i].InJob == device.Taken && only.Has(devices[i].ID) && l.Kind == string(commission.StepChannel) && strings.HasPrefix(l.Why, "plays ") {
				seen = append(seen, fmt.Sprintf("%s channel %d %s", devices[i].Tag, l.Number, l.Why))
			}
		}
	}
	if len(seen) == 0 {
		return ""
	}
	return ": " + text.List(seen)
}

// planner opens the keyring, or makes one if create is set, and makes ready to plan.
func (a *App) planner(ctx context.Context, d *work.Desk, create bool) (*work.Planner, error) {
	keys, err := a.keyring(ctx, d.Job, create)
	if err != nil {
		return nil, err
	}
	return d.Planner(ctx, keys)
}

// admit asks whether new devices may have a password that others have; nobody is asked
// where nobody can answer.
func (a *App) admit(ctx context.Context) func(tags []string) (bool, error) {
	if _, tty := terminal(a.In); !tty || a.yes {
		return nil
	}
	return func(tags []string) (bool, error) {
		err := a.ask(ctx, text.Are(tags)+" new, and would get the shared password of this job. Check the MAC on the label. Is each of them yours?")
		if errors.As(err, new(needsError)) {
			a.say("they are skipped this time, and stay in the job. Continuing with the others")
			return false, nil
		}
		return err == nil, err
	}
}

// carryOut carries plans out and shows how.
func (a *App) carryOut(ctx context.Context, d *work.Desk, net *reach.Net, planner *work.Planner, plans []commission.Plan, crew work.Crew) error {
	begun := time.Now()
	view := a.startView(plans, d.Usual(ctx))
	results, err := d.Commission(ctx, net, planner, plans, crew, work.View{Step: view.step, Result: view.result})
	view.stop()
	if err != nil {
		return err
	}
	return a.summary(ctx, results, time.Since(begun))
}

// printTyping tells what to type into the devices that nothing else can set up.
func (a *App) printTyping(plans []commission.Plan, devices []device.Device) {
	if a.quiet {
		return
	}
	l := &listing{columns: []column{{head: "TAG"}, {head: "MAC", spare: 2}, {head: "NOW"}, {head: "ADDRESS"}, {head: "MASK"}, {head: "GATEWAY"}, {head: "DNS", spare: 3}}}
	for _, p := range plans {
		if p.Manner != commission.ByHand || p.From == p.Target.Address {
			continue
		}
		l.add(plain(p.Tag), plain(p.MAC.String()), plain(addressText(p.From)), styled(p.Target.Address.String(), &goodStyle),
			plain(ground.Mask(p.Target.Prefix).String()), plain(addressText(p.Target.Gateway)), plain(ground.List(p.Target.DNS)))
	}
	if len(l.rows) == 0 {
		return
	}
	fmt.Fprintln(a.Err, "Set these up by hand, on their web page (`janustat web TAG`) or screen. Turn DHCP off and enter:")
	a.write(a.Err, l)
	fmt.Fprintln(a.Err)
}

// reservation gives the line for whoever runs the site's own DHCP server.
func reservation(p commission.Plan) string {
	return fmt.Sprintf("  reserve %s for %s, %s", p.Target.Address, p.MAC, p.Tag)
}

func (a *App) printReservations(plans []commission.Plan) {
	if len(plans) == 0 {
		return
	}
	fmt.Fprintf(a.Out, "Leased by reservation: %s no static address. The site's own DHCP server is to\n", takes(len(plans)))
	for _, p := range plans {
		fmt.Fprintln(a.Out, reservation(p))
	}
}

func takes(n int) string {
	if n == 1 {
		return "1 device takes"
	}
	return fmt.Sprintf("%d devices take", n)
}
