package cli

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/ground"
	"janustat/internal/field"
	"janustat/internal/job"
	"janustat/internal/reach"
	"janustat/internal/speak/dhcp"
)

// leaseFor is how long the lease service runs unless told otherwise.
const leaseFor = 10 * time.Minute

func (a *App) leaseCommand() *cobra.Command {
	length, stay := leaseFor, false
	c := &cobra.Command{
		Use:   "lease",
		Short: "Give taken devices their addresses by DHCP, for a while",
		Long: `Runs a small DHCP service that answers only devices taken into the job, and gives
each the address allotted to it, or one of the job sheet's lease.temporary range. It
refuses to begin while another DHCP server answers, and stops if one appears. Each
address is probed before it is offered, and each lease is recorded. It ends once
every device without an address has one, or when its time is over; then it looks
what those devices are, so that they can be commissioned.`,
		Example: "  janustat lease --wire eth0\n  janustat lease --wire eth0 --for 1h --stay",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if length < time.Second || length > 24*time.Hour {
				return usagef("--for %s: use 1s to 24h", length)
			}
			return a.withJob(c.Context(), "lease", func(j *job.Job, devices []device.Device) error {
				clients, err := leaseClients(j, devices)
				if err != nil {
					return err
				}
				if err := a.confirm(c.Context(), fmt.Sprintf("Run a DHCP service for %s on this LAN?", plural(len(clients), "device"))); err != nil {
					return err
				}
				return a.withNet(c.Context(), longPatience, func(ctx context.Context, n *reach.Net) error {
					return a.lease(ctx, j, devices, n, clients, length, stay)
				})
			})
		},
	}
	c.Flags().DurationVar(&length, "for", length, "end after this time")
	c.Flags().BoolVar(&stay, "stay", false, "go on until the time is over, even when every device has its lease")
	return c
}

// leaseClients gives the taken devices with the address each is to have: what is
// allotted, else the next of the temporary range.
func leaseClients(j *job.Job, devices []device.Device) ([]field.LeaseClient, error) {
	var out []field.LeaseClient
	var next, last netip.Addr
	if t := j.Sheet.Lease.Temporary; t != nil {
		next, last = t.From, t.To
	}
	for _, d := range tagged(devices) {
		c := field.LeaseClient{MAC: d.MAC, Waiting: !d.Address().IsValid()}
		switch {
		case d.Allotted != nil:
			c.Address = d.Allotted.Address
		case next.IsValid() && next.Compare(last) <= 0:
			c.Address, next = next, next.Next()
		default:
			return nil, usagef("%s has no address allotted: run `janustat allot` first, or give lease.temporary in the job sheet", d.Tag)
		}
		out = append(out, c)
	}
	if len(out) == 0 {
		return nil, usagef("no device is taken: only taken devices get a lease. Choose with `janustat take MAC --kind camera`, then run `janustat allot`")
	}
	return out, nil
}

func (a *App) lease(ctx context.Context, j *job.Job, devices []device.Device, n *reach.Net, clients []field.LeaseClient, length time.Duration, stay bool) error {
	log, err := a.logger()
	if err != nil {
		return err
	}
	g, err := field.Ground(ctx, j, devices)
	if err != nil {
		return err
	}
	for _, c := range clients {
		if err := ground.Check(g.Subnet, c.Address, g.Gateway); err != nil {
			return usageError{fmt.Errorf("lease for %s: %w", c.MAC, err)}
		}
	}
	subnets, avoid, err := a.lay(ctx, j, devices, n)
	if err != nil {
		return err
	}
	label := func(mac device.MAC) string {
		at := slices.IndexFunc(devices, func(d device.Device) bool { return d.MAC == mac })
		return devices[at].Label()
	}
	a.say("looking for other DHCP servers …")
	leased, err := field.Leaser{
		Net: n, Subnets: subnets, Avoid: func(x netip.Addr) bool {
			return avoid(x) || slices.ContainsFunc(clients, func(c field.LeaseClient) bool { return c.Address == x })
		},
		Terms:   dhcp.Lease{Subnet: g.Subnet, Gateway: g.Gateway, DNS: g.DNS, NTP: g.NTP, Time: j.Sheet.LeaseTime()},
		Clients: clients, For: length, Stay: stay, Log: log,
		Tell: func(c field.LeaseClient, text string) {
			a.say("%s  %s  %s  %s", time.Now().Format("15:04:05"), label(c.MAC), c.Address, text)
		},
		Given: func(l job.LeaseRecord) error { return j.Register.AddLease(context.WithoutCancel(ctx), l) },
	}.Run(ctx)
	switch {
	case errors.Is(err, context.Canceled) && len(leased) > 0:
		return fmt.Errorf("%w: %s given, which is on record; `janustat survey` looks what they are", errInterrupted, plural(len(leased), "lease"))
	case err != nil:
		return err
	}
	if len(leased) > 0 {
		a.say("looking what they are …")
		if devices, err = a.afterLease(ctx, j, devices, n, leased); err != nil {
			return err
		}
	}
	return a.printLeases(devices, clients, leased)
}

// afterLease surveys, and marks the leased devices that speak nothing: they are
// addressed by their lease for good.
func (a *App) afterLease(ctx context.Context, j *job.Job, known []device.Device, n *reach.Net, leased []device.MAC) ([]device.Device, error) {
	s, err := a.look(ctx, j, known, n, surveyOptions{listen: field.DefaultListen, quietly: true})
	if err != nil {
		return nil, err
	}
	for i := range s.devices {
		d := &s.devices[i]
		if slices.Contains(leased, d.MAC) && d.Access == device.Unmanaged && d.Allotted != nil && d.Address() == d.Allotted.Address {
			d.Apply(device.Reserved{At: time.Now()})
		}
	}
	return s.devices, a.keep(ctx, j, s)
}

type leaseJSON struct {
	Tag     string        `json:"tag"`
	MAC     device.MAC    `json:"mac"`
	Address netip.Addr    `json:"address"`
	Leased  bool          `json:"leased"`
	Access  device.Access `json:"access"`
}

func (a *App) printLeases(devices []device.Device, clients []field.LeaseClient, leased []device.MAC) error {
	var rows []leaseJSON
	var reserved []commission.Plan
	missing := 0
	l := &listing{columns: []column{{"TAG", 0}, {"MAC", 0}, {"ADDRESS", 0}, {"LEASE", 0}, {"WHAT IT IS", 1}, {"ACCESS", 0}}}
	for _, c := range clients {
		given := slices.Contains(leased, c.MAC)
		if !given && !c.Waiting {
			continue
		}
		at := slices.IndexFunc(devices, func(d device.Device) bool { return d.MAC == c.MAC })
		d := &devices[at]
		text := styled("leased", &goodStyle)
		if !given {
			missing++
			text = styled("did not ask", &badStyle)
		}
		if d.Allotted != nil && d.Allotted.DHCP {
			reserved = append(reserved, commission.Plan{Tag: d.Tag, MAC: d.MAC, Target: *d.Allotted})
		}
		l.add(plain(d.Tag), plain(d.MAC.String()), plain(c.Address.String()), text, plain(whatText(d)), accessCell(d.Access))
		rows = append(rows, leaseJSON{d.Tag, d.MAC, c.Address, given, d.Access})
	}
	if a.json {
		if err := a.emit(orEmpty(rows)); err != nil {
			return err
		}
	} else {
		if len(l.rows) == 0 {
			fmt.Fprintln(a.Out, "No device asked for a lease.")
		} else {
			a.write(a.Out, l)
			fmt.Fprintln(a.Out)
		}
		a.printReservations(reserved)
	}
	if missing > 0 {
		return needsError{fmt.Sprintf("%s did not ask for an address: power each off and on while `janustat lease` runs", plural(missing, "device"))}
	}
	if !a.json && len(l.rows) > 0 {
		fmt.Fprintln(a.Out, "Next: janustat commission")
	}
	return nil
}
