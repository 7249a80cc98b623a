package reach

import (
	"encoding/binary"
	"net/netip"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip/header"

	"janustat/core/device"
	"janustat/internal/speak/arp"
	"janustat/internal/speak/membership"
	"janustat/internal/speak/ndp"
)

// Datagram is a UDP datagram with the Ethernet address of its sender, which
// tells apart devices that share one IP address.
type Datagram struct {
	MAC     device.MAC
	From    netip.AddrPort
	To      netip.AddrPort
	Payload []byte
}

// Heard is what a frame turned out to be.
type Heard struct {
	At       time.Time
	From, To device.MAC
	Frame    []byte
	VLAN     uint16 // IEEE 802.1Q identifier of a tagged frame, of which nothing more is read
	// Of an IP packet that is no fragment:
	Source, Destination netip.Addr
	Protocol            uint8
	Payload             []byte

	Datagram *Datagram   // if it carried, or completed, one
	ARP      *arp.Packet // if it was one
	ND       *ndp.Packet // if it was one
	// Membership is what it says of multicast groups; Source is then who does.
	Membership membership.Kind
}

// Claim is a MAC's word that it holds an address.
type Claim struct {
	MAC       device.MAC
	Address   netip.Addr
	Announced bool // by itself, as after a start, and not as an answer
}

// Claim gives the claim to an address that a frame makes, if it makes one.
// Only what the frame's own sender says of itself counts.
func (h *Heard) Claim() (Claim, bool) {
	switch {
	case h.ARP != nil && h.ARP.SenderMAC == h.From && !h.ARP.Sender.IsUnspecified():
		return Claim{h.From, h.ARP.Sender, h.ARP.Sender == h.ARP.Target}, true
	case h.ND != nil && h.ND.Kind == ndp.Tell:
		return Claim{h.From, h.ND.Target, !h.ND.Solicited}, true
	case h.ND != nil && h.ND.Source.IsLinkLocalUnicast():
		return Claim{h.From, h.ND.Source, false}, true
	}
	return Claim{}, false
}

// Ear turns frames into what they say. It is used by one goroutine.
type Ear struct {
	Own       device.MAC // whose frames are ours, and not heard
	fragments reassembler
}

// EtherTypes (IEEE 802).
const (
	etherVLAN    = 0x8100
	etherService = 0x88a8
	etherIPv6    = ndp.EtherType
)

// Hear reads one frame. False is for what is too short, our own, or from a group.
func (e *Ear) Hear(frame []byte, at time.Time) (Heard, bool) {
	if len(frame) < etherLen {
		return Heard{}, false
	}
	if plain, ok := untagged(frame); ok {
		return e.Hear(plain, at)
	}
	h := Heard{At: at, From: device.MACFrom(frame[6:12]), To: device.MACFrom(frame[0:6]), Frame: frame}
	// A packet socket also shows what the laptop itself sends.
	if h.From == e.Own || h.From.IsGroup() {
		return Heard{}, false
	}
	switch binary.BigEndian.Uint16(frame[12:]) {
	case etherVLAN, etherService:
		if len(frame) >= etherLen+4 {
			h.VLAN = binary.BigEndian.Uint16(frame[14:]) & 0x0fff
		}
	case arp.EtherType:
		if p, err := arp.Parse(frame); err == nil {
			h.ARP = &p
		}
	case etherIPv4:
		if ip, ok := ipv4Of(frame); ok {
			e.hearIPv4(&h, ip)
			if h.Protocol == uint8(header.IGMPProtocolNumber) {
				h.Membership, _ = membership.Of(frame)
			}
		}
	case etherIPv6:
		if p, err := ndp.Parse(frame); err == nil {
			h.ND = &p
		}
		e.hearIPv6(&h, frame[etherLen:])
		if h.Source.IsValid() && h.Protocol == uint8(header.IPv6HopByHopOptionsExtHdrIdentifier) {
			h.Membership, _ = membership.Of(frame)
		}
	}
	return h, true
}

// untagged gives a frame whose tag names no VLAN, and only a priority (IEEE 802.1Q, 9.6: the
// null VLAN ID), without it: it is of this LAN like every frame without a tag.
func untagged(frame []byte) ([]byte, bool) {
	const tagLen = 4
	if len(frame) < etherLen+tagLen || binary.BigEndian.Uint16(frame[12:]) != etherVLAN || binary.BigEndian.Uint16(frame[14:])&0x0fff != 0 {
		return nil, false
	}
	if binary.BigEndian.Uint16(frame[16:]) == etherVLAN {
		return nil, false // one tag within another is nobody's honest frame
	}
	return append(append(make([]byte, 0, len(frame)-tagLen), frame[:12]...), frame[12+tagLen:]...), true
}

func (e *Ear) hearIPv4(h *Heard, ip header.IPv4) {
	src, dst := addrOf(ip.SourceAddress().As4()), addrOf(ip.DestinationAddress().As4())
	payload := []byte(ip.Payload())
	if ip.More() || ip.FragmentOffset() != 0 {
		if ip.TransportProtocol() != header.UDPProtocolNumber {
			return
		}
		whole, ok := e.fragments.add(fragment{
			key: partialKey{h.From, src, dst, uint32(ip.ID())},
			at:  int(ip.FragmentOffset()), more: ip.More(), data: payload,
		}, h.At)
		if !ok {
			return
		}
		h.Datagram, _ = parseUDP(h.From, src, dst, whole)
		return
	}
	h.Source, h.Destination, h.Protocol, h.Payload = src, dst, uint8(ip.TransportProtocol()), payload
	if ip.TransportProtocol() == header.UDPProtocolNumber {
		h.Datagram, _ = parseUDP(h.From, src, dst, payload)
	}
}

// ipv6FragmentLen is the size of a fragment header (RFC 8200, 4.5).
const ipv6FragmentLen = 8

func (e *Ear) hearIPv6(h *Heard, b []byte) {
	ip := header.IPv6(b)
	if !ip.IsValid(len(b)) {
		return
	}
	src, dst := netip.AddrFrom16(ip.SourceAddress().As16()), netip.AddrFrom16(ip.DestinationAddress().As16())
	payload := []byte(ip.Payload())
	if ip.NextHeader() == uint8(header.IPv6FragmentHeader) {
		if len(payload) < ipv6FragmentLen || payload[0] != uint8(header.UDPProtocolNumber) {
			return
		}
		word := binary.BigEndian.Uint16(payload[2:])
		whole, ok := e.fragments.add(fragment{
			key: partialKey{h.From, src, dst, binary.BigEndian.Uint32(payload[4:])},
			at:  int(word &^ 7), more: word&1 != 0, data: payload[ipv6FragmentLen:],
		}, h.At)
		if ok {
			h.Datagram, _ = parseUDP(h.From, src, dst, whole)
		}
		return
	}
	h.Source, h.Destination, h.Protocol, h.Payload = src, dst, ip.NextHeader(), payload
	if h.Protocol == uint8(header.UDPProtocolNumber) {
		h.Datagram, _ = parseUDP(h.From, src, dst, payload)
	}
}
