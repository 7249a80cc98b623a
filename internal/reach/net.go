// Package reach is Janustat's own TCP/IP on a wire. It takes visitor addresses
// in any subnet after probing that they are free, speaks TCP to a device named
// by its address and its MAC together, sends and hears UDP, and answers ARP for
// its visitors. The laptop's own settings stay as they are.
package reach

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip/header"

	"janustat/core/device"
	"janustat/internal/speak/arp"
	"janustat/internal/wire"
)

// ErrClosed is returned once the wire is gone.
var ErrClosed = errors.New("the wire is closed")

// Net is our presence on one wire. It is safe for use by several goroutines.
type Net struct {
	wire  wire.Wire
	facts wire.Facts

	mu       sync.RWMutex
	taps     map[*tap]struct{}
	paths    map[pathKey]*Path
	visitors map[netip.Prefix]*Visitor
	held     map[netip.Addr]*Visitor   // visitors' addresses, for the ARP responder
	seen     map[netip.Addr]device.MAC // addresses heard by ARP, never borrowed
	err      error

	fragments reassembler // used by the reading goroutine only
	done      chan struct{}
	sent      atomic.Int64
	received  atomic.Int64
}

type tap struct{ f func(Heard) }

// maxSeen bounds the addresses remembered from ARP.
const maxSeen = 1 << 17

// New starts reading from a wire. Close ends it and closes the wire.
func New(w wire.Wire) *Net {
	n := &Net{
		wire: w, facts: w.Facts(),
		taps: map[*tap]struct{}{}, paths: map[pathKey]*Path{},
		visitors: map[netip.Prefix]*Visitor{}, held: map[netip.Addr]*Visitor{},
		seen: map[netip.Addr]device.MAC{}, done: make(chan struct{}),
	}
	go n.read()
	return n
}

// Facts tells of the wire.
func (n *Net) Facts() wire.Facts { return n.facts }

// Traffic counts the frames sent and received so far.
func (n *Net) Traffic() (sent, received int64) { return n.sent.Load(), n.received.Load() }

// Send sends one frame as it is.
func (n *Net) Send(frame []byte) error {
	n.sent.Add(1)
	return n.wire.Write(frame)
}

// Hear calls f for every frame from others until stop is called. f runs on the
// reading goroutine and must not block or keep the frame.
func (n *Net) Hear(f func(Heard)) (stop func()) {
	t := &tap{f}
	n.mu.Lock()
	n.taps[t] = struct{}{}
	n.mu.Unlock()
	return func() {
		n.mu.Lock()
		delete(n.taps, t)
		n.mu.Unlock()
	}
}

// HearARP calls f for every ARP packet from others until stop is called.
func (n *Net) HearARP(f func(arp.Packet)) (stop func()) {
	return n.Hear(func(h Heard) {
		if p, err := arp.Parse(h.Frame); err == nil {
			f(p)
		}
	})
}

// Done is closed when the wire fails or Close is called; Err then says why.
func (n *Net) Done() <-chan struct{} { return n.done }

// Err tells why the wire is gone, or nil.
func (n *Net) Err() error {
	n.mu.RLock()
	defer n.mu.RUnlock()
	return n.err
}

// Close lets the visitors go and closes the wire.
func (n *Net) Close() error {
	n.mu.Lock()
	if n.err == nil {
		n.err = ErrClosed
	}
	paths := n.paths
	n.paths = map[pathKey]*Path{}
	n.visitors = map[netip.Prefix]*Visitor{}
	n.held = map[netip.Addr]*Visitor{}
	n.mu.Unlock()
	for _, p := range paths {
		p.stack.Destroy()
	}
	err := n.wire.Close()
	<-n.done
	return err
}

func (n *Net) read() {
	defer close(n.done)
	for {
		frame, err := n.wire.Read()
		if err != nil {
			n.mu.Lock()
			if n.err == nil {
				n.err = errors.Join(ErrClosed, err)
			}
			n.mu.Unlock()
			return
		}
		n.take(frame)
	}
}

// take sorts one frame: ARP to the responder, IPv4 to the path it belongs to,
// everything to the taps.
func (n *Net) take(frame []byte) {
	if len(frame) < etherLen {
		return
	}
	h := Heard{From: device.MACFrom(frame[6:12]), To: device.MACFrom(frame[0:6]), Frame: frame}
	// A packet socket also shows what the laptop itself sends.
	if h.From == n.facts.MAC || h.From.IsGroup() {
		return
	}
	n.received.Add(1)
	if p, err := arp.Parse(frame); err == nil {
		n.answer(p)
	} else if ip, ok := ipv4Of(frame); ok {
		n.takeIPv4(&h, ip)
	}
	n.mu.RLock()
	defer n.mu.RUnlock()
	for t := range n.taps {
		t.f(h)
	}
}

func (n *Net) takeIPv4(h *Heard, ip header.IPv4) {
	src, dst := addrOf(ip.SourceAddress().As4()), addrOf(ip.DestinationAddress().As4())
	if ip.TransportProtocol() != header.UDPProtocolNumber {
		n.mu.RLock()
		path := n.paths[pathKey{h.From, dst}]
		n.mu.RUnlock()
		if path != nil && h.To == n.facts.MAC {
			path.card.Inject(h.Frame)
		}
		return
	}
	payload := []byte(ip.Payload())
	if ip.More() || ip.FragmentOffset() != 0 {
		var ok bool
		if payload, ok = n.fragments.add(h.From, ip, time.Now()); !ok {
			return
		}
	}
	if d, ok := parseUDP(h.From, src, dst, payload); ok {
		h.Datagram = d
	}
}

// answer replies to ARP requests for our visitors (RFC 826) and notes who else
// is there. Someone else's claim to a visitor's address ends the visit.
func (n *Net) answer(p arp.Packet) {
	n.mu.Lock()
	visitor := n.held[p.Target]
	if !p.Sender.IsUnspecified() {
		if v := n.held[p.Sender]; v != nil {
			v.lose(p.SenderMAC)
		}
		if len(n.seen) < maxSeen {
			n.seen[p.Sender] = p.SenderMAC
		}
	}
	n.mu.Unlock()
	if visitor != nil && p.Op == arp.Request {
		// A lost reply is asked for again; nothing better can be done with the error here.
		_ = n.Send(arp.ReplyTo(p, n.facts.MAC).Frame())
	}
}

// SendUDP sends a datagram from a visitor: to a group when dst is one, else to
// the MAC given.
func (n *Net) SendUDP(v *Visitor, port uint16, to device.MAC, dst netip.AddrPort, payload []byte) error {
	ttl := uint8(64)
	if dst.Addr().IsMulticast() {
		to, ttl = multicastMAC(dst.Addr()), 1
	}
	return n.Send(datagramFrame(n.facts.MAC, to, netip.AddrPortFrom(v.address, port), dst, ttl, payload))
}

// SendBroadcast sends a datagram to everyone on the link (255.255.255.255) from
// no address, as a DHCP client does (RFC 2131, 4.1).
func (n *Net) SendBroadcast(from, to uint16, payload []byte) error {
	limited := netip.AddrFrom4([4]byte{255, 255, 255, 255})
	return n.Send(datagramFrame(n.facts.MAC, device.Broadcast, netip.AddrPortFrom(netip.IPv4Unspecified(), from),
		netip.AddrPortFrom(limited, to), 64, payload))
}

// Place is somewhere a device may be met: an address, and the visitor to ask from.
type Place struct {
	Address netip.Addr
	From    *Visitor
}

// askEvery is how often WaitARP asks, in case the device's announcement was lost.
const askEvery = 500 * time.Millisecond

// WaitARP waits until a MAC announces, or answers, that it holds one of the
// places. It asks as a plain ARP request from the visitor, never as an ARP
// probe: a device that is just probing its new address would take our probe for
// a conflict and give the address up (RFC 5227, 2.1.1).
func (n *Net) WaitARP(ctx context.Context, mac device.MAC, places []Place) (netip.Addr, error) {
	found := make(chan netip.Addr, 1)
	stop := n.HearARP(func(p arp.Packet) {
		held := func(q Place) bool { return p.SenderMAC == mac && p.Sender == q.Address }
		if at := slices.IndexFunc(places, held); at >= 0 {
			select {
			case found <- places[at].Address:
			default:
			}
		}
	})
	defer stop()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	asked := make(chan error, 1)
	go func() { asked <- n.Ask(ctx, places) }()
	select {
	case a := <-found:
		return a, nil
	case err := <-asked:
		return netip.Addr{}, err
	}
}

// Ask asks who holds the places, again and again until ctx ends or the wire
// does; HearARP hears the answers.
func (n *Net) Ask(ctx context.Context, places []Place) error {
	again := time.NewTicker(askEvery)
	defer again.Stop()
	for {
		for _, q := range places {
			if err := n.Send(arp.Ask(n.facts.MAC, q.From.address, q.Address).Frame()); err != nil {
				return err
			}
		}
		select {
		case <-again.C:
		case <-n.done:
			return n.Err()
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}
