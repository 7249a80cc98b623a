package reach

import (
	"bytes"
	"encoding/binary"
	"net"
	"net/netip"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gvisor.dev/gvisor/pkg/tcpip/header"

	"janustat/core/device"
	"janustat/core/lan"
	"janustat/internal/speak/arp"
	"janustat/internal/speak/ndp"
	"janustat/internal/wire"
)

func TestDatagramsTellTheirSender(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := newCable()
		n := New(c)
		defer n.Close()
		var got []Datagram
		n.Hear(func(h Heard) {
			if h.Datagram != nil {
				got = append(got, *h.Datagram)
			}
		})
		c.in <- udpFrame(first, []byte("one"))
		c.in <- udpFrame(second, []byte("two"))
		synctest.Wait()
		require.Len(t, got, 2)
		assert.Equal(t, []device.MAC{first, second}, []device.MAC{got[0].MAC, got[1].MAC}, "two devices on one address")
		assert.Equal(t, "192.168.77.1:3702", got[0].From.String())
		assert.Equal(t, "two", string(got[1].Payload))
	})
}

// fragments cuts a datagram frame into pieces of IP payload.
func fragments(whole []byte, id uint16, size int) [][]byte {
	ip := header.IPv4(whole[etherLen:])
	body := ip.Payload()
	var out [][]byte
	for at := 0; at < len(body); at += size {
		piece := body[at:min(at+size, len(body))]
		f := append(bytes.Clone(whole[:etherLen+header.IPv4MinimumSize]), piece...)
		h := header.IPv4(f[etherLen:])
		flags := uint16(at / 8)
		if at+size < len(body) {
			flags |= 1 << 13
		}
		binary.BigEndian.PutUint16(h[2:], uint16(header.IPv4MinimumSize+len(piece)))
		binary.BigEndian.PutUint16(h[4:], id)
		binary.BigEndian.PutUint16(h[6:], flags)
		h.SetChecksum(0)
		h.SetChecksum(^h.CalculateChecksum())
		out = append(out, f)
	}
	return out
}

func TestFragmentsOfTwoDevicesOnOneAddressDoNotMix(t *testing.T) {
	text := bytes.Repeat([]byte("scope "), 500)
	a := fragments(udpFrame(first, append([]byte("A"), text...)), 7, 1000)
	b := fragments(udpFrame(second, append([]byte("B"), text...)), 7, 1000)
	require.Len(t, a, 4)
	n := &Net{crowd: newCrowd(), facts: wire.Facts{MAC: own}, taps: map[*tap]struct{}{}}
	var got []string
	n.Hear(func(h Heard) {
		if h.Datagram != nil {
			got = append(got, string(h.Datagram.Payload[:1]))
			assert.Len(t, h.Datagram.Payload, len(text)+1)
		}
	})
	for _, i := range []int{3, 0, 2, 1} { // out of order, and interleaved
		n.take(a[i])
		n.take(b[i])
	}
	assert.Equal(t, []string{"A", "B"}, got)
	assert.Empty(t, n.ear.fragments.open)
}

// Some devices give every datagram the same identification, and frames get lost.
func TestALostFragmentDoesNotBlockTheNextDatagram(t *testing.T) {
	lost := fragments(udpFrame(first, bytes.Repeat([]byte("x"), 2000)), 0, 1000)
	next := fragments(udpFrame(first, bytes.Repeat([]byte("y"), 2000)), 0, 1000)
	var e Ear
	add := func(f []byte) ([]byte, bool) {
		h, _ := e.Hear(f, time.Now())
		if h.Datagram == nil {
			return nil, false
		}
		return h.Datagram.Payload, true
	}
	_, done := add(lost[0])
	require.False(t, done)
	_, done = add(next[0])
	require.False(t, done)
	_, done = add(next[1])
	require.False(t, done)
	got, done := add(next[2])
	require.True(t, done)
	assert.Equal(t, byte('y'), got[100])

	_, done = add(lost[0])
	require.False(t, done)
	_, done = add(next[1])
	require.False(t, done)
	_, done = add(next[2])
	assert.False(t, done, "pieces of two datagrams are not one")
}

func TestReassemblyIsBounded(t *testing.T) {
	var e Ear
	now := time.Now()
	for i := range 1000 {
		f := fragments(udpFrame(device.MAC{2, 1, 0, 0, byte(i >> 8), byte(i)}, make([]byte, 3000)), uint16(i), 1000)[0]
		e.Hear(f, now.Add(time.Duration(i)))
	}
	assert.LessOrEqual(t, len(e.fragments.open), maxPartials)
	piece := fragments(udpFrame(first, make([]byte, 3000)), 1, 1000)[1]
	for range 500 {
		h, _ := e.Hear(piece, now)
		require.Nil(t, h.Datagram)
	}
	for _, p := range e.fragments.open {
		assert.LessOrEqual(t, len(p.pieces), maxFragments)
	}
}

// IPv6 datagrams are read too, whole and in pieces (RFC 8200, 4.5).
func TestIPv6Datagrams(t *testing.T) {
	from, to := netip.MustParseAddrPort("[fe80::1]:3702"), netip.MustParseAddrPort("[ff02::c]:3702")
	text := bytes.Repeat([]byte("scope "), 300)
	whole := datagramFrame(first, multicastMAC(to.Addr()), from, to, 1, text)
	var e Ear
	h, ok := e.Hear(whole, time.Now())
	require.True(t, ok)
	require.NotNil(t, h.Datagram)
	assert.Equal(t, &Datagram{MAC: first, From: from, To: to, Payload: text}, h.Datagram)
	assert.Equal(t, device.MAC{0x33, 0x33, 0, 0, 0, 0x0c}, h.To)

	body := whole[etherLen+header.IPv6MinimumSize:]
	cut := func(at, n int) []byte {
		piece := body[at:min(at+n, len(body))]
		f := append(bytes.Clone(whole[:etherLen+header.IPv6MinimumSize]), make([]byte, ipv6FragmentLen)...)
		f = append(f, piece...)
		binary.BigEndian.PutUint16(f[etherLen+4:], uint16(ipv6FragmentLen+len(piece)))
		f[etherLen+6] = 44
		x := f[etherLen+header.IPv6MinimumSize:]
		x[0] = 17
		word := uint16(at)
		if at+n < len(body) {
			word |= 1
		}
		binary.BigEndian.PutUint16(x[2:], word)
		binary.BigEndian.PutUint32(x[4:], 99)
		return f
	}
	h, _ = e.Hear(cut(1000, 1000), time.Now())
	require.Nil(t, h.Datagram)
	h, _ = e.Hear(cut(0, 1000), time.Now())
	require.NotNil(t, h.Datagram)
	assert.Equal(t, text, h.Datagram.Payload)
}

func TestClaims(t *testing.T) {
	them := netip.MustParseAddr("fe80::e4:42ff:fe00:101")
	hear := func(f []byte) (Claim, bool) {
		var e Ear
		h, ok := e.Hear(f, time.Now())
		require.True(t, ok)
		return h.Claim()
	}
	lie := arp.Announce(second, dup)
	lie.From = first
	tagged := append(append(bytes.Clone(arp.Announce(first, dup).Frame()[:12]), 0x81, 0, 0, 20), arp.Announce(first, dup).Frame()[12:]...)
	ask := ndp.Solicit(own, netip.MustParseAddr("fe80::1"), them)
	for name, c := range map[string]struct {
		frame []byte
		want  Claim
	}{
		"announcement":          {arp.Announce(first, dup).Frame(), Claim{first, dup, true}},
		"question in passing":   {arp.Ask(first, dup, netip.MustParseAddr("192.168.77.254")).Frame(), Claim{first, dup, false}},
		"probe claims nothing":  {arp.Probe(first, dup).Frame(), Claim{}},
		"word of another's MAC": {lie.Frame(), Claim{}},
		"tagged frame":          {tagged, Claim{}},
		"neighbour's answer":    {ndp.Answer(ask, first).Frame(), Claim{first, them, false}},
		"neighbour's question":  {ndp.Solicit(first, them, netip.MustParseAddr("fe80::1")).Frame(), Claim{first, them, false}},
	} {
		got, ok := hear(c.frame)
		assert.Equal(t, c.want, got, name)
		assert.Equal(t, c.want != Claim{}, ok, name)
	}
}

func FuzzTake(f *testing.F) {
	f.Add(udpFrame(first, []byte("x")))
	f.Add(arp.Announce(first, dup).Frame())
	f.Add(ndp.Solicit(first, netip.MustParseAddr("fe80::1"), netip.MustParseAddr("fe80::2")).Frame())
	f.Add(datagramFrame(first, own, netip.MustParseAddrPort("[fe80::1]:1"), netip.MustParseAddrPort("[fe80::2]:2"), 1, []byte("x")))
	for _, p := range fragments(udpFrame(first, make([]byte, 3000)), 1, 1000) {
		f.Add(p)
	}
	n := &Net{crowd: newCrowd(), facts: wire.Facts{MAC: own}, taps: map[*tap]struct{}{}, account: lan.NewClaims(), held: map[netip.Addr]*Visitor{}, wire: newCable()}
	n.Hear(func(h Heard) {
		if h.Datagram != nil && len(h.Datagram.Payload) > 1<<16 {
			panic("longer than a datagram can be")
		}
	})
	f.Fuzz(func(t *testing.T, frame []byte) { n.take(frame) })
}

// The frame of a datagram is sound by another's reckoning: the standard library
// cannot read raw frames, so the checksums are verified by the stack's own code.
func TestDatagramFrameIsSound(t *testing.T) {
	f := datagramFrame(own, device.MAC{}, netip.MustParseAddrPort("192.168.77.6:41702"), netip.MustParseAddrPort("239.255.255.250:3702"), 1, []byte("odd"))
	ip, ok := ipv4Of(f)
	require.True(t, ok)
	assert.True(t, ip.IsChecksumValid())
	u := header.UDP(ip.Payload())
	assert.True(t, u.IsChecksumValid(ip.SourceAddress(), ip.DestinationAddress(), checksumOf(u.Payload())))
	assert.Equal(t, net.HardwareAddr{0x01, 0x00, 0x5e, 0x7f, 0xff, 0xfa}, net.HardwareAddr(func() []byte { m := multicastMAC(netip.MustParseAddr("239.255.255.250")); return m[:] }()))
}

func checksumOf(b []byte) uint16 {
	var sum uint32
	for i, c := range b {
		sum += uint32(c) << (8 * uint(1-i%2))
	}
	for sum > 0xffff {
		sum = sum>>16 + sum&0xffff
	}
	return uint16(sum)
}

// A frame that is tagged with a priority alone is of this LAN (IEEE 802.1Q, 9.6).
func TestAFrameWithoutAVLANInItsTagIsHeard(t *testing.T) {
	plain := arp.Announce(device.MAC{2, 9}, netip.MustParseAddr("10.61.8.42")).Frame()
	tag := func(vid uint16) []byte {
		return append(append(append([]byte{}, plain[:12]...), 0x81, 0, byte(0xa0|vid>>8), byte(vid)), plain[12:]...)
	}
	ear := Ear{Own: device.MAC{2, 1}}
	h, ok := ear.Hear(tag(0), time.Now())
	require.True(t, ok)
	require.NotNil(t, h.ARP)
	assert.Zero(t, h.VLAN)
	c, ok := h.Claim()
	assert.True(t, ok)
	assert.Equal(t, netip.MustParseAddr("10.61.8.42"), c.Address)
	h, ok = ear.Hear(tag(20), time.Now())
	require.True(t, ok)
	assert.Nil(t, h.ARP)
	assert.Equal(t, uint16(20), h.VLAN)
	twice := append(append(append([]byte{}, plain[:12]...), 0x81, 0, 0, 0, 0x81, 0, 0, 0), plain[12:]...)
	h, _ = ear.Hear(twice, time.Now())
	assert.Nil(t, h.ARP)
}
