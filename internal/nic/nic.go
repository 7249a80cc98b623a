// Package nic joins a user-space TCP/IP stack (gVisor) to Ethernet frames. An
// Endpoint is the card: frames come in by Inject and go out by a function.
package nic

import (
	"fmt"
	"net/netip"
	"sync"
	"time"

	"gvisor.dev/gvisor/pkg/buffer"
	"gvisor.dev/gvisor/pkg/log"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/network/arp"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv6"
	"gvisor.dev/gvisor/pkg/tcpip/stack"
	"gvisor.dev/gvisor/pkg/tcpip/transport/icmp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/udp"

	"janustat/core/device"
)

// ID numbers the only network interface of a stack made here.
const ID tcpip.NICID = 1

// What the stack logs of its own accord is about the frames of others, and goes to standard error in
// a form of its own, over whatever a person reads there: a stranger could fill a screen with it.
// What matters of it comes back as an error.
func init() { log.SetTarget(silent{}) }

type silent struct{}

// Emit implements log.Emitter.
func (silent) Emit(int, log.Level, time.Time, string, ...any) {}

// Endpoint is an Ethernet card. It implements stack.LinkEndpoint.
type Endpoint struct {
	mac  device.MAC
	peer device.MAC // if set, every frame goes to it and no resolution happens
	send func(frame []byte)

	mu         sync.RWMutex
	mtu        uint32
	dispatcher stack.NetworkDispatcher
	onClose    func()
}

var _ stack.LinkEndpoint = (*Endpoint)(nil)

// New makes a card that resolves its neighbours by ARP (RFC 826). send must
// not keep the frame.
func New(mac device.MAC, mtu int, send func(frame []byte)) *Endpoint {
	return &Endpoint{mac: mac, mtu: uint32(mtu), send: send}
}

// NewPinned makes a card whose every frame goes to one MAC, whatever the IP
// address: the way to speak to one of several devices that share an address.
func NewPinned(mac, peer device.MAC, mtu int, send func(frame []byte)) *Endpoint {
	e := New(mac, mtu, send)
	e.peer = peer
	return e
}

// Inject hands a received frame to the stack. Frames shorter than an Ethernet
// header are dropped.
func (e *Endpoint) Inject(frame []byte) {
	if len(frame) < header.EthernetMinimumSize {
		return
	}
	e.mu.RLock()
	d := e.dispatcher
	e.mu.RUnlock()
	if d == nil {
		return
	}
	pkt := stack.NewPacketBuffer(stack.PacketBufferOptions{Payload: buffer.MakeWithData(frame)})
	defer pkt.DecRef()
	if _, ok := pkt.LinkHeader().Consume(header.EthernetMinimumSize); !ok {
		return
	}
	eth := header.Ethernet(frame)
	switch dst := device.MACFrom(frame[0:6]); {
	case dst == device.Broadcast:
		pkt.PktType = tcpip.PacketBroadcast
	case dst.IsGroup():
		pkt.PktType = tcpip.PacketMulticast
	case dst == e.mac:
		pkt.PktType = tcpip.PacketHost
	default:
		pkt.PktType = tcpip.PacketOtherHost
	}
	d.DeliverNetworkPacket(eth.Type(), pkt)
}

// WritePackets implements stack.LinkWriter.
func (e *Endpoint) WritePackets(pkts stack.PacketBufferList) (int, tcpip.Error) {
	for i, pkt := range pkts.AsSlice() {
		frame := pkt.ToView()
		if frame.Size() < header.EthernetMinimumSize {
			return i, &tcpip.ErrInvalidEndpointState{}
		}
		e.send(frame.AsSlice())
		frame.Release()
	}
	return pkts.Len(), nil
}

// AddHeader implements stack.NetworkLinkEndpoint.
func (e *Endpoint) AddHeader(pkt *stack.PacketBuffer) {
	dst := pkt.EgressRoute.RemoteLinkAddress
	if !e.peer.IsZero() {
		dst = tcpip.LinkAddress(e.peer[:])
	}
	header.Ethernet(pkt.LinkHeader().Push(header.EthernetMinimumSize)).Encode(&header.EthernetFields{
		SrcAddr: tcpip.LinkAddress(e.mac[:]), DstAddr: dst, Type: pkt.NetworkProtocolNumber,
	})
}

// ParseHeader implements stack.NetworkLinkEndpoint; Inject has done it.
func (*Endpoint) ParseHeader(*stack.PacketBuffer) bool { return true }

// Capabilities implements stack.NetworkLinkEndpoint. Checksums of received
// frames are not verified: frames of veth pairs and of cards with offload carry
// partial ones, and TCP would stall without a word.
func (e *Endpoint) Capabilities() stack.LinkEndpointCapabilities {
	c := stack.LinkEndpointCapabilities(stack.CapabilityRXChecksumOffload)
	if e.peer.IsZero() {
		c |= stack.CapabilityResolutionRequired
	}
	return c
}

// MTU implements stack.NetworkLinkEndpoint: bytes of payload in a frame.
func (e *Endpoint) MTU() uint32 { e.mu.RLock(); defer e.mu.RUnlock(); return e.mtu }

// SetMTU implements stack.NetworkLinkEndpoint.
func (e *Endpoint) SetMTU(mtu uint32) { e.mu.Lock(); e.mtu = mtu; e.mu.Unlock() }

// MaxHeaderLength implements stack.NetworkLinkEndpoint.
func (*Endpoint) MaxHeaderLength() uint16 { return header.EthernetMinimumSize }

// LinkAddress implements stack.NetworkLinkEndpoint.
func (e *Endpoint) LinkAddress() tcpip.LinkAddress { return tcpip.LinkAddress(e.mac[:]) }

// SetLinkAddress implements stack.NetworkLinkEndpoint; the address is fixed.
func (*Endpoint) SetLinkAddress(tcpip.LinkAddress) {}

// Attach implements stack.NetworkLinkEndpoint.
func (e *Endpoint) Attach(d stack.NetworkDispatcher) { e.mu.Lock(); e.dispatcher = d; e.mu.Unlock() }

// IsAttached implements stack.NetworkLinkEndpoint.
func (e *Endpoint) IsAttached() bool { e.mu.RLock(); defer e.mu.RUnlock(); return e.dispatcher != nil }

// Wait implements stack.NetworkLinkEndpoint; no goroutine is to be waited for.
func (*Endpoint) Wait() {}

// ARPHardwareType implements stack.NetworkLinkEndpoint.
func (*Endpoint) ARPHardwareType() header.ARPHardwareType { return header.ARPHardwareEther }

// Close implements stack.NetworkLinkEndpoint.
func (e *Endpoint) Close() {
	e.mu.Lock()
	f := e.onClose
	e.onClose, e.dispatcher = nil, nil
	e.mu.Unlock()
	if f != nil {
		f()
	}
}

// SetOnCloseAction implements stack.NetworkLinkEndpoint.
func (e *Endpoint) SetOnCloseAction(f func()) { e.mu.Lock(); e.onClose = f; e.mu.Unlock() }

// Stack makes a stack with IPv4, IPv6, UDP, TCP, ICMP and ARP on a card. A
// pinned card has no ARP: it needs none. No address is made up for IPv6, and
// routers' advertisements are not followed.
func Stack(e *Endpoint) (*stack.Stack, error) {
	// A card of its own reports its groups, as a host's kernel does (RFC 3376, RFC 3810).
	whole := e.peer.IsZero()
	networks := []stack.NetworkProtocolFactory{
		ipv4.NewProtocolWithOptions(ipv4.Options{IGMP: ipv4.IGMPOptions{Enabled: whole}}),
		ipv6.NewProtocolWithOptions(ipv6.Options{MLD: ipv6.MLDOptions{Enabled: whole}}),
	}
	if whole {
		networks = append(networks, arp.NewProtocol)
	}
	s := stack.New(stack.Options{
		NetworkProtocols:   networks,
		TransportProtocols: []stack.TransportProtocolFactory{udp.NewProtocol, tcp.NewProtocol, icmp.NewProtocol4, icmp.NewProtocol6},
		HandleLocal:        false,
	})
	if err := s.CreateNIC(ID, e); err != nil {
		s.Destroy()
		return nil, fmt.Errorf("attach card: %s", err)
	}
	return s, nil
}

// Configure gives the stack an address and routes: the subnet, multicast and
// broadcast on the link, and a gateway for the rest if there is one.
func Configure(s *stack.Stack, own netip.Prefix, gateway netip.Addr) error {
	protocol := ipv4.ProtocolNumber
	if own.Addr().Is6() {
		protocol = ipv6.ProtocolNumber
	}
	address := tcpip.ProtocolAddress{
		Protocol:          protocol,
		AddressWithPrefix: tcpip.AddressWithPrefix{Address: Address(own.Addr()), PrefixLen: own.Bits()},
	}
	if err := s.AddProtocolAddress(ID, address, stack.AddressProperties{}); err != nil {
		return fmt.Errorf("take address %s: %s", own, err)
	}
	s.AddRoute(tcpip.Route{Destination: address.AddressWithPrefix.Subnet(), NIC: ID})
	for _, d := range everybody(own.Addr()) {
		s.AddRoute(tcpip.Route{Destination: d, NIC: ID})
	}
	if gateway.IsValid() {
		s.AddRoute(tcpip.Route{Destination: rest(own.Addr()), Gateway: Address(gateway), NIC: ID})
	}
	return nil
}

// RouteAll has the stack take every address of a family for one on the link.
func RouteAll(s *stack.Stack, like netip.Addr) {
	s.AddRoute(tcpip.Route{Destination: rest(like), NIC: ID})
}

func rest(like netip.Addr) tcpip.Subnet {
	if like.Is6() {
		return header.IPv6EmptySubnet
	}
	return header.IPv4EmptySubnet
}

// everybody are the destinations on the link that belong to no subnet: groups (RFC 5771, RFC 4291,
// 2.7) and, of IPv4, the limited broadcast (RFC 919, 7).
func everybody(like netip.Addr) (out []tcpip.Subnet) {
	list := []netip.Prefix{netip.MustParsePrefix("224.0.0.0/4"), netip.MustParsePrefix("255.255.255.255/32")}
	if like.Is6() {
		list = []netip.Prefix{netip.MustParsePrefix("ff00::/8")}
	}
	for _, p := range list {
		out = append(out, tcpip.AddressWithPrefix{Address: Address(p.Addr()), PrefixLen: p.Bits()}.Subnet())
	}
	return out
}

// Address turns an address into the stack's form.
func Address(a netip.Addr) tcpip.Address { return tcpip.AddrFromSlice(a.AsSlice()) }

// Full gives the stack's form of an address and port on the card.
func Full(a netip.AddrPort) tcpip.FullAddress {
	f := tcpip.FullAddress{NIC: ID, Port: a.Port()}
	if a.Addr().IsValid() && !a.Addr().IsUnspecified() {
		f.Addr = Address(a.Addr())
	}
	return f
}
