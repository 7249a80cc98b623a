package bench

import (
	"bytes"
	"net/netip"
	"slices"

	"gvisor.dev/gvisor/pkg/tcpip/header"

	"janustat/core/device"
	"janustat/internal/speak/arp"
	"janustat/internal/speak/hail"
)

// glance is what a card's filter goes by. It is taken once a frame, not once a card.
type glance struct {
	to    device.MAC
	asks  netip.Addr // whose address an ARP request asks for; invalid of other frames
	tells bool       // it announces that address (RFC 5227, 2.3)
	port  uint16     // of UDP, that it goes to; 0 of other frames
	idle  bool       // it asks nothing of any host: what is told to whoever looks for devices
	one   device.MAC // it asks one host alone, though everyone gets it; zero without
}

// few reports whether most hosts take no notice of a frame for many.
func (g glance) few() bool {
	return g.asks.IsValid() || g.idle || !g.one.IsZero() || slices.Contains(routersOnly, g.to)
}

func glanceAt(frame []byte) glance {
	g := glance{to: device.MACFrom(frame[0:6])}
	if !g.to.IsGroup() {
		return g
	}
	switch packet := frame[header.EthernetMinimumSize:]; header.Ethernet(frame).Type() {
	case header.ARPProtocolNumber:
		if p, err := arp.Parse(frame); err == nil && p.Op == arp.Request {
			g.asks, g.tells = p.Target, p.Sender == p.Target
		}
	case header.IPv4ProtocolNumber:
		if p := header.IPv4(packet); p.IsValid(len(packet)) && p.TransportProtocol() == header.UDPProtocolNumber && p.FragmentOffset() == 0 {
			g.look(p.Payload())
		}
	case header.IPv6ProtocolNumber:
		if p := header.IPv6(packet); p.IsValid(len(packet)) && p.NextHeader() == uint8(header.UDPProtocolNumber) {
			g.look(p.Payload())
		}
	}
	return g
}

// idleActions are those of discovery that devices take no notice of (WS-Discovery 2005/04, 4 and 5.3).
var idleActions = [][]byte{[]byte("/Hello<"), []byte("/Bye<"), []byte("/ProbeMatches<"), []byte("/ResolveMatches<")}

// look takes what there is in a datagram of UDP.
func (g *glance) look(datagram []byte) {
	if len(datagram) < header.UDPMinimumSize {
		return
	}
	switch g.port = header.UDP(datagram).DestinationPort(); g.port {
	case wsdPort:
		g.idle = slices.ContainsFunc(idleActions, func(a []byte) bool { return bytes.Contains(datagram, a) })
	case hail.Port:
		m, err := hail.Parse(header.UDP(datagram).Payload())
		if !slices.Contains(hailGroups, g.to) || err != nil {
			return
		}
		switch m.Kind {
		case hail.Here, hail.Answer, hail.Reply, hail.Refusal:
			g.idle = true
		default:
			if m.Device != hail.Everyone {
				g.one = m.Device
			}
		}
	}
}

// sieve is what a host's card, and the kernel behind it, let through of what is sent to many. It is
// made anew when the host changes, and read by whoever sends: most of what is sent to many costs
// most hosts nothing.
type sieve struct {
	all   bool // something looks at every frame
	up    bool // there is a stack
	own   netip.Addr
	near  device.MAC // the group of its IPv6 address (RFC 4291, 2.7.1); zero without
	hail  bool
	heeds bool
	deaf  bool
	ports []uint16 // of UDP, that somebody listens at
}

// sift makes the sieve anew. The host's lock is held.
func (h *host) sift() {
	s := &sieve{all: h.raw != nil, up: h.card != nil, own: h.own.Addr(), hail: h.hail != nil, heeds: h.heeds, deaf: h.deaf, ports: slices.Clone(h.ports)}
	if h.ipv6 {
		s.near = device.MAC{0x33, 0x33, 0xff, h.mac[3], h.mac[4], h.mac[5]}
	}
	h.sieve.Store(s)
	if h.port != nil {
		answers := netip.Addr{}
		if s.up {
			answers = s.own
		}
		h.port.hear(interest{all: s.all, answers: answers, named: h.mac, heeds: s.up && s.heeds})
	}
}

// change changes the host, and what it lets through with that.
func (h *host) change(f func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	f()
	h.sift()
}

// solicited begins the groups that one IPv6 address each is asked for by (RFC 4291, 2.7.1).
var solicited = [3]byte{0x33, 0x33, 0xff}

// wants is the filter of the card, and of the kernel behind it: frames for others, those of groups
// not joined, datagrams to ports that nobody listens at, and ARP requests for other addresses, are
// dropped before they cost anything.
func (h *host) wants(g glance) bool {
	if !g.to.IsGroup() {
		return g.to == h.mac
	}
	s := h.sieve.Load()
	switch {
	case g.asks.IsValid():
		// An announcement of its own address by another is no question to it: Linux answers none.
		return s.all || s.up && (g.asks == s.own && !g.tells || g.tells && s.heeds)
	case s.deaf:
		return false
	case s.all || !s.up:
		return s.all
	case g.idle || !g.one.IsZero() && g.one != h.mac:
		return false
	case s.hail && slices.Contains(hailGroups, g.to):
		return true
	case g.port != 0:
		return slices.Contains(s.ports, g.port)
	case [3]byte(g.to[:3]) == solicited:
		return g.to == s.near
	}
	return !slices.Contains(routersOnly, g.to)
}
