// Package acd detects IPv4 address conflicts by ARP (RFC 5227): it finds out
// whether an address is free before anyone is given it.
package acd

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"sync"
	"time"

	"janustat/core/device"
	"janustat/internal/pace"
	"janustat/internal/speak/arp"
)

// The constants of RFC 5227, 1.1.
const (
	ProbeNum     = 3
	ProbeMin     = 1 * time.Second // between probes at least
	AnnounceWait = 2 * time.Second // after the last probe
)

// Manner is how an address is probed: so many probes, a gap apart, the first after a
// wait and the verdict some time after the last.
type Manner struct {
	Wait    time.Duration
	Probes  int
	Gap     time.Duration
	Verdict time.Duration
	Holds   bool // what is free is held for whoever is to have it
}

// Given is the manner for an address that a device is given. The waits of RFC 5227,
// 2.1.1 are random so that many hosts that start together do not probe together; a
// single prober may use the shortest of each: 4 seconds.
var Given = Manner{0, ProbeNum, ProbeMin, AnnounceWait, true}

// Borrowed is the manner for an address that is ours for minutes, that was silent to
// the sweep, and that is given up at once when somebody claims it; and for looking
// whether anyone else answers at an address that a device has. One lost frame in ten
// still leaves a holder unheard only once in a thousand times: 0.6 seconds.
var Borrowed = Manner{0, 4, 150 * time.Millisecond, 150 * time.Millisecond, false}

// Lasts is how long a probe takes that meets no conflict.
func (m Manner) Lasts() time.Duration {
	return m.Wait + time.Duration(m.Probes-1)*m.Gap + m.Verdict
}

// At gives the manner at a pace.
func (m Manner) At(p pace.Pace) Manner {
	return Manner{p.Of(m.Wait), m.Probes, p.Of(m.Gap), p.Of(m.Verdict), m.Holds}
}

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
	// HearARP calls f for every ARP packet that has an address as its sender's or its
	// target's, until stop is called. f must not block.
	HearARP(about netip.Addr, f func(arp.Packet)) (stop func())
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
	holding  bool // free, and ours until the one that is to have it claims it
	restart  func() *Probe
}

// Begin starts probing an address (RFC 5227, 2.1.1), in a manner, from the MAC own. Packets
// from a MAC in allowed are no conflict: the device that is to have the address
// may already hold it. Listening goes on until ctx ends, so that a conflict that
// shows later is still told. An address that is to be given is held from the end of its
// probe until the device claims it, or ctx ends: others that probe for it are answered,
// since the device itself may be restarting and answers nobody.
func Begin(ctx context.Context, m Medium, how Manner, own device.MAC, address netip.Addr, allowed ...device.MAC) *Probe {
	p := &Probe{address: address, done: make(chan struct{}), found: make(chan struct{})}
	p.restart = func() *Probe { return Begin(ctx, m, how, own, address, allowed...) }
	ok := map[device.MAC]bool{own: true}
	for _, a := range allowed {
		ok[a] = true
	}
	stop := m.HearARP(address, func(a arp.Packet) {
		claims := a.Sender == address
		probes := a.Op == arp.Request && a.Sender.IsUnspecified() && a.Target == address
		switch {
		case !claims && !probes:
		case claims && ok[a.SenderMAC] && a.SenderMAC != own:
			p.release() // it has arrived
		case ok[a.SenderMAC]:
		case probes && p.holds():
			// Somebody else wants it for another: it is given already (RFC 5227, 2.4).
			answer := arp.ReplyTo(a, own).Frame()
			go func() { _ = m.Send(answer) }() // lost, the other asks again
		default:
			p.clash(a.SenderMAC)
		}
	})
	context.AfterFunc(ctx, stop)
	go p.run(ctx, m, how, own)
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

// Doubtful is a medium that knows whether most of the questions to everyone, sent since a moment, did
// not arrive: of those no silence says anything.
type Doubtful interface {
	Deaf(ctx context.Context, since time.Time) bool
}

// ErrUnheard is returned for an address that cannot be known to be free, since the network lets
// too few questions pass.
var ErrUnheard = errors.New("the network lets too few questions to everyone pass")

// maxRounds is how often a probe is made again whose questions may not have arrived.
const maxRounds = 4

func (p *Probe) run(ctx context.Context, m Medium, how Manner, own device.MAC) {
	defer close(p.done)
	for round := 1; ; round++ {
		begun := time.Now()
		free, ok := p.ask(ctx, m, how, own)
		if !ok {
			return
		}
		d, doubts := m.(Doubtful)
		if !free || !doubts || !d.Deaf(ctx, begun) {
			p.mu.Lock()
			p.ended, p.holding = time.Now(), free && how.Holds
			p.mu.Unlock()
			return
		}
		if round == maxRounds {
			p.fail(fmt.Errorf("probe %s: %w", p.address, ErrUnheard))
			return
		}
	}
}

// ask sends the probes once, and waits for the verdict.
func (p *Probe) ask(ctx context.Context, m Medium, how Manner, own device.MAC) (free, ok bool) {
	frame := arp.Probe(own, p.address).Frame()
	for n := range how.Probes {
		wait := how.Gap
		if n == 0 {
			wait = how.Wait
		}
		if !p.sleep(ctx, wait) {
			return false, false
		}
		if err := m.Send(frame); err != nil {
			p.fail(fmt.Errorf("probe %s: %w", p.address, err))
			return false, false
		}
	}
	return p.sleep(ctx, how.Verdict), true
}

func (p *Probe) holds() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.holding
}

func (p *Probe) release() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.holding = false
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
