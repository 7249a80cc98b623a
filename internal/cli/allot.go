package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/internal/field"
	"janustat/internal/job"
)

func (a *App) allotCommand() *cobra.Command {
	var again []string
	c := &cobra.Command{
		Use:   "allot",
		Short: "Decide every address, on paper",
		Long: `Resolves the site network (job sheet, else recorder, else what the LAN shows) and
allots an address to every taken device, with the reason for each. Nothing is sent
to any device. Earlier allotments stay, unless --again names the device.`,
		Example: "  janustat allot\n  janustat allot --again C04",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.withJob(c.Context(), "allot", func(j *job.Job, devices []device.Device) error {
				return a.allot(c.Context(), j, devices, again)
			})
		},
	}
	c.Flags().StringSliceVar(&again, "again", nil, "forget what this `DEVICE` was allotted earlier")
	return c
}

type allotRow struct {
	deviceJSON
	Why string `json:"why"`
}

func (a *App) allot(ctx context.Context, j *job.Job, devices []device.Device, again []string) error {
	for _, ref := range again {
		d, err := device.Find(devices, ref)
		if err != nil {
			return err
		}
		d.Allotted, d.Why = nil, ""
	}
	g, err := field.Ground(ctx, j, devices)
	if err != nil {
		return err
	}
	requests := field.Requests(devices)
	if len(requests) == 0 {
		return usagef("no device is taken: choose with `janustat take all` first")
	}
	reserved, err := field.Reserved(ctx, j, devices)
	if err != nil {
		return err
	}
	blocks := j.Sheet.BlocksIn(g.Subnet)
	allotted, err := ground.Allot(g, blocks, reserved, requests)
	if err != nil {
		return usageError{err}
	}
	rows := make([]device.Device, len(allotted))
	for i, x := range allotted {
		d, err := device.Find(devices, x.Key)
		if err != nil {
			return err
		}
		d.Allotted = &device.Settings{Address: x.Address, Prefix: g.Subnet.Bits(), Gateway: g.Gateway}
		d.Why = x.Why
		rows[i] = *d
	}
	field.Judge(j.Sheet, devices, g.Subnet)
	if err := j.Register.Save(ctx, devices); err != nil {
		return err
	}
	if a.json {
		out := make([]allotRow, len(rows))
		for i := range rows {
			out[i] = allotRow{asJSON(&rows[i]), rows[i].Why}
		}
		return a.emit(struct {
			Ground    ground.Ground `json:"ground"`
			Allotment []allotRow    `json:"allotment"`
		}{g, out})
	}
	a.printGround(g)
	l := &listing{columns: []column{{"TAG", 0}, {"NAME", 2}, {"MAC", 3}, {"NOW", 0}, {"ALLOTTED", 0}, {"WHY", 0}}}
	for i := range rows {
		d := &rows[i]
		to := fmt.Sprintf("%s/%d", d.Allotted.Address, d.Allotted.Prefix)
		l.add(plain(d.Tag), plain(j.Sheet.NameFor(d)), plain(d.MAC.String()), plain(addressText(d.Address())), styled(to, &goodStyle), plain(d.Why))
	}
	a.write(a.Out, l)
	fmt.Fprintf(a.Out, "\n%s allotted; nothing was sent. Next: janustat commission\n", addresses(len(rows)))
	return nil
}

func (a *App) printGround(g ground.Ground) {
	fmt.Fprintf(a.Out, "subnet   %s, mask %s   (from %s)\n", g.Subnet, ground.Mask(g.Subnet.Bits()), g.SubnetFrom)
	if g.Gateway.IsValid() {
		fmt.Fprintf(a.Out, "gateway  %s   (from %s)\n\n", g.Gateway, g.GatewayFrom)
		return
	}
	fmt.Fprintf(a.Out, "gateway  none: nothing says what it is, so devices keep theirs\n\n")
}

func addresses(n int) string {
	if n == 1 {
		return "1 address"
	}
	return fmt.Sprintf("%d addresses", n)
}
