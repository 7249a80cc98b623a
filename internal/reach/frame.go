package reach

import (
	"encoding/binary"
	"net/netip"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/checksum"
	"gvisor.dev/gvisor/pkg/tcpip/header"

	"janustat/core/device"
)

const (
	etherLen  = 14
	etherIPv4 = 0x0800
)

// Datagram is a UDP datagram over IPv4 with the Ethernet address of its sender,
// which tells apart devices that share one IP address.
type Datagram struct {
	MAC     device.MAC
	From    netip.AddrPort
	To      netip.AddrPort
	Payload []byte
}

// Heard is what a frame turned out to be.
type Heard struct {
	From, To device.MAC
	Frame    []byte
	Datagram *Datagram // if it carried, or completed, one
}

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

// datagramFrame builds an Ethernet frame with a UDP datagram. The payload must
// fit into one frame; the identification only matters for fragments (RFC 6864).
func datagramFrame(own, to device.MAC, from, dst netip.AddrPort, ttl uint8, payload []byte) []byte {
	udpLen := header.UDPMinimumSize + len(payload)
	total := header.IPv4MinimumSize + udpLen
	f := make([]byte, etherLen+total)
	copy(f[0:6], to[:])
	copy(f[6:12], own[:])
	binary.BigEndian.PutUint16(f[12:], etherIPv4)

	src, target := tcpip.AddrFromSlice(from.Addr().AsSlice()), tcpip.AddrFromSlice(dst.Addr().AsSlice())
	ip := header.IPv4(f[etherLen:])
	ip.Encode(&header.IPv4Fields{
		TotalLength: uint16(total), TTL: ttl, Protocol: uint8(header.UDPProtocolNumber),
		Flags: header.IPv4FlagDontFragment, SrcAddr: src, DstAddr: target,
	})
	ip.SetChecksum(^ip.CalculateChecksum())

	u := header.UDP(f[etherLen+header.IPv4MinimumSize:])
	u.Encode(&header.UDPFields{SrcPort: from.Port(), DstPort: dst.Port(), Length: uint16(udpLen)})
	copy(u[header.UDPMinimumSize:], payload)
	pseudo := header.PseudoHeaderChecksum(header.UDPProtocolNumber, src, target, uint16(udpLen))
	sum := ^u.CalculateChecksum(checksum.Checksum(payload, pseudo))
	if sum == 0 {
		sum = 0xffff // RFC 768: zero means "no checksum"
	}
	u.SetChecksum(sum)
	return f
}

// multicastMAC maps an IPv4 group to its Ethernet group (RFC 1112, 6.4).
func multicastMAC(group netip.Addr) device.MAC {
	b := group.As4()
	return device.MAC{0x01, 0x00, 0x5e, b[1] & 0x7f, b[2], b[3]}
}
