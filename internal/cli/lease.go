package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/text"
	"janustat/internal/lease"
	"janustat/internal/reach"
	"janustat/internal/work"
)

// leaseFor is how long the lease service runs unless told otherwise.
const leaseFor = 10 * time.Minute

func (a *App) leaseCommand() *cobra.Command {
	length, stay := leaseFor, false
	c := &cobra.Command{
		Use:   "lease",
		Short: "Give taken devices their addresses by DHCP, for a while",
		Long: `Runs a small DHCP service that answers only devices taken into the job, and gives each the
address allotted to it, or one of the job sheet's lease.temporary range. It refuses to start
while another DHCP server answers, and stops if one appears. Each address is probed before
it is given, and each lease is recorded. It ends when every device without an address has
one, or when its time is over; then it reads those devices, so that they can be
commissioned.`,
		Example: "  janustat lease --wire eth0\n  janustat lease --wire eth0 --for 1h --stay",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if length < time.Second || length > 24*time.Hour {
				return usagef("--for %s: use 1s to 24h", length)
			}
			return a.withJob(c.Context(), "lease", func(d *work.Desk) error {
				clients, err := d.LeaseClients()
				if err != nil {
					return err
				}
				if err := a.confirm(c.Context(), fmt.Sprintf("Run a DHCP service for %s on this LAN?", plural(len(clients), "device"))); err != nil {
					return err
				}
				return a.lease(c.Context(), d, work.Leasing{Clients: clients, For: length, Stay: stay})
			})
		},
	}
	c.Flags().DurationVar(&length, "for", length, "end after this time")
	c.Flags().BoolVar(&stay, "stay", false, "go on until the time is over, even when every device has its lease")
	return c
}

func (a *App) lease(ctx context.Context, d *work.Desk, o work.Leasing) error {
	o.Tell = func(label string, c lease.Client, text string) {
		a.say("%s  %s  %s  %s", time.Now().Format("15:04:05"), label, c.Address, text)
	}
	return a.withNet(ctx, d, longPatience, func(ctx context.Context, n *reach.Net) error {
		ended, err := d.Lease(ctx, n, o)
		if err != nil {
			return err
		}
		return a.printLeases(d.Devices, o.Clients, ended)
	})
}

type leaseJSON struct {
	Tag     string        `json:"tag"`
	MAC     device.MAC    `json:"mac"`
	Address netip.Addr    `json:"address"`
	Leased  bool          `json:"leased"`
	Access  device.Access `json:"access"`
	Why     string        `json:"why,omitempty"` // it has none
}

func (a *App) printLeases(devices []device.Device, clients []lease.Client, ended lease.Outcome) error {
	leased := ended.Leased
	var rows []leaseJSON
	var reserved []commission.Plan
	missing, silent := 0, 0
	var whys []string
	first := "" // that has a reason
	l := &listing{columns: []column{{head: "TAG"}, {head: "MAC"}, {head: "ADDRESS"}, {head: "LEASE"}, {head: "WHAT IT IS", spare: 1}, {head: "ACCESS"}}}
	for _, c := range clients {
		given := slices.Contains(leased, c.MAC)
		if !given && !c.Waiting {
			continue
		}
		at := slices.IndexFunc(devices, func(d device.Device) bool { return d.MAC == c.MAC })
		d := &devices[at]
		state := styled("leased", &goodStyle)
		if !given {
			missing++
			state = styled("none", &badStyle)
			if ended.Why[c.MAC] == lease.DidNotAsk {
				silent++
				state = styled(lease.DidNotAsk, &badStyle)
			} else {
				first = cmp.Or(first, d.Label())
				whys = append(whys, fmt.Sprintf("%s has no lease: %s", d.Label(), ended.Why[c.MAC]))
			}
		}
		if d.Allotted != nil && d.Allotted.DHCP {
			reserved = append(reserved, commission.Plan{Tag: d.Tag, MAC: d.MAC, Target: *d.Allotted})
		}
		l.add(plain(d.Tag), plain(d.MAC.String()), plain(c.Address.String()), state, plain(whatText(d)), accessCell(d.Access))
		rows = append(rows, leaseJSON{d.Tag, d.MAC, c.Address, given, d.Access, ended.Why[c.MAC]})
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
			for _, why := range whys {
				fmt.Fprintln(a.Out, a.wrap(a.Out, 2, why))
			}
		}
		a.printReservations(reserved)
	}
	switch {
	case silent > 0:
		return needsError{fmt.Sprintf("%s did not ask for an address: power each off and on while `janustat lease` runs", plural(silent, "device"))}
	case missing > 0:
		return needsError{fmt.Sprintf("%s no lease, for the reason above: find out what has the address, then `janustat survey` and `janustat allot --again %s`", text.Have([]string{plural(missing, "device")}), first)}
	}
	if !a.json && len(l.rows) > 0 {
		fmt.Fprintln(a.Out, "Next: janustat commission")
	}
	return nil
}
