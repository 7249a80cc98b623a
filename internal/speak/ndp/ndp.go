// Package ndp codes the ICMPv6 messages by which IPv6 hosts on a link find each
// other: neighbour and router discovery (RFC 4861) and the echo (RFC 4443, 4).
// It opens no socket and touches bytes only.
package ndp

import (
	"encoding/binary"
	"errors"
	"net/netip"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/header"

	"janustat/core/device"
)

// Kind is the ICMPv6 type (RFC 4443, 2.1; RFC 4861, 4).
type Kind uint8

// The kinds that concern neighbours.
const (
	EchoRequest Kind = 128
	EchoReply   Kind = 129
	RouterAsk   Kind = 133 // router solicitation
	RouterSays  Kind = 134 // router advertisement
	Ask         Kind = 135 // neighbour solicitation
	Tell        Kind = 136 // neighbour advertisement
)

// EtherType of IPv6 (RFC 2464, 3) and the sizes of what stands before the message.
const (
	EtherType = 0x86dd
	etherLen  = 14
	ipLen     = 40
	before    = etherLen + ipLen
)

// AllNodes is the group of every IPv6 host on the link (RFC 4291, 2.7.1).
var AllNodes = netip.MustParseAddr("ff02::1")

// hopLimit proves that a neighbour message comes from the link itself (RFC 4861, 7.1.1).
const hopLimit = 255

// Flags of a neighbour advertisement (RFC 4861, 4.4).
const (
	flagSolicited = 0x40
	flagOverride  = 0x20
)

// The options that carry Ethernet addresses (RFC 4861, 4.6.1).
const (
	optionSource = 1
	optionTarget = 2
)

// ErrNotND is returned for a frame that is none of these messages.
var ErrNotND = errors.New("not an ICMPv6 message between neighbours")

// Packet is one message with the addresses that carried it.
type Packet struct {
	From, To            device.MAC // of the frame
	Source, Destination netip.Addr
	Kind                Kind
	Target              netip.Addr // of Ask and Tell
	Solicited           bool       // a Tell that answers
	id, seq             uint16     // of an echo
}

// Group gives the Ethernet group of an IPv6 multicast address (RFC 2464, 7).
func Group(a netip.Addr) device.MAC {
	b := a.As16()
	return device.MAC{0x33, 0x33, b[12], b[13], b[14], b[15]}
}

// solicitedNode is the group in which the holder of an address is asked (RFC 4291, 2.7.1).
func solicitedNode(a netip.Addr) netip.Addr {
	b := a.As16()
	return netip.AddrFrom16([16]byte{0xff, 2, 11: 1, 12: 0xff, 13: b[13], 14: b[14], 15: b[15]})
}

// Solicit asks who holds an address. An unspecified source makes it a probe for
// a duplicate, which claims nothing (RFC 4862, 5.4.2).
func Solicit(own device.MAC, source, target netip.Addr) Packet {
	group := solicitedNode(target)
	return Packet{From: own, To: Group(group), Source: source, Destination: group, Kind: Ask, Target: target}
}

// Answer tells the asker that we hold the target.
func Answer(p Packet, own device.MAC) Packet {
	a := Packet{From: own, To: p.From, Source: p.Target, Destination: p.Source, Kind: Tell, Target: p.Target, Solicited: true}
	if p.Source.IsUnspecified() { // a probe for a duplicate: everyone is told (RFC 4861, 7.2.4)
		a.Destination, a.To, a.Solicited = AllNodes, Group(AllNodes), false
	}
	return a
}

// EchoAll asks every host on the link for an answer.
func EchoAll(own device.MAC, source netip.Addr, id, seq uint16) Packet {
	return Packet{From: own, To: Group(AllNodes), Source: source, Destination: AllNodes, Kind: EchoRequest, id: id, seq: seq}
}

// Frame gives the message as an Ethernet frame.
func (p Packet) Frame() []byte {
	body := p.body()
	f := make([]byte, before+len(body))
	copy(f[0:6], p.To[:])
	copy(f[6:12], p.From[:])
	binary.BigEndian.PutUint16(f[12:], EtherType)
	src, dst := tcpip.AddrFromSlice(p.Source.AsSlice()), tcpip.AddrFromSlice(p.Destination.AsSlice())
	header.IPv6(f[etherLen:]).Encode(&header.IPv6Fields{
		PayloadLength: uint16(len(body)), TransportProtocol: header.ICMPv6ProtocolNumber, HopLimit: hopLimit, SrcAddr: src, DstAddr: dst,
	})
	m := header.ICMPv6(f[before:])
	copy(m, body)
	m.SetChecksum(header.ICMPv6Checksum(header.ICMPv6ChecksumParams{Header: m, Src: src, Dst: dst}))
	return f
}

func (p Packet) body() []byte {
	switch p.Kind {
	case Ask, Tell:
		b := make([]byte, 24, 32)
		b[0] = byte(p.Kind)
		copy(b[8:], p.Target.AsSlice())
		option := byte(optionTarget)
		if p.Kind == Tell {
			b[4] = flagOverride
			if p.Solicited {
				b[4] |= flagSolicited
			}
		} else if option = optionSource; p.Source.IsUnspecified() {
			return b // no option goes with the unspecified source (RFC 4861, 4.3)
		}
		return append(append(b, option, 1), p.From[:]...)
	default:
		b := make([]byte, 16)
		b[0] = byte(p.Kind)
		binary.BigEndian.PutUint16(b[4:], p.id)
		binary.BigEndian.PutUint16(b[6:], p.seq)
		return b
	}
}

// Parse reads an Ethernet frame. Checksums are not verified: cards with offload
// leave them to later. Messages with extension headers are not among neighbours.
func Parse(frame []byte) (Packet, error) {
	if len(frame) < before+4 || binary.BigEndian.Uint16(frame[12:]) != EtherType {
		return Packet{}, ErrNotND
	}
	ip := header.IPv6(frame[etherLen:])
	if !ip.IsValid(len(ip)) || ip.NextHeader() != uint8(header.ICMPv6ProtocolNumber) {
		return Packet{}, ErrNotND
	}
	p := Packet{
		From: device.MACFrom(frame[6:12]), To: device.MACFrom(frame[0:6]),
		Source: netip.AddrFrom16(ip.SourceAddress().As16()), Destination: netip.AddrFrom16(ip.DestinationAddress().As16()),
	}
	body := ip.Payload()
	if len(body) < 8 {
		return Packet{}, ErrNotND
	}
	p.Kind = Kind(body[0])
	switch p.Kind {
	case EchoRequest, EchoReply:
		p.id, p.seq = binary.BigEndian.Uint16(body[4:]), binary.BigEndian.Uint16(body[6:])
		return p, nil
	case RouterAsk, RouterSays:
	case Ask, Tell:
		if len(body) < 24 {
			return Packet{}, ErrNotND
		}
		p.Target = netip.AddrFrom16([16]byte(body[8:24]))
		p.Solicited = p.Kind == Tell && body[4]&flagSolicited != 0
		if p.Target.IsMulticast() {
			return Packet{}, ErrNotND
		}
	default:
		return Packet{}, ErrNotND
	}
	if ip.HopLimit() != hopLimit {
		return Packet{}, ErrNotND
	}
	return p, nil
}
