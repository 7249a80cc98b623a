package reach

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv6"
	"gvisor.dev/gvisor/pkg/tcpip/stack"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"

	"janustat/core/device"
	"janustat/internal/nic"
	"janustat/internal/wire"
)

// pathKey tells paths apart: frames from this MAC to this visitor belong to it.
type pathKey struct {
	mac     device.MAC
	visitor netip.Addr
}

// Path is the way to one device, named by its MAC: a small stack of its own
// whose every frame goes to that MAC, and which hears no other. Two devices on
// one address are two paths.
type Path struct {
	net   *Net
	key   pathKey
	uses  int // guarded by net.mu
	card  *nic.Endpoint
	stack *stack.Stack
	waits handshakes
}

// sendAgain is how long TCP waits at least before it sends something again. The
// second of RFC 6298, 2.4, is for ways of unknown length; a device on the link answers
// at once, or sends its acknowledgement after its own short wait.
const sendAgain = 80 * time.Millisecond

// sendAgainAtLast is how long it waits at most. A busy device that took seconds over the handshake
// would have whatever is lost after that wait as long, and twice as long each time (RFC 6298, 2.2
// and 5.5): on one link that spares nobody anything.
const sendAgainAtLast = 600 * time.Millisecond

// Open gives the path to a device from a visitor. Callers share it; each calls Close.
func (n *Net) Open(v *Visitor, mac device.MAC) (*Path, error) {
	if err := v.check(); err != nil {
		return nil, err
	}
	key := pathKey{mac, v.address}
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.err != nil {
		return nil, n.err
	}
	if p := n.paths[key]; p != nil {
		p.uses++
		return p, nil
	}
	p := &Path{net: n, key: key, uses: 1}
	// A frame that cannot be sent is a frame lost: TCP sends it again.
	send := func(frame []byte) { _ = n.Send(frame) }
	p.card = nic.NewPinned(n.facts.MAC, mac, n.facts.MTU, func(frame []byte) {
		send(frame)
		p.waits.sent(frame, send)
	})
	s, err := nic.Stack(p.card)
	if err != nil {
		return nil, fmt.Errorf("path to %s: %w", mac, err)
	}
	least, most := tcpip.TCPMinRTOOption(sendAgain), tcpip.TCPMaxRTOOption(sendAgainAtLast)
	for _, patience := range []tcpip.SettableTransportProtocolOption{&least, &most} {
		if err := s.SetTransportProtocolOption(tcp.ProtocolNumber, patience); err != nil {
			s.Destroy()
			return nil, fmt.Errorf("path to %s: %s", mac, err)
		}
	}
	if err := nic.Configure(s, netip.PrefixFrom(v.address, v.subnet.Bits()), netip.Addr{}); err != nil {
		s.Destroy()
		return nil, fmt.Errorf("path to %s: %w", mac, err)
	}
	nic.RouteAll(s, v.address) // a device is on the link, whatever its mask
	p.stack = s
	n.paths[key] = p
	return p, nil
}

// Dial opens a TCP connection to the device at an address and port.
func (p *Path) Dial(ctx context.Context, to netip.AddrPort) (net.Conn, error) {
	network := ipv4.ProtocolNumber
	if to.Addr().Is6() {
		network = ipv6.ProtocolNumber
	}
	c, err := gonet.DialContextTCP(ctx, p.stack, nic.Full(to), network)
	if err != nil {
		return nil, fmt.Errorf("connect to %s at %s: %w", p.key.mac, to, err)
	}
	return c, nil
}

// DialConfidential opens a TCP connection whose content a capture of the wire leaves out.
func (p *Path) DialConfidential(ctx context.Context, to netip.AddrPort) (net.Conn, error) {
	c, err := p.Dial(ctx, to)
	if err != nil {
		return nil, err
	}
	if w, ok := wire.Under[wire.Blanker](p.net.wire); ok {
		if own, ok := c.LocalAddr().(*net.TCPAddr); ok {
			w.Blank(netip.AddrPortFrom(p.key.visitor, uint16(own.Port)), to)
		}
	}
	return c, nil
}

// Close ends this use of the path, and with the last use the path itself.
func (p *Path) Close() {
	p.net.mu.Lock()
	p.uses--
	last := p.uses == 0 && p.net.paths[p.key] == p
	if last {
		delete(p.net.paths, p.key)
	}
	p.net.mu.Unlock()
	if last {
		p.waits.end()
		p.stack.Destroy()
	}
}
