package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/internal/field"
	"janustat/internal/job"
)

func (a *App) allotCommand() *cobra.Command {
	var o allotting
	c := &cobra.Command{
		Use:   "allot",
		Short: "Decide every address, on paper",
		Long: `Resolves the site network (job sheet, else recorder, else what the LAN shows) and
allots an address to every taken device, with the reason for each. Nothing is sent
to any device.

What was decided stays: the site network, once a device was set up by it, changes only
with --ground-anew, and allotted addresses only with --again, which takes selectors as
"take" does. Where the job sheet or the LAN says something else by now, that is told.`,
		Example: "  janustat allot\n  janustat allot --again C04\n  janustat allot --ground-anew --again kind=camera",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.withJob(c.Context(), "allot", func(j *job.Job, devices []device.Device) error {
				return a.allot(c.Context(), j, devices, o)
			})
		},
	}
	c.Flags().StringSliceVar(&o.again, "again", nil, "forget what this `SELECTOR` was allotted earlier; may be given several times")
	c.Flags().BoolVar(&o.anew, "ground-anew", false, "resolve the site network anew, and forget what it was")
	return c
}

// allotting is how addresses are allotted.
type allotting struct {
	again []string
	anew  bool
}

type allotRow struct {
	deviceJSON
	Why string `json:"why"`
}

// forgotten gives the devices whose allotment is to be made anew, by index.
func (o allotting) forgotten(devices []device.Device) (map[int]bool, error) {
	out := map[int]bool{}
	if len(o.again) == 0 {
		return out, nil
	}
	s, err := device.ParseSelector(o.again)
	if err != nil {
		return nil, usageError{err}
	}
	chosen, err := s.List(devices)
	if err != nil {
		return nil, err
	}
	for _, i := range chosen {
		if devices[i].InJob == device.Taken {
			out[i] = true
		}
	}
	if len(out) == 0 {
		return nil, usagef("--again %s: none of these is in the job", strings.Join(o.again, " "))
	}
	return out, nil
}

func (a *App) allot(ctx context.Context, j *job.Job, devices []device.Device, o allotting) error {
	again, err := o.forgotten(devices)
	if err != nil {
		return err
	}
	if len(tagged(devices)) == 0 {
		return usagef("no device is taken: choose with `janustat take all` first")
	}
	g, differs, err := field.KeepGround(ctx, j, devices, o.anew)
	if err != nil {
		return err
	}
	reserved, err := field.Reserved(ctx, j, devices)
	if err != nil {
		return err
	}
	blocks := j.Sheet.BlocksIn(g.Subnet)
	requests := field.Requests(devices, func(d *device.Device) bool { return again[indexOf(devices, d)] })
	allotted, err := ground.Allot(g, blocks, reserved, requests)
	if err != nil {
		return usageError{err}
	}
	now := time.Now()
	rows := make([]device.Device, len(allotted))
	for i, x := range allotted {
		d := &devices[indexByTag(devices, x.Key)]
		to := device.Settings{Address: x.Address, Prefix: g.Subnet.Bits(), Gateway: g.Gateway}
		if d.Commissioned() && !again[indexOf(devices, d)] && !o.anew && d.Allotted != nil {
			to = *d.Allotted // as it was set up
		}
		d.Apply(device.Allotment{At: now, Settings: to, Why: x.Why})
		rows[i] = *d
	}
	field.Judge(j.Sheet, devices, g.Subnet)
	if err := j.Register.Save(ctx, devices); err != nil {
		return err
	}
	differs = append(differs, a.wouldChange(j, devices, g, blocks)...)
	if a.json {
		out := make([]allotRow, len(rows))
		for i := range rows {
			out[i] = allotRow{asJSON(&rows[i]), rows[i].Why}
		}
		return a.emit(struct {
			Ground    ground.Ground `json:"ground"`
			Allotment []allotRow    `json:"allotment"`
			Differs   []string      `json:"differs,omitempty"`
		}{g, out, differs})
	}
	a.printGround(g)
	among := j.Sheet.Among(devices)
	l := &listing{columns: []column{{"TAG", 0}, {"NAME", 2}, {"MAC", 3}, {"NOW", 0}, {"ALLOTTED", 0}, {"WHY", 0}}}
	for i := range rows {
		d := &rows[i]
		to := fmt.Sprintf("%s/%d", d.Allotted.Address, d.Allotted.Prefix)
		l.add(plain(d.Tag), plain(cmp.Or(among.NameFor(d), d.Name)), plain(d.MAC.String()), plain(addressText(d.Address())), styled(to, &goodStyle), plain(d.Why))
	}
	a.write(a.Out, l)
	fmt.Fprintln(a.Out)
	for _, text := range differs {
		fmt.Fprintln(a.Out, a.wrap(a.Out, 2, "note: "+text))
	}
	fmt.Fprintf(a.Out, "%s allotted; nothing was sent. Next: janustat commission\n", addresses(len(rows)))
	return nil
}

func indexByTag(devices []device.Device, tag string) int {
	return slices.IndexFunc(devices, func(d device.Device) bool { return d.Tag == tag })
}

func indexOf(devices []device.Device, d *device.Device) int {
	return slices.IndexFunc(devices, func(x device.Device) bool { return x.ID == d.ID && x.MAC == d.MAC })
}

// wouldChange tells what the job sheet, as it is by now, would move or rename of what
// was set up already.
func (a *App) wouldChange(j *job.Job, devices []device.Device, g ground.Ground, blocks []ground.Block) (out []string) {
	among := j.Sheet.Among(devices)
	var move, rename []string
	for i := range devices {
		d := &devices[i]
		if d.InJob != device.Taken || !d.Commissioned() || d.Allotted == nil {
			continue
		}
		at := slices.IndexFunc(blocks, func(b ground.Block) bool { return b.Name == string(d.Kind) })
		if d.Why != "" && d.Kind != device.Recorder && at >= 0 && !blocks[at].Range.Contains(d.Allotted.Address) || !g.Subnet.Contains(d.Allotted.Address) {
			move = append(move, d.Tag)
		}
		if name := among.NameFor(d); name != "" && name != d.AsLeft.Name {
			rename = append(rename, fmt.Sprintf("%s from %q to %q", d.Tag, d.AsLeft.Name, name))
		}
	}
	if len(move) > 0 {
		out = append(out, fmt.Sprintf("%s set up and outside the blocks of the job sheet: `janustat allot --again %s` would move what is named; until then it stays", areOf(move), strings.Join(move, ",")))
	}
	if len(rename) > 0 {
		out = append(out, "the job sheet has other names by now: `janustat commission` would rename "+strings.Join(rename, ", "))
	}
	return out
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
		line("gateway", "none: nothing says what it is, so devices keep theirs", "")
	}
	for _, s := range []struct {
		what, from string
		list       []netip.Addr
	}{{"DNS", g.DNSFrom, g.DNS}, {"NTP", g.NTPFrom, g.NTP}} {
		if len(s.list) > 0 {
			line(s.what, ground.List(s.list), s.from)
		} else {
			line(s.what, "none: nothing says what they are, so devices keep theirs", "")
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
