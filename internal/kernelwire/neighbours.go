package kernelwire

import (
	"context"
	"encoding/binary"
	"errors"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"janustat/core/device"
)

const (
	discard    = 9 // the port (RFC 863) of what gives the kernel a reason to ask
	lookEvery  = 50 * time.Millisecond
	lookFor    = 1200 * time.Millisecond // the kernel asks after one second for the second time
	speaksIn   = 800 * time.Millisecond
	believedIn = 2 * time.Second
	tableHolds = 25 * time.Millisecond // one reading of the table serves all who ask within
	atOnce     = 256                   // addresses that are being asked for
)

// neighbours is the kernel's table, and what it was found to say.
type neighbours struct {
	ctx     context.Context
	adapter string
	own     []netip.Prefix
	places  chan struct{}

	mu      sync.Mutex
	known   map[netip.Addr]neighbour
	asking  map[netip.Addr]bool
	table   map[netip.Addr]device.MAC
	readAt  time.Time
	trigger *net.UDPConn
}

type neighbour struct {
	mac device.MAC
	at  time.Time
}

func newNeighbours(ctx context.Context, adapter string, own []netip.Prefix) *neighbours {
	n := &neighbours{ctx: ctx, adapter: adapter, own: own, places: make(chan struct{}, atOnce), known: map[netip.Addr]neighbour{}, asking: map[netip.Addr]bool{}}
	if c, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(own[0].Addr(), 0))); err == nil {
		n.trigger = c
		context.AfterFunc(ctx, func() { c.Close() })
	}
	return n
}

// onLink reports whether an address is one that the laptop reaches without a router.
func (n *neighbours) onLink(a netip.Addr) bool {
	return slices.ContainsFunc(n.own, func(p netip.Prefix) bool { return p.Contains(a) && a != p.Addr() && a != p.Masked().Addr() })
}

// cached gives the MAC of an address as it was found last.
func (n *neighbours) cached(a netip.Addr) (device.MAC, bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	k, ok := n.known[a]
	return k.mac, ok
}

// now gives the MAC of an address that has just been heard from.
func (n *neighbours) now(a netip.Addr) (device.MAC, bool) {
	mac, ok := n.look(a)
	if ok {
		n.believe(a, mac)
		return mac, true
	}
	return n.cached(a)
}

func (n *neighbours) believe(a netip.Addr, mac device.MAC) {
	n.mu.Lock()
	n.known[a] = neighbour{mac, time.Now()}
	n.mu.Unlock()
}

func (n *neighbours) forget(a netip.Addr) {
	n.mu.Lock()
	delete(n.known, a)
	n.mu.Unlock()
}

// look reads the kernel's table.
func (n *neighbours) look(a netip.Addr) (device.MAC, bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if time.Since(n.readAt) > tableHolds {
		n.table, n.readAt = readTable(n.adapter), time.Now()
	}
	mac, ok := n.table[a]
	return mac, ok
}

// resolve finds out who has an address, if anybody has; it is called once for each at a time.
// The table goes on naming one that has gone for a while: who was in it before has to show
// that it is there.
func (n *neighbours) resolve(a netip.Addr) (device.MAC, bool) {
	n.mu.Lock()
	k, ok := n.known[a]
	if ok && time.Since(k.at) < believedIn {
		n.mu.Unlock()
		return k.mac, true
	}
	n.mu.Unlock()
	_, before := n.look(a)
	if n.trigger != nil {
		_, _ = n.trigger.WriteToUDPAddrPort(nil, netip.AddrPortFrom(a, discard)) // the asking is what counts
	}
	if before && !speaks(n.ctx, a) {
		if mac, still := n.look(a); still && !n.unreachable(a) {
			n.believe(a, mac)
			return mac, true
		}
		n.forget(a)
		return device.MAC{}, false
	}
	for late := time.Now().Add(lookFor); time.Now().Before(late); {
		if mac, ok := n.look(a); ok {
			n.believe(a, mac)
			return mac, true
		}
		select {
		case <-time.After(lookEvery):
		case <-n.ctx.Done():
			return device.MAC{}, false
		}
	}
	n.forget(a)
	return device.MAC{}, false
}

// unreachable reports whether the kernel says by now that nobody is there.
func (n *neighbours) unreachable(a netip.Addr) bool {
	c, err := net.DialTimeout("tcp4", netip.AddrPortFrom(a, discard).String(), speaksIn)
	if err == nil {
		c.Close()
	}
	return errors.Is(err, unreachableError)
}

// speaks reports whether anything is said at an address: a port that opens, or one that
// refuses.
func speaks(ctx context.Context, a netip.Addr) bool {
	ctx, cancel := context.WithTimeout(ctx, speaksIn)
	defer cancel()
	ports := []uint16{80, discard}
	said := make(chan bool, len(ports))
	for _, port := range ports {
		go func() {
			var d net.Dialer
			c, err := d.DialContext(ctx, "tcp4", netip.AddrPortFrom(a, port).String())
			if err == nil {
				c.Close()
			}
			said <- err == nil || errors.Is(err, refusedError)
		}()
	}
	for range ports {
		if <-said {
			return true
		}
	}
	return false
}

// asked answers an ARP request (RFC 826) for a host that the kernel finds.
func (w *Wire) asked(arp []byte) {
	const length = 28
	if len(arp) < length || binary.BigEndian.Uint16(arp[6:8]) != 1 {
		return
	}
	to := netip.AddrFrom4([4]byte(arp[24:28]))
	sender := [10]byte(arp[8:18])
	reply := func(mac device.MAC) {
		frame := make([]byte, 14+length)
		copy(frame[0:6], sender[:6])
		copy(frame[6:12], mac[:])
		frame[12], frame[13] = 0x08, 0x06
		b := frame[14:]
		copy(b[0:6], []byte{0, 1, 8, 0, 6, 4})
		b[7] = 2
		copy(b[8:14], mac[:])
		copy(b[14:18], to.AsSlice())
		copy(b[18:28], sender[:])
		w.heard(frame)
	}
	if slices.ContainsFunc(w.own, func(p netip.Prefix) bool { return p.Addr() == to }) {
		reply(w.facts.MAC)
		return
	}
	n := w.near
	n.mu.Lock()
	busy := n.asking[to]
	if !busy && n.onLink(to) {
		n.asking[to] = true
	}
	n.mu.Unlock()
	if busy || !n.onLink(to) {
		return
	}
	w.work.Go(func() {
		defer func() {
			n.mu.Lock()
			delete(n.asking, to)
			n.mu.Unlock()
		}()
		select {
		case n.places <- struct{}{}:
			defer func() { <-n.places }()
		case <-n.ctx.Done():
			return
		}
		if mac, ok := n.resolve(to); ok {
			reply(mac)
		}
	})
}
