package reach

import (
	"encoding/binary"
	"net/netip"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/checksum"
	"gvisor.dev/gvisor/pkg/tcpip/header"

	"janustat/core/device"
	"janustat/internal/speak/ndp"
)

const (
	etherLen  = 14
	etherIPv4 = 0x0800
)

// ipv4Of gives the IPv4 packet in a frame, cut to its own length, if it is a sound one.
func ipv4Of(frame []byte) (header.IPv4, bool) {
	if len(frame) < etherLen+header.IPv4MinimumSize || binary.BigEndian.Uint16(frame[12:]) != etherIPv4 {
		return nil, false
	}
	ip := header.IPv4(frame[etherLen:])
	if !ip.IsValid(len(ip)) {
		return nil, false
	}
	return ip[:ip.TotalLength()], true
}

// parseUDP reads a whole UDP datagram. Checksums are not verified: frames from
// cards with offload carry partial ones.
func parseUDP(mac device.MAC, src, dst netip.Addr, b []byte) (*Datagram, bool) {
	if len(b) < header.UDPMinimumSize {
		return nil, false
	}
	u := header.UDP(b)
	n := int(u.Length())
	if n < header.UDPMinimumSize || n > len(b) {
		return nil, false
	}
	return &Datagram{
		MAC:     mac,
		From:    netip.AddrPortFrom(src, u.SourcePort()),
		To:      netip.AddrPortFrom(dst, u.DestinationPort()),
		Payload: b[header.UDPMinimumSize:n],
	}, true
}

// datagramFrame builds an Ethernet frame with a UDP datagram, over IPv4 or IPv6
// as the addresses are. The payload must fit into one frame; the IPv4
// identification only matters for fragments (RFC 6864).
func datagramFrame(own, to device.MAC, from, dst netip.AddrPort, ttl uint8, payload []byte) []byte {
	udpLen := header.UDPMinimumSize + len(payload)
	f, u, partial := packetFrame(own, to, from.Addr(), dst.Addr(), header.UDPProtocolNumber, ttl, udpLen)
	h := header.UDP(u)
	h.Encode(&header.UDPFields{SrcPort: from.Port(), DstPort: dst.Port(), Length: uint16(udpLen)})
	copy(h[header.UDPMinimumSize:], payload)
	sum := ^h.CalculateChecksum(checksum.Checksum(payload, partial))
	if sum == 0 {
		sum = 0xffff // RFC 768: zero means "no checksum"
	}
	h.SetChecksum(sum)
	return f
}

// segmentFrame builds an Ethernet frame with a TCP segment that has no data.
func segmentFrame(own, to device.MAC, from, dst netip.AddrPort, seq, ack uint32, flags header.TCPFlags) []byte {
	f, b, partial := packetFrame(own, to, from.Addr(), dst.Addr(), header.TCPProtocolNumber, 64, header.TCPMinimumSize)
	h := header.TCP(b)
	h.Encode(&header.TCPFields{
		SrcPort: from.Port(), DstPort: dst.Port(), SeqNum: seq, AckNum: ack,
		DataOffset: header.TCPMinimumSize, Flags: flags, WindowSize: 1024,
	})
	h.SetChecksum(^h.CalculateChecksum(partial))
	return f
}

// packetFrame builds a frame with an IP header and room for a payload, and
// gives the sum of the pseudo header that the payload's checksum begins with.
func packetFrame(own, to device.MAC, from, dst netip.Addr, protocol tcpip.TransportProtocolNumber, ttl uint8, size int) (frame, payload []byte, partial uint16) {
	src, target := tcpip.AddrFromSlice(from.AsSlice()), tcpip.AddrFromSlice(dst.AsSlice())
	ipLen, etherType := header.IPv4MinimumSize, uint16(etherIPv4)
	if from.Is6() {
		ipLen, etherType = header.IPv6MinimumSize, etherIPv6
	}
	f := make([]byte, etherLen+ipLen+size)
	copy(f[0:6], to[:])
	copy(f[6:12], own[:])
	binary.BigEndian.PutUint16(f[12:], etherType)
	if from.Is6() {
		header.IPv6(f[etherLen:]).Encode(&header.IPv6Fields{
			PayloadLength: uint16(size), TransportProtocol: protocol, HopLimit: ttl, SrcAddr: src, DstAddr: target,
		})
	} else {
		ip := header.IPv4(f[etherLen:])
		ip.Encode(&header.IPv4Fields{
			TotalLength: uint16(ipLen + size), TTL: ttl, Protocol: uint8(protocol),
			Flags: header.IPv4FlagDontFragment, SrcAddr: src, DstAddr: target,
		})
		ip.SetChecksum(^ip.CalculateChecksum())
	}
	return f, f[etherLen+ipLen:], header.PseudoHeaderChecksum(protocol, src, target, uint16(size))
}

// multicastMAC maps a group to its Ethernet group (RFC 1112, 6.4; RFC 2464, 7).
func multicastMAC(group netip.Addr) device.MAC {
	if group.Is6() {
		return ndp.Group(group)
	}
	b := group.As4()
	return device.MAC{0x01, 0x00, 0x5e, b[1] & 0x7f, b[2], b[3]}
}

// allHosts is the group of every IPv4 host on the link (RFC 1112, 4).
var allHosts = netip.AddrFrom4([4]byte{224, 0, 0, 1})

// echoID marks our echo requests.
const echoID = 0x4a53

func echoFrame(own device.MAC, from netip.Addr, seq uint16) []byte {
	f, b, _ := packetFrame(own, multicastMAC(allHosts), from, allHosts, header.ICMPv4ProtocolNumber, 1, header.ICMPv4MinimumSize)
	m := header.ICMPv4(b)
	m.SetType(header.ICMPv4Echo)
	m.SetIdent(echoID)
	m.SetSequence(seq)
	m.SetChecksum(header.ICMPv4Checksum(m, 0))
	return f
}
