package bench

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv6"
	"gvisor.dev/gvisor/pkg/tcpip/stack"
	"gvisor.dev/gvisor/pkg/tcpip/transport/udp"
	"gvisor.dev/gvisor/pkg/waiter"

	"janustat/core/device"
	"janustat/internal/nic"
	"janustat/internal/speak/arp"
	"janustat/internal/speak/membership"
)

// host is a network card with a TCP/IP stack on it, which can be taken down
// and brought up again with another address, as in a restart.
type host struct {
	id   string
	mac  device.MAC
	port *Port
	raw  func(frame []byte) // sees every frame too; may be nil
	hail func(payload []byte, v6 bool)
	ipv6 bool // has a link-local IPv6 address
	// closes has it close each connection after an answer, whatever it said.
	closes bool
	// heeds has it forget where an address was that is announced by another card, as kernels do
	// (RFC 5227, 3); those that reach out to others do.
	heeds bool
	// deaf has it hear nothing that is sent to everybody but ARP.
	deaf   bool
	limits limits
	// send is how it sends frames; quiet has it announce no address.
	send  func(frame []byte)
	quiet bool
	// vendor is what it says of itself when it asks for an address (RFC 2132, 9.13).
	vendor string

	mu    sync.RWMutex
	card  *nic.Endpoint
	stack *stack.Stack
	own   netip.Prefix
	ports []uint16 // of UDP, that somebody listens at
	close []func()
	sieve atomic.Pointer[sieve]
}

func newHost(sw *Switch, id string, mac device.MAC) *host {
	h := &host{id: id, mac: mac}
	h.change(func() {})
	h.port = sw.Plug(h.deliver, h.wants)
	h.change(func() {})
	h.send, h.limits.keepsOpen = h.port.Send, true
	return h
}

// routersOnly are groups that no host joins: IGMPv3 and MLDv2 reports go there (RFC 3376,
// 4.2.14; RFC 3810, 5.2.14).
var routersOnly = []device.MAC{{0x01, 0x00, 0x5e, 0, 0, 22}, {0x33, 0x33, 0, 0, 0, 22}}

// hailGroups are those of Hail.
var hailGroups = []device.MAC{{0x01, 0x00, 0x5e, 0, 0, 0xfe}, {0x33, 0x33, 0, 0, 0x01, 0x14}}

// deliver hands a frame to the stack.
func (h *host) deliver(frame []byte) {
	h.mu.RLock()
	card, own, raw, speaks, heeds := h.card, h.own, h.raw, h.hail, h.heeds
	h.mu.RUnlock()
	if raw != nil {
		raw(frame)
	}
	if speaks != nil {
		if payload, v6, ok := hailIn(frame); ok {
			speaks(payload, v6)
			return
		}
	}
	if card == nil {
		return
	}
	if p, err := arp.Parse(frame); err == nil && p.Op == arp.Request && p.Target != own.Addr() {
		if heeds && p.Sender == p.Target {
			h.forget(p.Target)
		}
		return
	}
	if kind, from := membership.Of(frame); kind == membership.Query && from.Is4() && !own.IsValid() {
		h.reportBare()
		return
	}
	card.Inject(frame)
}

// forget has an address looked for anew.
func (h *host) forget(a netip.Addr) {
	h.mu.RLock()
	s := h.stack
	h.mu.RUnlock()
	if s != nil {
		_ = s.RemoveNeighbor(nic.ID, ipv4.ProtocolNumber, tcpip.AddrFrom4(a.As4())) // one that it does not know is no matter
	}
}

// reportBare answers a query for group members without an address, as kernels do for
// what listens for discovery (RFC 3376, 4.2.13); the stack itself does not.
func (h *host) reportBare() {
	time.AfterFunc(rand.N(time.Duration(membership.MaxResponse)), func() {
		h.port.Send(membership.Report4(h.mac, netip.IPv4Unspecified(), wsdGroup))
	})
}

// up brings the stack up with an address, if there is one, and announces it
// (RFC 5227, 2.3).
func (h *host) up(own netip.Prefix, gateway netip.Addr) error {
	card := nic.New(h.mac, 1500, h.out())
	s, err := nic.Stack(card)
	if err != nil {
		return fmt.Errorf("%s: %w", h.id, err)
	}
	if own.IsValid() {
		err = nic.Configure(s, own, gateway)
	}
	if err == nil && h.ipv6 {
		err = nic.Configure(s, netip.PrefixFrom(linkLocal6(h.mac), 64), netip.Addr{})
	}
	if err != nil {
		s.Destroy()
		return fmt.Errorf("%s: %w", h.id, err)
	}
	h.change(func() { h.card, h.stack, h.own = card, s, own })
	if own.IsValid() {
		h.announce(own.Addr())
	}
	return nil
}

// linkLocal6 is the address that a MAC gives by itself (RFC 4291, appendix A).
func linkLocal6(m device.MAC) netip.Addr {
	return netip.AddrFrom16([16]byte{0xfe, 0x80, 8: m[0] ^ 2, 9: m[1], 10: m[2], 11: 0xff, 12: 0xfe, 13: m[3], 14: m[4], 15: m[5]})
}

// linkLocal4 is an address that a MAC might have picked (RFC 3927, 2.1).
func linkLocal4(m device.MAC) netip.Prefix {
	return netip.PrefixFrom(netip.AddrFrom4([4]byte{169, 254, 1 + m[4]%254, m[5]}), 16)
}

func (h *host) announce(a netip.Addr) {
	if !h.quiet {
		h.send(arp.Announce(h.mac, a).Frame())
	}
}

// down takes the stack away at once; what was being sent is lost.
func (h *host) down() {
	var s *stack.Stack
	var closers []func()
	h.change(func() {
		s, closers = h.stack, h.close
		h.stack, h.card, h.close, h.own, h.ports = nil, nil, nil, netip.Prefix{}, nil
	})
	for _, f := range closers {
		f()
	}
	if s != nil {
		s.Destroy()
	}
}

// serve listens on a TCP port with an HTTP handler until the stack goes down.
// connected, which may be nil, is told of each connection.
func (h *host) serve(port uint16, handler http.Handler, connected func(from string)) error {
	_, err := h.serveOn(port, handler, connected, nil)
	return err
}

// tlsListening has connections taken over TLS.
type tlsListening func(net.Listener) net.Listener

// overTLS takes them as c has it.
func overTLS(c *tls.Config) tlsListening {
	return func(l net.Listener) net.Listener { return tls.NewListener(l, c) }
}

// peer is who is at the other end of a connection, as text; nothing where it is gone already, for
// the stack does not know it then.
func peer(c net.Conn) string {
	if at := c.RemoteAddr(); at != nil {
		return at.String()
	}
	return ""
}

func (h *host) serveOn(port uint16, handler http.Handler, connected func(from string), wrap tlsListening) (*http.Server, error) {
	quiet := log.New(io.Discard, "", 0) // a client may hang up in the middle of a handshake
	srv := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, ErrorLog: quiet, IdleTimeout: h.limits.idle}
	srv.SetKeepAlivesEnabled(h.limits.keepsOpen && !h.limits.oldHTTP)
	srv.ConnState = func(c net.Conn, s http.ConnState) {
		if s == http.StateNew && connected != nil {
			connected(peer(c))
		}
		if s == http.StateIdle && h.closes {
			c.Close()
		}
	}
	for _, network := range h.networks() {
		at := h.address()
		if network == ipv6.ProtocolNumber {
			at = linkLocal6(h.mac)
		}
		l, err := h.listen(netip.AddrPortFrom(at, port), network)
		if err != nil {
			return nil, fmt.Errorf("%s: listen on port %d: %w", h.id, port, err)
		}
		on := h.limits.on(l)
		if wrap != nil {
			on = wrap(on)
		}
		go func() { _ = srv.Serve(on) }() // ends when the listener does
	}
	h.onDown(func() { _ = srv.Close() })
	return srv, nil
}

// networks are the protocols the host has an address in.
func (h *host) networks() (out []tcpip.NetworkProtocolNumber) {
	h.mu.RLock()
	defer h.mu.RUnlock()
	if h.own.IsValid() {
		out = append(out, ipv4.ProtocolNumber)
	}
	if h.ipv6 {
		out = append(out, ipv6.ProtocolNumber)
	}
	return out
}

// listenUDP opens a UDP port for the protocol of a group, joined to it.
func (h *host) listenUDP(port uint16, group netip.Addr) (net.PacketConn, error) {
	network := ipv4.ProtocolNumber
	if group.Is6() {
		network = ipv6.ProtocolNumber
	}
	c, err := h.bindUDP(network, port)
	if err != nil {
		return nil, fmt.Errorf("%s: listen on UDP port %d: %s", h.id, port, err)
	}
	if group.IsValid() {
		if err := h.stack.JoinGroup(network, nic.ID, nic.Address(group)); err != nil {
			c.Close()
			return nil, fmt.Errorf("%s: join %s: %s", h.id, group, err)
		}
	}
	h.onDown(func() { _ = c.Close() })
	return c, nil
}

// bindUDP opens a UDP port for one protocol only: an IPv6 socket would take the
// port for both otherwise.
func (h *host) bindUDP(network tcpip.NetworkProtocolNumber, port uint16) (*gonet.UDPConn, tcpip.Error) {
	var wq waiter.Queue
	ep, err := h.stack.NewEndpoint(udp.ProtocolNumber, network, &wq)
	if err != nil {
		return nil, err
	}
	if network == ipv6.ProtocolNumber {
		ep.SocketOptions().SetV6Only(true)
	}
	if err := ep.Bind(tcpip.FullAddress{NIC: nic.ID, Port: port}); err != nil {
		ep.Close()
		return nil, err
	}
	if own, err := ep.GetLocalAddress(); err == nil {
		h.change(func() { h.ports = append(h.ports, own.Port) })
	}
	return gonet.NewUDPConn(&wq, ep), nil
}

func (h *host) onDown(f func()) {
	h.mu.Lock()
	h.close = append(h.close, f)
	h.mu.Unlock()
}

// address gives the address in use, invalid while the host is down.
func (h *host) address() netip.Addr {
	h.mu.RLock()
	defer h.mu.RUnlock()
	return h.own.Addr()
}

// sleep waits unless ctx ends first.
func sleep(ctx context.Context, d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-ctx.Done():
		return false
	}
}
