package lease

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"janustat/core/device"
	"janustat/core/lan"
	"janustat/internal/reach"
	"janustat/internal/speak/acd"
	"janustat/internal/speak/dhcp"
	"janustat/internal/survey"
)

// doubtEvery is how often another server is asked for at most, whatever is heard.
const doubtEvery = time.Second

func (r *leaseRun) serve(ctx context.Context) error {
	var doubted time.Time
	look := time.NewTicker(r.Net.Pace.Of(askServers))
	defer look.Stop()
	meet := time.NewTicker(r.Net.Pace.Of(meetEvery))
	defer meet.Stop()
	var ended <-chan time.Time
	for {
		leased, met := r.state()
		switch {
		case leased && met && !r.Stay:
			return nil
		case !leased:
			ended = nil
		case ended == nil && !r.Stay:
			ended = time.After(r.Net.Pace.Of(takeUp))
		}
		select {
		case q := <-r.asks:
			r.answer(ctx, q)
		case c := <-r.checked:
			r.afterCheck(c)
		case mac := <-r.met:
			c := r.clients[mac]
			c.met = c.leased
		case <-meet.C:
			if err := r.lookForThem(); err != nil {
				return err
			}
		case err := <-r.other:
			return err
		case <-r.doubt:
			if r.Net.Pace.Since(doubted) < doubtEvery {
				continue
			}
			doubted = time.Now()
			if err := survey.AskDHCP(r.Net, r.dhcpID); err != nil {
				return err
			}
		case <-look.C:
			if err := survey.AskDHCP(r.Net, r.dhcpID); err != nil {
				return err
			}
		case <-ended:
			return nil
		case <-r.Net.Done():
			return fmt.Errorf("the wire went away: %w", r.Net.Err())
		case <-ctx.Done():
			if errors.Is(ctx.Err(), context.DeadlineExceeded) {
				return nil
			}
			return ctx.Err()
		}
	}
}

// state reports whether every device waited for has its lease, and whether each
// was met at its address.
func (r *leaseRun) state() (leased, met bool) {
	waited := false
	leased, met = true, true
	for _, c := range r.clients {
		if !c.Waiting {
			continue
		}
		waited = true
		over := c.refused != nil || c.idle && !c.leased
		leased, met = leased && (c.leased || over), met && (c.met || over)
	}
	return leased && waited, met
}

// lookForThem asks for the devices that have a lease at its address.
func (r *leaseRun) lookForThem() error {
	for _, c := range r.clients {
		if !c.leased || c.met {
			continue
		}
		if err := r.Net.AskOnce(reach.Place{Address: c.Address, From: r.visitor, MAC: c.MAC}); err != nil {
			return err
		}
	}
	return nil
}

// check begins an RFC 5227 probe of a client's address.
func (r *leaseRun) check(ctx context.Context, c *clientState) {
	c.checking = true
	mac, address := c.MAC, c.Address
	go func() {
		probing, cancel := context.WithCancel(ctx)
		defer cancel()
		err := acd.Begin(probing, r.Net, acd.Given.At(r.Net.Pace), r.Net.Facts().MAC, address, mac).Wait(ctx)
		select {
		case r.checked <- checkedAddress{mac, err}:
		case <-ctx.Done():
		}
	}()
}

func (r *leaseRun) afterCheck(done checkedAddress) {
	c := r.clients[done.mac]
	c.checking = false
	if done.err != nil {
		if errors.Is(done.err, acd.ErrConflict) {
			c.refused = done.err
			r.Tell(c.Client, "not offered: "+done.err.Error())
		}
		return
	}
	c.freeUntil = time.Now().Add(checkHolds)
	if q := c.pending; q != nil {
		c.pending = nil
		r.offer(c, *q)
	}
}

// answer takes one message of a client. Those not in the job get no answer.
func (r *leaseRun) answer(ctx context.Context, q leaseAsk) {
	c := r.clients[q.MAC]
	if c == nil {
		r.Log.Debug("not in the job, so not answered", "mac", q.MAC, "vendor", q.VendorClass)
		return
	}
	if c.refused != nil {
		return
	}
	c.asked = true
	switch q.Kind {
	case dhcp.Wants:
		if time.Now().Before(c.freeUntil) {
			r.offer(c, q.Request)
			return
		}
		c.pending = &q.Request
		if !c.checking {
			r.check(ctx, c)
		}
	case dhcp.Takes:
		r.confirm(c, q.Request)
	case dhcp.Refuses:
		if q.Server != r.Terms.Server || q.Address != c.Address {
			return // it refuses somebody else's offer, or none that we made
		}
		// Whether it is in use shows a probe of our own: anybody can say so in its name.
		c.leased, c.met, c.freeUntil = false, false, time.Time{}
		if c.declined++; c.declined >= maxDeclined {
			c.refused = fmt.Errorf("it refused %s %d times, and nobody else answers there", c.Address, c.declined)
			r.Tell(c.Client, c.refused.Error())
			return
		}
		r.Tell(c.Client, "refused by the device, as if it were in use: looking again")
		if !c.checking {
			r.check(ctx, c)
		}
	case dhcp.Returns:
		if q.Server.IsValid() && q.Server != r.Terms.Server || q.Current != c.Address {
			return
		}
		c.leased, c.met = false, false
		r.Tell(c.Client, "given back")
	}
}

func (r *leaseRun) terms(c *clientState) dhcp.Lease {
	t := r.Terms
	t.Address = c.Address
	return t
}

func (r *leaseRun) offer(c *clientState, q dhcp.Request) {
	b, err := q.Offer(r.terms(c))
	r.send(q, b, err)
	if c.leased {
		return
	}
	if c.offered++; c.offered == 1 {
		c.first = time.Now()
	}
	if !c.idle && c.offered >= maxOffered && r.Net.Pace.Since(c.first) > offeredFor {
		c.idle = true
		r.Tell(c.Client, fmt.Sprintf("was offered %s %d times and does not take it: it is not waited for any longer", c.Address, c.offered))
	}
}

// confirm gives the lease to a client that takes our offer, or goes on with it.
func (r *leaseRun) confirm(c *clientState, q dhcp.Request) {
	if q.Server.IsValid() && q.Server != r.Terms.Server {
		r.suspect() // it takes another's offer, or somebody says so
		return
	}
	wanted := q.Address
	if !wanted.IsValid() {
		wanted = q.Current
	}
	fresh := time.Now().Before(c.freeUntil)
	if wanted != c.Address || !fresh && !c.leased {
		// It remembers another lease, or one not probed yet: it is to begin anew.
		b, err := q.Nak(r.Terms.Server)
		r.send(q, b, err)
		return
	}
	now := time.Now()
	if err := r.Given(lan.Lease{MAC: c.MAC, Address: c.Address, At: now, Until: now.Add(r.Terms.Time)}); err != nil {
		r.Log.Error("lease withheld: it could not be recorded", "mac", c.MAC, "err", err)
		return
	}
	b, err := q.Ack(r.terms(c))
	r.send(q, b, err)
	c.offered, c.idle = 0, false
	if !c.leased {
		c.leased = true
		r.Tell(c.Client, fmt.Sprintf("leased until %s", now.Add(r.Terms.Time).Format("15:04")))
	}
}

// send answers by broadcast: a client without an address hears that for certain
// (RFC 2131, 4.1).
func (r *leaseRun) send(q dhcp.Request, payload []byte, err error) {
	if err == nil {
		to := netip.AddrPortFrom(netip.AddrFrom4([4]byte{255, 255, 255, 255}), dhcp.ClientPort)
		err = r.Net.SendUDP(r.visitor, leaseAnswering, device.Broadcast, to, payload)
	}
	if err != nil {
		r.Log.Warn("lease not sent", "mac", q.MAC, "err", err)
	}
}
