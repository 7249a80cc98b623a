package survey

import (
	"net/netip"
	"testing"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/bench"
	"janustat/internal/reach/reachtest"
	"janustat/internal/wire"
)

// advertisement is a router's (RFC 4861, 4.2) that wants to be everyone's way out, with a
// prefix for them to take addresses in (RFC 4862).
func advertisement(t *testing.T, from device.MAC) []byte {
	t.Helper()
	eth := &layers.Ethernet{SrcMAC: from[:], DstMAC: []byte{0x33, 0x33, 0, 0, 0, 1}, EthernetType: layers.EthernetTypeIPv6}
	ip := &layers.IPv6{Version: 6, HopLimit: 255, NextHeader: layers.IPProtocolICMPv6, SrcIP: netip.MustParseAddr("fe80::66").AsSlice(), DstIP: netip.MustParseAddr("ff02::1").AsSlice()}
	icmp := &layers.ICMPv6{TypeCode: layers.CreateICMPv6TypeCode(layers.ICMPv6TypeRouterAdvertisement, 0)}
	require.NoError(t, icmp.SetNetworkLayerForChecksum(ip))
	ra := &layers.ICMPv6RouterAdvertisement{HopLimit: 64, Flags: 0xc0, RouterLifetime: 1800, Options: layers.ICMPv6Options{
		{Type: layers.ICMPv6OptSourceAddress, Data: from[:]},
		{Type: layers.ICMPv6OptPrefixInfo, Data: append([]byte{64, 0xc0, 0, 0, 0xff, 0xff, 0, 0, 0xff, 0xff, 0, 0, 0, 0}, netip.MustParseAddr("2001:db8::").AsSlice()...)},
	}}
	b := gopacket.NewSerializeBuffer()
	require.NoError(t, gopacket.SerializeLayers(b, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true}, eth, ip, icmp, ra))
	return b.Bytes()
}

// redirect tells a host that another is the better way to a device (RFC 792).
func redirect(t *testing.T, from, to device.MAC, ours, device, by netip.Addr) []byte {
	t.Helper()
	eth := &layers.Ethernet{SrcMAC: from[:], DstMAC: to[:], EthernetType: layers.EthernetTypeIPv4}
	ip := &layers.IPv4{Version: 4, TTL: 64, Protocol: layers.IPProtocolICMPv4, SrcIP: device.AsSlice(), DstIP: ours.AsSlice()}
	icmp := &layers.ICMPv4{TypeCode: layers.CreateICMPv4TypeCode(layers.ICMPv4TypeRedirect, 1)}
	way := by.As4()
	icmp.Id, icmp.Seq = uint16(way[0])<<8|uint16(way[1]), uint16(way[2])<<8|uint16(way[3])
	b := gopacket.NewSerializeBuffer()
	require.NoError(t, gopacket.SerializeLayers(b, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true}, eth, ip, icmp, gopacket.Payload(make([]byte, 28))))
	return b.Bytes()
}

// Routers that advertise themselves, hosts that redirect us, and copies of frames with a
// VLAN's tag lead nobody astray: the devices are read where they are, and nowhere else.
func TestWhoWantsToLeadUsAstray(t *testing.T) {
	t.Parallel()
	n, logs, socket := reachtest.WithSocket(t, pair)
	ours := n.Facts().MAC
	reachtest.PlugIn(t, socket, func(w *wire.Frames, seen []byte) {
		if len(seen) < 34 || device.MACFrom(seen[6:12]) == reachtest.Villain {
			return
		}
		_ = w.Write(advertisement(t, reachtest.Villain))
		_ = w.Write(redirect(t, reachtest.Villain, ours, netip.MustParseAddr("192.168.77.1"), netip.MustParseAddr("192.168.77.20"), netip.MustParseAddr("192.168.77.66")))
		tagged := append(append(append([]byte{}, seen[:12]...), 0x81, 0, 0, 77), seen[12:]...)
		copy(tagged[6:12], reachtest.Villain[:])
		_ = w.Write(tagged)
	})
	found := surveyed(t, n)
	assert.Equal(t, 2, cameras(found))
	for _, d := range found {
		for _, a := range d.Addresses {
			assert.NotEqual(t, "192.168.77.66", a.String())
			assert.False(t, a.Is6() && !a.IsLinkLocalUnicast(), a)
		}
	}
	for _, e := range logs.Events() {
		assert.NotEqual(t, bench.EventWrite, e.What)
	}
}
