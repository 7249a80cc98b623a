// Package membership speaks the group membership protocols as far as it takes to ask
// who is there: IGMP (RFC 3376, and RFC 2236 with older hosts) and MLD (RFC 3810, and
// RFC 2710). A general query makes every host that joined a group report itself,
// whatever its subnet or its gateway.
package membership

import (
	"encoding/binary"
	"net/netip"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/header"

	"janustat/core/device"
)

// Kind is what a message of these protocols is.
type Kind int

// The kinds.
const (
	None   Kind = iota
	Query       // by a router, or a switch that does its work
	Report      // a host is in some group
)

// MaxResponse is the time over which hosts spread their reports.
const MaxResponse = 400_000_000 // nanoseconds

const (
	etherLen  = 14
	etherIPv4 = 0x0800
	etherIPv6 = 0x86dd

	igmpLen = 12 // of a version 3 query without sources (RFC 3376, 4.1)
	mldLen  = 28 // of a version 2 query without sources (RFC 3810, 5.1)

	robustness = 2   // the default of both, as QRV
	interval   = 125 // seconds, the default of both, as QQIC
)

// Message types (RFC 3376, 4; RFC 2236, 2.1; RFC 3810, 5).
const (
	igmpQuery    = 0x11
	igmpReportV1 = 0x12
	igmpReportV2 = 0x16
	igmpReportV3 = 0x22
	mldQuery     = 130
	mldReportV1  = 131
	mldReportV2  = 143
)

// Query4 makes an IGMPv3 general query as an Ethernet frame. Hosts that know version 2
// only read its first eight octets (RFC 2236, 2.5); one of version 2 would put all
// others back to it for minutes (RFC 3376, 7.2.1). Its source is 0.0.0.0, by which
// switches that snoop know it for no querier (RFC 4541, 2.1.1), and which never takes
// part in an election.
func Query4(own device.MAC) []byte {
	options := header.IPv4OptionsSerializer{&header.IPv4SerializableRouterAlertOption{}}
	ipLen := header.IPv4MinimumSize + int(options.Length())
	f := frame(own, device.MAC{0x01, 0x00, 0x5e, 0, 0, 1}, etherIPv4, ipLen+igmpLen)
	ip := header.IPv4(f[etherLen:])
	ip.Encode(&header.IPv4Fields{
		TOS: 0xc0, TotalLength: uint16(ipLen + igmpLen), TTL: 1, Protocol: uint8(header.IGMPProtocolNumber),
		SrcAddr: tcpip.AddrFrom4([4]byte{}), DstAddr: tcpip.AddrFrom4([4]byte{224, 0, 0, 1}), Options: options,
	})
	ip.SetChecksum(^ip.CalculateChecksum())
	m := header.IGMP(f[etherLen+ipLen:])
	m[0], m[1] = igmpQuery, MaxResponse/100_000_000 // in tenths of a second
	m[8], m[9] = robustness, interval
	m.SetChecksum(header.IGMPCalculateChecksum(m))
	return f
}

// Report4 makes an IGMPv3 report that a host is in a group (RFC 3376, 4.2), from its
// address or none.
func Report4(own device.MAC, source, group netip.Addr) []byte {
	options := header.IPv4OptionsSerializer{&header.IPv4SerializableRouterAlertOption{}}
	ipLen, length := header.IPv4MinimumSize+int(options.Length()), 16
	f := frame(own, device.MAC{0x01, 0x00, 0x5e, 0, 0, 22}, etherIPv4, ipLen+length)
	ip := header.IPv4(f[etherLen:])
	ip.Encode(&header.IPv4Fields{
		TOS: 0xc0, TotalLength: uint16(ipLen + length), TTL: 1, Protocol: uint8(header.IGMPProtocolNumber),
		SrcAddr: tcpip.AddrFrom4(source.As4()), DstAddr: tcpip.AddrFrom4([4]byte{224, 0, 0, 22}), Options: options,
	})
	ip.SetChecksum(^ip.CalculateChecksum())
	m := header.IGMP(f[etherLen+ipLen:])
	const oneRecord, toExclude = 1, 4
	m[0], m[7], m[8] = igmpReportV3, oneRecord, toExclude
	copy(m[12:], group.AsSlice())
	m.SetChecksum(header.IGMPCalculateChecksum(m))
	return f
}

// Query6 makes an MLDv2 general query as an Ethernet frame, from a link-local address:
// hosts read no other (RFC 3810, 5.1.14).
func Query6(own device.MAC, source netip.Addr) []byte {
	const hopLen = 8
	f := frame(own, device.MAC{0x33, 0x33, 0, 0, 0, 1}, etherIPv6, header.IPv6MinimumSize+hopLen+mldLen)
	src, dst := tcpip.AddrFromSlice(source.AsSlice()), header.IPv6AllNodesMulticastAddress
	ip := header.IPv6(f[etherLen:])
	ip.Encode(&header.IPv6Fields{
		PayloadLength: hopLen + mldLen, TransportProtocol: header.ICMPv6ProtocolNumber, HopLimit: 1, SrcAddr: src, DstAddr: dst,
	})
	const nextHeader = 6
	ip[nextHeader] = 0 // a hop-by-hop header comes first
	hop := ip[header.IPv6MinimumSize:]
	// Router alert (RFC 2711), and padding of two octets.
	copy(hop, []byte{uint8(header.ICMPv6ProtocolNumber), 0, 5, 2, 0, 0, 1, 0})
	m := header.ICMPv6(hop[hopLen:])
	m[0] = mldQuery
	binary.BigEndian.PutUint16(m[4:], MaxResponse/1_000_000) // in milliseconds
	m[24], m[25] = robustness, interval
	m.SetChecksum(header.ICMPv6Checksum(header.ICMPv6ChecksumParams{Header: m, Src: src, Dst: dst}))
	return f
}

func frame(own, to device.MAC, etherType uint16, size int) []byte {
	f := make([]byte, etherLen+size)
	copy(f[0:6], to[:])
	copy(f[6:12], own[:])
	binary.BigEndian.PutUint16(f[12:], etherType)
	return f
}

// Of tells what an Ethernet frame is in these protocols, and which address it comes from:
// unspecified for a host that has none yet.
func Of(f []byte) (Kind, netip.Addr) {
	m, from := message(f)
	switch {
	case m == nil:
		return None, netip.Addr{}
	case m[0] == igmpQuery && from.Is4(), m[0] == mldQuery && from.Is6():
		return Query, from
	case from.Is4() && (m[0] == igmpReportV1 || m[0] == igmpReportV2 || m[0] == igmpReportV3),
		from.Is6() && (m[0] == mldReportV1 || m[0] == mldReportV2):
		return Report, from
	}
	return None, from
}

// maxGroups bounds the groups that are read from one report.
const maxGroups = 64

// Groups gives the groups that a report tells of (RFC 3376, 4.2; RFC 3810, 5.2).
func Groups(f []byte) (out []netip.Addr) {
	m, from := message(f)
	if m == nil {
		return nil
	}
	size := 4
	if from.Is6() {
		size = 16
	}
	add := func(b []byte) {
		if a, ok := netip.AddrFromSlice(b); ok && a.IsMulticast() && len(out) < maxGroups {
			out = append(out, a)
		}
	}
	switch m[0] {
	case igmpReportV1, igmpReportV2, mldReportV1:
		if at := len(m) - size; at >= 4 {
			first := 4
			if from.Is6() {
				first = 8
			}
			if len(m) >= first+size {
				add(m[first : first+size])
			}
		}
	case igmpReportV3, mldReportV2:
		for rest := m[8:]; len(rest) >= 4+size; {
			add(rest[4 : 4+size])
			next := 4 + size + size*int(binary.BigEndian.Uint16(rest[2:])) + 4*int(rest[1])
			if next > len(rest) {
				break
			}
			rest = rest[next:]
		}
	}
	return out
}

// message gives the message in a frame, of eight octets at least, and who sent it.
func message(f []byte) ([]byte, netip.Addr) {
	if len(f) < etherLen {
		return nil, netip.Addr{}
	}
	switch b := f[etherLen:]; binary.BigEndian.Uint16(f[12:]) {
	case etherIPv4:
		ip := header.IPv4(b)
		if !ip.IsValid(len(b)) || ip.Protocol() != uint8(header.IGMPProtocolNumber) || ip.More() || ip.FragmentOffset() != 0 {
			return nil, netip.Addr{}
		}
		if m := b[ip.HeaderLength():ip.TotalLength()]; len(m) >= header.IGMPMinimumSize {
			return m, netip.AddrFrom4(ip.SourceAddress().As4())
		}
	case etherIPv6:
		ip := header.IPv6(b)
		if !ip.IsValid(len(b)) || ip.NextHeader() != uint8(header.IPv6HopByHopOptionsExtHdrIdentifier) {
			return nil, netip.Addr{}
		}
		body := ip.Payload()
		if len(body) < 2 || body[0] != uint8(header.ICMPv6ProtocolNumber) {
			return nil, netip.Addr{}
		}
		// RFC 8200, 4.3
		if hop := 8 * (int(body[1]) + 1); len(body) >= hop+8 {
			return body[hop:], netip.AddrFrom16(ip.SourceAddress().As16())
		}
	}
	return nil, netip.Addr{}
}
