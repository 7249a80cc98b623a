// Package acd detects IPv4 address conflicts by ARP (RFC 5227): it finds out
// whether an address is free before anyone is given it.
package acd

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"sync"
	"time"

	"janustat/core/device"
	"janustat/internal/speak/arp"
)

// The constants of RFC 5227, 1.1.
const (
	ProbeWait    = 1 * time.Second // the first probe comes within this
	ProbeNum     = 3
	ProbeMin     = 1 * time.Second // between probes at least
	ProbeMax     = 2 * time.Second // and at most
	AnnounceWait = 2 * time.Second // after the last probe
)

// freshFor is how long a finished probe's word is taken: while it waits to be
// used it goes on listening, but a silent newcomer would not be heard.
const freshFor = 30 * time.Second

// ErrConflict is matched by every *ConflictError.
var ErrConflict = errors.New("address in use")

// ConflictError tells who answers for an address.
type ConflictError struct {
	Address netip.Addr
	Holder  device.MAC
}

// Error names the address and its holder.
func (e *ConflictError) Error() string {
	return fmt.Sprintf("%s is in use by %s", e.Address, e.Holder)
}

// Is matches ErrConflict.
func (*ConflictError) Is(target error) bool { return target == ErrConflict }

// Medium sends frames and hears ARP packets.
type Medium interface {
	Send(frame []byte) error
	// HearARP calls f for every ARP packet until stop is called. f must not block.
	HearARP(f func(arp.Packet)) (stop func())
}

// Probe is a probe under way. It runs beside everything else until its context ends.
type Probe struct {
	address  netip.Addr
	done     chan struct{}
	mu       sync.Mutex
	conflict *ConflictError
	found    chan struct{} // closed on conflict
	err      error
	ended    time.Time
	restart  func() *Probe
}

// Begin starts probing an address (RFC 5227, 2.1.1) from the MAC own. Packets
// from a MAC in allowed are no conflict: the device that is to have the address
// may already hold it. Listening goes on until ctx ends, so that a conflict that
// shows later is still told.
func Begin(ctx context.Context, m Medium, own device.MAC, address netip.Addr, allowed ...device.MAC) *Probe {
	p := &Probe{address: address, done: make(chan struct{}), found: make(chan struct{})}
	p.restart = func() *Probe { return Begin(ctx, m, own, address, allowed...) }
	ok := map[device.MAC]bool{own: true}
	for _, a := range allowed {
		ok[a] = true
	}
	stop := m.HearARP(func(a arp.Packet) {
		claims := a.Sender == address
		probes := a.Op == arp.Request && a.Sender.IsUnspecified() && a.Target == address
		if (claims || probes) && !ok[a.SenderMAC] {
			p.clash(a.SenderMAC)
		}
	})
	context.AfterFunc(ctx, stop)
	go p.run(ctx, m, own)
	return p
}

func (p *Probe) clash(holder device.MAC) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.conflict == nil {
		p.conflict = &ConflictError{p.address, holder}
		close(p.found)
	}
}

func (p *Probe) run(ctx context.Context, m Medium, own device.MAC) {
	defer close(p.done)
	frame := arp.Probe(own, p.address).Frame()
	wait := rand.N(ProbeWait)
	for n := range ProbeNum {
		if !p.sleep(ctx, wait) {
			return
		}
		if err := m.Send(frame); err != nil {
			p.fail(fmt.Errorf("probe %s: %w", p.address, err))
			return
		}
		if wait = ProbeMin + rand.N(ProbeMax-ProbeMin); n == ProbeNum-1 {
			wait = AnnounceWait
		}
	}
	p.sleep(ctx, wait)
	p.mu.Lock()
	p.ended = time.Now()
	p.mu.Unlock()
}

// sleep waits, and is cut short by a conflict or the end of ctx.
func (p *Probe) sleep(ctx context.Context, d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-p.found:
	case <-ctx.Done():
		p.fail(ctx.Err())
	}
	return false
}

func (p *Probe) fail(err error) {
	p.mu.Lock()
	p.err = err
	p.mu.Unlock()
}

// Wait ends with nil once the address is known to be free, with a
// *ConflictError, or with ctx's error. A word older than half a minute is not
// taken: then the address is probed again.
func (p *Probe) Wait(ctx context.Context) error {
	select {
	case <-p.done:
	case <-p.found:
	case <-ctx.Done():
		return ctx.Err()
	}
	p.mu.Lock()
	conflict, err, ended := p.conflict, p.err, p.ended
	p.mu.Unlock()
	switch {
	case conflict != nil:
		return conflict
	case err != nil:
		return err
	case time.Since(ended) > freshFor:
		return p.restart().Wait(ctx)
	}
	return nil
}
