package reach

import (
	"context"
	"net/netip"
	"slices"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip/header"

	"janustat/core/device"
	"janustat/internal/speak/arp"
	"janustat/internal/speak/membership"
	"janustat/internal/speak/ndp"
)

// SendUDP sends a datagram from a visitor: to a group when dst is one, else to
// the MAC given.
func (n *Net) SendUDP(v *Visitor, port uint16, to device.MAC, dst netip.AddrPort, payload []byte) error {
	ttl := uint8(64)
	if dst.Addr().IsMulticast() {
		to, ttl = multicastMAC(dst.Addr()), 1
		if port == mdnsPort && dst.Port() == mdnsPort {
			ttl = 255 // RFC 6762, 11
		}
	}
	return n.Send(datagramFrame(n.facts.MAC, to, netip.AddrPortFrom(v.address, port), dst, ttl, payload))
}

// SendLink sends a datagram to a group of the link alone, from no address of IPv4, or from
// that of IPv6 which the MAC gives by itself: it asks for no answer but to the group.
func (n *Net) SendLink(port uint16, dst netip.AddrPort, payload []byte) error {
	from := netip.IPv4Unspecified()
	if dst.Addr().Is6() {
		m := n.facts.MAC
		from = netip.AddrFrom16([16]byte{0xfe, 0x80, 8: m[0] ^ 2, 9: m[1], 10: m[2], 11: 0xff, 12: 0xfe, 13: m[3], 14: m[4], 15: m[5]}) // RFC 4291, appendix A
	}
	return n.Send(datagramFrame(n.facts.MAC, multicastMAC(dst.Addr()), netip.AddrPortFrom(from, port), dst, 1, payload))
}

// mdnsPort is the port that full mDNS queries come from (RFC 6762, 5.2).
const mdnsPort = 5353

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
	MAC     device.MAC // of the device, which is asked by itself; zero asks everyone
}

// askEvery is how often WaitFor asks, in case the device's announcement was lost.
const askEvery = 500 * time.Millisecond

// WaitFor waits until a MAC announces, or answers, that it holds one of the
// places. It asks as a plain ARP request or neighbour solicitation from the
// visitor, never as a probe: a device that is just probing its new address would
// take our probe for a conflict and give the address up (RFC 5227, 2.1.1).
func (n *Net) WaitFor(ctx context.Context, mac device.MAC, places []Place) (netip.Addr, error) {
	found := make(chan netip.Addr, 1)
	stop := n.HearClaims(mac, func(c Claim) {
		held := func(q Place) bool { return c.MAC == mac && c.Address == q.Address }
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
	go func() { asked <- n.Ask(ctx, mac, places) }()
	select {
	case a := <-found:
		return a, nil
	case err := <-asked:
		return netip.Addr{}, err
	}
}

// aloudEvery is how often one who is known by its MAC is asked by broadcast all the same: a switch
// that has forgotten where it is may let no frame to an unknown one pass.
const aloudEvery = 8

// Ask asks whether a MAC holds one of the places, again and again until ctx ends or the wire
// does; HearClaims hears the answers. It is asked by itself (RFC 1122, 2.3.2.1), and by broadcast
// only at first and from time to time: everybody on the LAN has to look at those.
func (n *Net) Ask(ctx context.Context, mac device.MAC, places []Place) error {
	again := time.NewTicker(n.Pace.Of(askEvery))
	defer again.Stop()
	for round := 0; ; round++ {
		to := mac
		if round%aloudEvery == 0 {
			to = device.Broadcast
		}
		for _, q := range places {
			if err := n.askAt(to, q); err != nil {
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

// AskOnce asks who holds a place.
func (n *Net) AskOnce(q Place) error {
	if q.MAC.IsZero() {
		return n.askAt(device.Broadcast, q)
	}
	return n.askAt(q.MAC, q)
}

// askAt asks a MAC, or everyone, for the holder of a place. A solicitation by IPv6 goes to few in
// any case (RFC 4861, 7.2.2).
func (n *Net) askAt(to device.MAC, q Place) error {
	if q.Address.Is6() {
		return n.Send(ndp.Solicit(n.facts.MAC, q.From.address, q.Address).Frame())
	}
	p := arp.Ask(n.facts.MAC, q.From.address, q.Address)
	p.To = to
	return n.Send(p.Frame())
}

// SendSYN asks whether a TCP port is open, by the first segment of a handshake
// that is never ended; Heard shows the answer, and Reset takes the question back.
func (n *Net) SendSYN(v *Visitor, from uint16, to device.MAC, dst netip.AddrPort, seq uint32) error {
	return n.Send(segmentFrame(n.facts.MAC, to, netip.AddrPortFrom(v.address, from), dst, seq, 0, header.TCPFlagSyn))
}

// Reset ends what SendSYN began (RFC 9293, 3.5.2).
func (n *Net) Reset(v *Visitor, from uint16, to device.MAC, dst netip.AddrPort, seq uint32) error {
	return n.Send(segmentFrame(n.facts.MAC, to, netip.AddrPortFrom(v.address, from), dst, seq, 0, header.TCPFlagRst))
}

// SendEcho asks every host of a visitor's subnet for an echo, by multicast (RFC
// 792; RFC 4443, 4). Many do not answer; those that do are heard.
func (n *Net) SendEcho(v *Visitor, seq uint16) error {
	if v.address.Is6() {
		return n.Send(ndp.EchoAll(n.facts.MAC, v.address, echoID, seq).Frame())
	}
	return n.Send(echoFrame(n.facts.MAC, v.address, seq))
}

// AskMembers asks every host on the link that joined an IPv4 multicast group to report
// itself, whatever its address (RFC 3376, 4.1).
func (n *Net) AskMembers() error { return n.Send(membership.Query4(n.facts.MAC)) }

// AskMembers6 does so for IPv6 (RFC 3810, 5.1), from a visitor there.
func (n *Net) AskMembers6(v *Visitor) error {
	return n.Send(membership.Query6(n.facts.MAC, v.address))
}

// PortAnswer tells a TCP port that answered SendSYN, and whether it is open.
func (h *Heard) PortAnswer() (port, to uint16, open, ok bool) {
	t := header.TCP(h.Payload)
	if h.Protocol != uint8(header.TCPProtocolNumber) || len(t) < header.TCPMinimumSize {
		return 0, 0, false, false
	}
	both := header.TCPFlagSyn | header.TCPFlagAck
	open = t.Flags()&both == both
	// A lone acknowledgement answers a repeated question and says nothing (RFC 5961, 4.2).
	return t.SourcePort(), t.DestinationPort(), open, open || t.Flags()&header.TCPFlagRst != 0
}

// EchoReply reports whether a packet answers an IPv4 echo.
func (h *Heard) EchoReply() bool {
	return h.Protocol == uint8(header.ICMPv4ProtocolNumber) && len(h.Payload) >= header.ICMPv4MinimumSize &&
		header.ICMPv4(h.Payload).Type() == header.ICMPv4EchoReply
}
