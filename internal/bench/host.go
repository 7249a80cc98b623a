package bench

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/stack"

	"janustat/core/device"
	"janustat/internal/nic"
	"janustat/internal/speak/arp"
)

// host is a network card with a TCP/IP stack on it, which can be taken down
// and brought up again with another address, as in a restart.
type host struct {
	id   string
	mac  device.MAC
	port *Port
	raw  func(frame []byte) // sees every frame too; may be nil

	mu    sync.RWMutex
	card  *nic.Endpoint
	stack *stack.Stack
	own   netip.Prefix
	close []func()
}

func newHost(sw *Switch, id string, mac device.MAC) *host {
	h := &host{id: id, mac: mac}
	h.port = sw.Plug(h.deliver)
	return h
}

// deliver hands a frame to the stack. What a card's own filter would drop never
// gets there: frames for others, and ARP requests for other addresses.
func (h *host) deliver(frame []byte) {
	to := device.MACFrom(frame[0:6])
	if to != h.mac && !to.IsGroup() {
		return
	}
	h.mu.RLock()
	card, own, raw := h.card, h.own, h.raw
	h.mu.RUnlock()
	if raw != nil {
		raw(frame)
	}
	if card == nil {
		return
	}
	if p, err := arp.Parse(frame); err == nil && p.Op == arp.Request && p.Target != own.Addr() {
		return
	}
	card.Inject(frame)
}

// up brings the stack up with an address and announces it (RFC 5227, 2.3).
func (h *host) up(own netip.Prefix, gateway netip.Addr) error {
	card := nic.New(h.mac, 1500, h.port.Send)
	s, err := nic.Stack(card)
	if err != nil {
		return fmt.Errorf("%s: %w", h.id, err)
	}
	if err := nic.Configure(s, own, gateway); err != nil {
		s.Destroy()
		return fmt.Errorf("%s: %w", h.id, err)
	}
	h.mu.Lock()
	h.card, h.stack, h.own = card, s, own
	h.mu.Unlock()
	h.announce(own.Addr())
	return nil
}

func (h *host) announce(a netip.Addr) { h.port.Send(arp.Announce(h.mac, a).Frame()) }

// down takes the stack away at once; what was being sent is lost.
func (h *host) down() {
	h.mu.Lock()
	s, closers := h.stack, h.close
	h.stack, h.card, h.close, h.own = nil, nil, nil, netip.Prefix{}
	h.mu.Unlock()
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
	l, err := gonet.ListenTCP(h.stack, tcpip.FullAddress{NIC: nic.ID, Port: port}, ipv4.ProtocolNumber)
	if err != nil {
		return fmt.Errorf("%s: listen on port %d: %w", h.id, port, err)
	}
	srv := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second}
	srv.ConnState = func(c net.Conn, s http.ConnState) {
		if s == http.StateNew && connected != nil {
			connected(c.RemoteAddr().String())
		}
	}
	go func() { _ = srv.Serve(l) }() // ends when the listener does
	h.onDown(func() { _ = srv.Close() })
	return nil
}

// listenUDP opens a UDP port, joined to a group if one is given.
func (h *host) listenUDP(port uint16, group netip.Addr) (net.PacketConn, error) {
	c, err := gonet.DialUDP(h.stack, &tcpip.FullAddress{NIC: nic.ID, Port: port}, nil, ipv4.ProtocolNumber)
	if err != nil {
		return nil, fmt.Errorf("%s: listen on UDP port %d: %w", h.id, port, err)
	}
	if group.IsValid() {
		if err := h.stack.JoinGroup(ipv4.ProtocolNumber, nic.ID, nic.Address(group)); err != nil {
			c.Close()
			return nil, fmt.Errorf("%s: join %s: %s", h.id, group, err)
		}
	}
	h.onDown(func() { _ = c.Close() })
	return c, nil
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
