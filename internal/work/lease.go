package work

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"janustat/core/advice"
	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/lan"
	"janustat/core/text"
	"janustat/internal/lease"
	"janustat/internal/reach"
	"janustat/internal/speak/dhcp"
	"janustat/internal/survey"
)

// LeaseClients gives the taken devices with the address each is to have: what is
// allotted, else the next of the temporary range.
func (d *Desk) LeaseClients() ([]lease.Client, error) {
	var out []lease.Client
	var next, last netip.Addr
	if t := d.Job.Sheet.Lease.Temporary; t != nil {
		next, last = t.From, t.To
	}
	for _, x := range device.OfJob(d.Devices) {
		c := lease.Client{MAC: x.MAC, Waiting: !x.Address().IsValid()}
		switch {
		case x.Allotted != nil:
			c.Address = x.Allotted.Address
		case next.IsValid() && next.Compare(last) <= 0:
			c.Address, next = next, next.Next()
		default:
			return nil, &Misuse{advice.Wrap(fmt.Errorf("%s has no address allotted", x.Tag), "run %s first, or give lease.temporary in the job sheet", advice.Allot)}
		}
		out = append(out, c)
	}
	if len(out) == 0 {
		return nil, &Misuse{advice.Wrap(errors.New("no device is taken: only taken devices get a lease"), "choose with %s, then run %s", advice.TakeByHand, advice.Allot)}
	}
	return out, nil
}

// Leasing is how leases are given.
type Leasing struct {
	Clients []lease.Client
	For     time.Duration
	Stay    bool
	Tell    func(label string, c lease.Client, text string)
}

// Lease gives devices their addresses by DHCP, looks what they are, and tells who took one.
func (d *Desk) Lease(ctx context.Context, n *reach.Net, o Leasing) (lease.Outcome, error) {
	g, err := Ground(ctx, d.Job, d.Devices)
	if err != nil {
		return lease.Outcome{}, err
	}
	for _, c := range o.Clients {
		if err := ground.Check(g.Subnet, c.Address, g.Gateway); err != nil {
			return lease.Outcome{}, misuse("lease for %s: %w", c.MAC, err)
		}
	}
	subnets, avoid, err := d.Lay(ctx, n)
	if err != nil {
		return lease.Outcome{}, err
	}
	d.Say("looking for other DHCP servers …")
	ended, err := lease.Server{
		Net: n, Subnets: subnets, Avoid: func(x netip.Addr) bool {
			return avoid(x) || slices.ContainsFunc(o.Clients, func(c lease.Client) bool { return c.Address == x })
		},
		Terms:   dhcp.Lease{Subnet: g.Subnet, Gateway: g.Gateway, DNS: g.DNS, NTP: g.NTP, Time: d.Job.Sheet.LeaseTime()},
		Clients: o.Clients, For: o.For, Stay: o.Stay, Log: d.Log,
		Tell:  func(c lease.Client, text string) { o.Tell(device.ByMAC(d.Devices, c.MAC).Label(), c, text) },
		Given: func(l lan.Lease) error { return d.Job.Register.AddLease(context.WithoutCancel(ctx), l) },
	}.Run(ctx)
	switch {
	case errors.Is(err, context.Canceled) && len(ended.Leased) > 0:
		return ended, advice.Wrap(fmt.Errorf("%w: %s given, which is on record", ErrInterrupted, text.Plural(len(ended.Leased), "lease")), "%s looks what they are", advice.Survey)
	case err != nil || len(ended.Leased) == 0:
		return ended, err
	}
	d.Say("looking what they are …")
	return ended, d.afterLease(ctx, n, ended.Leased)
}

// afterLease surveys, and marks the leased devices that speak nothing: they are
// addressed by their lease for good.
func (d *Desk) afterLease(ctx context.Context, n *reach.Net, leased []device.MAC) error {
	s, err := d.Look(ctx, n, SurveyOrder{Listen: survey.DefaultListen, Silent: true})
	if err != nil {
		return err
	}
	for i := range s.Devices {
		x := &s.Devices[i]
		if slices.Contains(leased, x.MAC) && x.Access.Dumb() && x.Allotted != nil && x.Address() == x.Allotted.Address {
			x.Apply(device.Reserved{At: time.Now()})
		}
	}
	return d.Keep(ctx, s)
}
