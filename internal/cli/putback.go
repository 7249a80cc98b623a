package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/text"
	"janustat/internal/reach"
	"janustat/internal/work"
)

func (a *App) putbackCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "putback DEVICE …",
		Short: "Put devices back as they were found",
		Long: `Gives devices of the job the settings again that they were found with: address, gateway,
name, time zone, servers and DHCP, as far as they were recorded, and removes the users that
the job created. Then they are left out of the job. For a device that was taken by mistake.

Its password cannot be put back: it stays on the keyring, and "key show" shows it, to be
handed to the owner of the device. Everything else that cannot be put back is listed first.
Writes to: the named devices.`,
		Example: "  janustat putback C07\n  janustat putback 02:e4:42:00:01:99 --yes",
		Args:    someDevices("putback"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.withJob(c.Context(), "putback", func(d *work.Desk) error { return a.putback(c.Context(), d, args) })
		},
	}
}

func (a *App) putback(ctx context.Context, d *work.Desk, refs []string) error {
	var devices []*device.Device
	for _, ref := range strings.Split(strings.Join(refs, ","), ",") {
		x, err := d.InJob(strings.TrimSpace(ref))
		if err != nil {
			return err
		}
		devices = append(devices, x)
	}
	planner, err := a.planner(ctx, d, false)
	if err != nil {
		return err
	}
	var list []*work.Return
	for _, x := range devices {
		r, err := d.Return(planner, x)
		if err != nil {
			return err
		}
		list = append(list, r)
		if !a.json {
			fmt.Fprintln(a.Err, a.wrap(a.Err, 2, fmt.Sprintf("%s gets back %s. What stays: %s.", x.Label(), work.ReturnText(*x.AsFound), strings.Join(r.Cannot, "; "))))
		}
	}
	if err := a.confirmCount(ctx, fmt.Sprintf("Put %s back as found, and leave them out of the job?", plural(len(list), "device")), len(list)); err != nil {
		return err
	}
	return a.withNet(ctx, d, longPatience, func(ctx context.Context, n *reach.Net) error {
		view := a.startSteps(len(list))
		results, err := d.PutBack(ctx, n, planner, list, work.View{Step: view.step, Result: view.result})
		view.stop()
		if err != nil {
			return err
		}
		var back []string
		for _, r := range results {
			if r.Status == commission.Done {
				back = append(back, r.Plan.Tag)
			}
			for _, note := range r.Notes {
				a.say("%s: %s", r.Plan.Tag, note)
			}
		}
		if len(back) > 0 {
			if err := a.report(fmt.Sprintf("%s back as found, and left out of the job. Hand over its password: `janustat key show %s`", text.Are(back), back[0])); err != nil {
				return err
			}
		}
		return work.Left(ctx, results)
	})
}
