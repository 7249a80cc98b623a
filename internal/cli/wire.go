package cli

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/spf13/cobra"

	"janustat/core/device"
	"janustat/core/lan"
	"janustat/internal/job"
	"janustat/internal/kernelwire"
	"janustat/internal/reach"
	"janustat/internal/speak/arp"
	"janustat/internal/survey"
	"janustat/internal/wire"
	"janustat/internal/work"
)

func (a *App) wireCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "wire",
		Short: "Check the laptop's network connection and show what is wrong",
		Long: `Shows each network adapter with its link, speed, addresses and gateway, listens for a few
seconds on the one in use, and lists what will stop the job, the likeliest first, each with
its remedy. It needs no job, but knows more in a job's folder. Changes nothing, on the
laptop or on the LAN.`,
		Example: "  janustat wire\n  janustat wire --wire eth0 --json",
		Args:    noArgs,
		RunE:    func(c *cobra.Command, _ []string) error { return a.wire(c.Context()) },
	}
}

func (a *App) wire(ctx context.Context) error {
	f, err := a.gather(ctx)
	if err != nil {
		return err
	}
	faults := lan.Judge(f)
	stops, hampers := 0, 0
	for _, x := range faults {
		switch x.Weight {
		case lan.Stops:
			stops++
		case lan.Hampers:
			hampers++
		}
	}
	if a.json {
		out := make([]faultJSON, len(faults))
		for i, x := range faults {
			out[i] = faultJSON{x.Code, x.Weight, x.What, x.Remedy.Text(command)}
		}
		if err := a.emit(wireJSON{f, out}); err != nil {
			return err
		}
	} else {
		a.printWire(f, faults)
	}
	switch {
	case f.NoRights != "":
		return fmt.Errorf("%w", quietly{wire.ErrPermission})
	case stops > 0 || hampers > 0:
		return needsError{}
	}
	return nil
}

// faultJSON is one fault in the --json document of wire.
type faultJSON struct {
	Code   string     `json:"code"`
	Weight lan.Weight `json:"weight"`
	What   string     `json:"what"`
	Remedy string     `json:"remedy"`
}

// quietly is an error that was told already: only its exit code is wanted.
type quietly struct{ error }

func (q quietly) Unwrap() error { return q.error }

// gather collects the facts: of the adapters, and of what is heard if one can be used.
func (a *App) gather(ctx context.Context) (lan.Report, error) {
	f := lan.Report{Simulated: strings.HasPrefix(a.wireSpec, "bench:")}
	var err error
	if !f.Simulated {
		if f.Adapters, err = wire.Adapters(); err != nil {
			return f, err
		}
		f.Firewall = wire.Firewall(ctx)
	}
	site := a.siteOf(ctx)
	f.Site, f.SiteFrom = site.subnet, site.from
	w, err := openWire(a.wireSpec)
	var refused *wire.PermissionError
	switch {
	case errors.As(err, &refused):
		f.NoRights = refused.Hint
		return f, nil
	case errors.Is(err, wire.ErrNoAdapter) && !f.Simulated:
		f.Why = err.Error()
		return f, nil
	case err != nil:
		return f, err
	}
	f.Chosen, f.Forwards = w.Facts().Name, w.Facts().Forwards
	if kernelwire.Is(f.Chosen) {
		f.Chosen = strings.TrimPrefix(f.Chosen, kernelwire.Scheme+":")
		if l, ok := wire.Under[kernelwire.Limited](w); ok {
			f.Limits = l.Limits()
		}
	}
	if f.Simulated {
		f.Adapters = []lan.Adapter{{Name: w.Facts().Name, MAC: w.Facts().MAC, Up: true, Link: true, Addresses: w.Facts().Addresses}}
	}
	n := reach.New(w)
	n.Pace = a.Pace
	defer n.Close()
	gateway := site.gateway
	for _, x := range f.Adapters {
		if x.Name == f.Chosen && !gateway.IsValid() {
			gateway = x.Gateway
		}
	}
	a.say("listening on %s …", f.Chosen)
	err = survey.Listening{
		Net: n, Rate: arp.DefaultRate, Meet: survey.Expected(gateway, site.devices),
		Subnets: survey.NewSubnets(n.Facts().Addresses, site.subnet, nil, site.notOurs),
	}.Run(ctx, &f)
	return f, err
}

// siteKnown is what a job in this folder knows of the site.
type siteKnown struct {
	subnet  netip.Prefix
	from    string
	gateway netip.Addr
	notOurs []netip.Prefix
	devices []device.Device
}

// siteOf reads it, if there is a job here that can be read: this command is for
// finding out what is wrong, so a broken job does not stop it.
func (a *App) siteOf(ctx context.Context) siteKnown {
	j, devices, err := a.open(ctx)
	if err != nil {
		if !errors.Is(err, job.ErrNoJob) {
			a.say("note: the job here is not looked at: %v", err)
		}
		return siteKnown{}
	}
	defer j.Close()
	s := siteKnown{notOurs: j.Sheet.Network.NotOurs, devices: devices}
	if g, err := work.Ground(ctx, j, devices); err == nil {
		s.subnet, s.from, s.gateway = g.Subnet, g.SubnetFrom, g.Gateway
	}
	return s
}

func (a *App) printWire(f lan.Report, faults []lan.Fault) {
	w := a.Out
	l := &listing{columns: []column{{}, {head: "ADAPTER"}, {head: "LINK"}, {head: "SPEED", spare: 2}, {head: "ADDRESS"}, {head: "MASK", spare: 1}, {head: "GATEWAY"}, {head: "MAC", spare: 3}}}
	for _, x := range f.Adapters {
		mark, link := "", styled("no link", &badStyle)
		if x.Name == f.Chosen {
			mark = "→"
		}
		if x.Link {
			link = styled("link", &goodStyle)
		}
		speed := ""
		if x.Speed > 0 {
			speed = fmt.Sprintf("%d Mbit/s", x.Speed)
		}
		own, masks := "", ""
		for _, p := range x.Addresses {
			own += " " + p.Addr().String()
			masks += fmt.Sprintf(" /%d", p.Bits())
		}
		l.add(blankable(mark), plain(x.Name), link, plain(speed), plain(strings.TrimSpace(own)), plain(strings.TrimSpace(masks)), plain(addressText(x.Gateway)), plain(x.MAC.String()))
	}
	if len(l.rows) > 0 {
		a.write(w, l)
		fmt.Fprintln(w)
	}
	if f.Chosen != "" {
		a.printHeard(f)
	}
	for i, x := range faults {
		style := map[lan.Weight]*lipgloss.Style{lan.Stops: &badStyle, lan.Hampers: &workStyle, lan.Note: &faintStyle}[x.Weight]
		head := fmt.Sprint(i+1, ". ", a.paint(w, *style, fmt.Sprintf("%-7s", x.Weight)))
		fmt.Fprintf(w, "%s  %s\n   %s %s\n", head, a.wrap(w, 12, x.What), a.paint(w, headStyle, "→"), a.wrap(w, 5, x.Remedy.Text(command)))
	}
	if len(faults) == 0 || faults[0].Weight == lan.Note {
		fmt.Fprintf(w, "%s Next: janustat survey\n", a.paint(w, goodStyle, "Nothing stands in the way."))
	}
}

func (a *App) printHeard(f lan.Report) {
	w := a.Out
	hosts := 0
	var parts []string
	for _, h := range f.Subnets {
		hosts += h.Hosts
		parts = append(parts, fmt.Sprintf("%s (%d)", h.Subnet, h.Hosts))
	}
	fmt.Fprintf(w, "heard   %s of %s\n", plural(int(f.Frames), "frame"), plural(hosts, "host"))
	if len(parts) > 0 {
		fmt.Fprintf(w, "in      %s\n", strings.Join(parts, ", "))
	}
	if f.Site.IsValid() {
		fmt.Fprintf(w, "site    %s (from %s)\n", f.Site, f.SiteFrom)
	}
	for _, s := range f.Servers {
		fmt.Fprintf(w, "DHCP    %s (%s) offers %s, gateway %s\n", s.Address, s.MAC, s.Subnet, addressText(s.Gateway))
	}
	fmt.Fprintln(w)
}
