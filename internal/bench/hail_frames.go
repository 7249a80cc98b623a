package bench

import (
	"encoding/binary"
	"net/netip"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/header"

	"janustat/core/device"
	"janustat/internal/speak/hail"
)

// hailIn gives the Hail message in a frame, if it is one.
func hailIn(frame []byte) (payload []byte, v6, ok bool) {
	const ether = 14
	if len(frame) < ether+header.IPv4MinimumSize+header.UDPMinimumSize {
		return nil, false, false
	}
	var u header.UDP
	switch binary.BigEndian.Uint16(frame[12:]) {
	case 0x0800:
		ip := header.IPv4(frame[ether:])
		if !ip.IsValid(len(ip)) || ip.TransportProtocol() != header.UDPProtocolNumber || ip.DestinationAddress() != tcpip.AddrFromSlice(hail.Group.AsSlice()) {
			return nil, false, false
		}
		u = header.UDP(ip.Payload())
	case 0x86dd:
		ip := header.IPv6(frame[ether:])
		if !ip.IsValid(len(ip)) || ip.NextHeader() != uint8(header.UDPProtocolNumber) || ip.DestinationAddress() != tcpip.AddrFromSlice(hail.Group6.AsSlice()) {
			return nil, false, false
		}
		u, v6 = header.UDP(ip.Payload()), true
	}
	if len(u) < header.UDPMinimumSize || u.DestinationPort() != hail.Port {
		return nil, false, false
	}
	return u.Payload(), v6, true
}

// sendHail sends a message to the group, from the host's address or from none.
func (h *host) sendHail(payload []byte, v6 bool) {
	h.mu.RLock()
	up, from := h.stack != nil, h.own.Addr()
	h.mu.RUnlock()
	if !up {
		return
	}
	if !from.IsValid() {
		from = netip.IPv4Unspecified()
	}
	h.port.Send(hailFrame(h.mac, from, payload, v6))
}

// hailFrame gives the frame of a message to the group, from a MAC and an address.
func hailFrame(mac device.MAC, from netip.Addr, payload []byte, v6 bool) []byte {
	size := header.UDPMinimumSize + len(payload)
	udp := header.UDP(make([]byte, size))
	udp.Encode(&header.UDPFields{SrcPort: hail.Port, DstPort: hail.Port, Length: uint16(size)})
	copy(udp[header.UDPMinimumSize:], payload)
	var frame []byte
	if v6 {
		src, dst := tcpip.AddrFromSlice(linkLocal6(mac).AsSlice()), tcpip.AddrFromSlice(hail.Group6.AsSlice())
		frame = make([]byte, 14+header.IPv6MinimumSize)
		copy(frame, []byte{0x33, 0x33, 0, 0, 0x01, 0x14})
		frame[12], frame[13] = 0x86, 0xdd
		header.IPv6(frame[14:]).Encode(&header.IPv6Fields{PayloadLength: uint16(size), TransportProtocol: header.UDPProtocolNumber, HopLimit: 1, SrcAddr: src, DstAddr: dst})
		udp.SetChecksum(^udp.CalculateChecksum(header.PseudoHeaderChecksum(header.UDPProtocolNumber, src, dst, uint16(size))))
	} else {
		src, dst := tcpip.AddrFromSlice(from.AsSlice()), tcpip.AddrFromSlice(hail.Group.AsSlice())
		frame = make([]byte, 14+header.IPv4MinimumSize)
		copy(frame, []byte{0x01, 0x00, 0x5e, 0, 0, 0xfe})
		frame[12] = 0x08
		ip := header.IPv4(frame[14:])
		ip.Encode(&header.IPv4Fields{TotalLength: uint16(header.IPv4MinimumSize + size), TTL: 1, Protocol: uint8(header.UDPProtocolNumber), SrcAddr: src, DstAddr: dst})
		ip.SetChecksum(^ip.CalculateChecksum())
	}
	copy(frame[6:], mac[:])
	return append(frame, udp...)
}
