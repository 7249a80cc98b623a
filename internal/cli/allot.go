package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"

	"github.com/spf13/cobra"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/internal/work"
)

func (a *App) allotCommand() *cobra.Command {
	var o work.Allotting
	c := &cobra.Command{
		Use:   "allot",
		Short: "Choose an address for every device; sends nothing",
		Long: `Resolves the site network (job sheet, else recorder, else what the LAN shows) and
allots an address to every taken device, with the reason for each. Nothing is sent
to any device.

A device keeps the address it has where that is a fixed one in the site network and
nobody else's. An address that was allotted and never sent is decided again when
something new is known; the changes are listed. What was sent stays: the site network,
once a device was set up by it, changes only with --ground-anew, and addresses only with
--again or --renumber, which take selectors as "take" does. An address of your own choice
stands in the job sheet, under addresses.`,
		Example: "  janustat allot\n  janustat allot --again C04\n  janustat allot --renumber kind=camera\n  janustat allot --ground-anew --again kind=camera",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.withJob(c.Context(), "allot", func(d *work.Desk) error {
				return a.allot(c.Context(), d, o)
			})
		},
	}
	c.Flags().StringSliceVar(&o.Again, "again", nil, "choose new addresses for this `SELECTOR`; may be given several times")
	c.Flags().StringSliceVar(&o.Renumber, "renumber", nil, "number this `SELECTOR` by its block, whatever address it has now; may be given several times")
	c.Flags().BoolVar(&o.Anew, "ground-anew", false, "work out subnet, gateway, DNS and NTP again, and drop the present values")
	return c
}

type allotRow struct {
	deviceJSON
	Why string `json:"why"`
}

func (a *App) allot(ctx context.Context, d *work.Desk, o work.Allotting) error {
	var ids []int64
	for _, x := range device.OfJob(d.Devices) {
		ids = append(ids, x.ID)
	}
	var made work.Allotted
	err := d.Decide(ctx, "allotment", ids, func() (err error) {
		made, err = d.Allot(ctx, o)
		return err
	})
	if err != nil {
		return err
	}
	g, rows := made.Ground, made.Devices
	var differs []string
	for _, note := range made.Notes() {
		differs = append(differs, note.Text(command))
	}
	if a.json {
		out := make([]allotRow, len(rows))
		for i := range rows {
			out[i] = allotRow{asJSON(&rows[i]), rows[i].Why}
		}
		return a.emit(allotJSON{g, out, differs})
	}
	a.printGround(g)
	among := d.Job.Sheet.Among(d.Devices)
	l := &listing{columns: []column{{head: "TAG"}, {head: "NAME", spare: 2}, {head: "MAC", spare: 3}, {head: "NOW"}, {head: "ALLOTTED"}, {head: "WHY"}}}
	for i := range rows {
		x := &rows[i]
		to := fmt.Sprintf("%s/%d", x.Allotted.Address, x.Allotted.Prefix)
		l.add(plain(x.Tag), plain(cmp.Or(among.NameFor(x), x.Name)), plain(x.MAC.String()), plain(addressText(x.Address())), styled(to, &goodStyle), plain(x.Why))
	}
	a.write(a.Out, l)
	fmt.Fprintln(a.Out)
	for _, text := range differs {
		fmt.Fprintln(a.Out, a.wrap(a.Out, 2, "note: "+text))
	}
	for _, text := range setApart(d.Devices) { // whose it is decides what all the others are given
		fmt.Fprintln(a.Out, a.wrap(a.Out, 2, text))
	}
	if err := a.printEvidence(ctx, d, g); err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "%s allotted; nothing was sent. Next: janustat commission\n", addresses(len(rows)))
	return nil
}

// printEvidence says what an address is held free by: who was silent, when, and who was not asked.
func (a *App) printEvidence(ctx context.Context, d *work.Desk, g ground.Ground) error {
	last, err := d.Job.Register.LastSurvey(ctx)
	if err != nil || last.At.IsZero() {
		return err
	}
	text := fmt.Sprintf("Free is what nothing answered for in the survey of %s. Each address is asked for again before it is given.", last.At.Local().Format("2 January 15:04"))
	for _, u := range last.Unasked {
		if u.Subnet.Overlaps(g.Subnet) {
			text += fmt.Sprintf(" That survey did not ask for %d addresses of %s.", u.Addresses, u.Subnet)
		}
	}
	fmt.Fprintln(a.Out, a.wrap(a.Out, 2, text))
	return nil
}

func (a *App) printGround(g ground.Ground) {
	line := func(what, value, from string) {
		if from != "" {
			value += "   (from " + from + ")"
		}
		fmt.Fprintf(a.Out, "%-8s %s\n", what, value)
	}
	line("subnet", fmt.Sprintf("%s, mask %s", g.Subnet, ground.Mask(g.Subnet.Bits())), g.SubnetFrom)
	if g.Gateway.IsValid() {
		line("gateway", g.Gateway.String(), g.GatewayFrom)
	} else {
		line("gateway", "not known: each device keeps its own. To set one: network.gateway in the job sheet", "")
	}
	for _, s := range []struct {
		what, from string
		list       []netip.Addr
	}{{"DNS", g.DNSFrom, g.DNS}, {"NTP", g.NTPFrom, g.NTP}} {
		if len(s.list) > 0 {
			line(s.what, ground.List(s.list), s.from)
		} else {
			line(s.what, "not known: each device keeps its own", "")
		}
	}
	fmt.Fprintln(a.Out)
}

func addresses(n int) string {
	if n == 1 {
		return "1 address"
	}
	return fmt.Sprintf("%d addresses", n)
}
