package kernelwire

import (
	"context"
	"net"
	"net/netip"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"golang.org/x/net/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/header"

	"janustat/core/device"
	"janustat/internal/speak/hail"
)

// groups are the multicast groups whose announcements are listened to: WS-Discovery, mDNS and
// SSDP.
var groups = []netip.AddrPort{
	netip.MustParseAddrPort("239.255.255.250:3702"), netip.MustParseAddrPort("224.0.0.251:5353"), netip.MustParseAddrPort("239.255.255.250:1900"),
}

// flow is a socket that stands for one sender of datagrams.
type flow struct {
	socket *net.UDPConn
	sender netip.AddrPort
}

const (
	idle     = time.Minute // after which a flow ends
	maxFlows = 512
	largest  = 64 << 10 // bytes of a datagram
)

// datagram sends on what one of ours sends.
func (w *Wire) datagram(ip header.IPv4, to netip.Addr, mac device.MAC) {
	u := header.UDP(ip.Payload())
	if len(u) < header.UDPMinimumSize || ip.More() || ip.FragmentOffset() != 0 {
		return
	}
	if to == hail.Group && u.DestinationPort() == hail.Port {
		if w.hail != nil {
			_, _ = w.hail.WriteToUDPAddrPort(u.Payload(), hailGroup) // a lost datagram
		}
		return
	}
	if !to.IsMulticast() {
		if known, ok := w.near.cached(to); !ok || known != mac {
			return // broadcasts too: what asks by them needs raw frames
		}
	}
	from, _ := netip.AddrFromSlice(ip.SourceAddressSlice())
	f := w.flowOf(netip.AddrPortFrom(from, u.SourcePort()))
	if f == nil {
		return
	}
	_ = f.socket.SetReadDeadline(time.Now().Add(idle))
	_, _ = f.socket.WriteToUDPAddrPort(u.Payload(), netip.AddrPortFrom(to, u.DestinationPort())) // a lost datagram
}

func (w *Wire) flowOf(sender netip.AddrPort) *flow {
	w.mu.Lock()
	defer w.mu.Unlock()
	if f := w.flows[sender]; f != nil {
		return f
	}
	if len(w.flows) >= maxFlows || w.ctx.Err() != nil {
		return nil
	}
	socket, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(w.own[0].Addr(), 0)))
	if err != nil {
		return nil
	}
	p := ipv4.NewPacketConn(socket)
	_ = p.SetMulticastInterface(&w.iface) // else the system's choice
	_ = p.SetMulticastTTL(1)
	f := &flow{socket, sender}
	w.flows[sender] = f
	w.work.Go(func() { w.answers(f) })
	return f
}

// answers gives on what comes back to a flow, until it is idle.
func (w *Wire) answers(f *flow) {
	defer func() {
		f.socket.Close()
		w.mu.Lock()
		delete(w.flows, f.sender)
		w.mu.Unlock()
	}()
	buf := make([]byte, largest)
	for {
		n, from, err := f.socket.ReadFromUDPAddrPort(buf)
		if err != nil {
			return
		}
		from = netip.AddrPortFrom(from.Addr().Unmap(), from.Port())
		if mac, ok := w.near.now(from.Addr()); ok {
			to := f.sender
			if to.Addr().IsUnspecified() { // asked from no address yet
				to = netip.AddrPortFrom(w.own[0].Addr(), to.Port())
			}
			w.heard(udpFrame(mac, w.facts.MAC, from, to, buf[:n]))
		}
	}
}

// listen takes in what is announced to groups. A group that cannot be joined is not heard.
func (w *Wire) listen() {
	for _, g := range groups {
		socket, err := net.ListenMulticastUDP("udp4", &w.iface, net.UDPAddrFromAddrPort(g))
		if err != nil {
			continue
		}
		w.work.Go(func() { w.announced(socket, g) })
	}
}

func (w *Wire) announced(socket *net.UDPConn, group netip.AddrPort) {
	stop := context.AfterFunc(w.ctx, func() { socket.Close() })
	defer stop()
	defer socket.Close()
	buf := make([]byte, largest)
	for {
		n, from, err := socket.ReadFromUDPAddrPort(buf)
		if err != nil {
			return
		}
		from = netip.AddrPortFrom(from.Addr().Unmap(), from.Port())
		if mac, ok := w.near.now(from.Addr()); ok {
			w.heard(udpFrame(mac, groupMAC(group.Addr()), from, group, buf[:n]))
		}
	}
}

// groupMAC is the MAC of an IPv4 group (RFC 1112, 6.4).
func groupMAC(a netip.Addr) device.MAC {
	b := a.As4()
	return device.MAC{0x01, 0x00, 0x5e, b[1] & 0x7f, b[2], b[3]}
}

// udpFrame makes a frame with a datagram, as its sender would have sent it.
func udpFrame(src, dst device.MAC, from, to netip.AddrPort, payload []byte) []byte {
	eth := &layers.Ethernet{SrcMAC: src[:], DstMAC: dst[:], EthernetType: layers.EthernetTypeIPv4}
	ip := &layers.IPv4{Version: 4, TTL: 64, Protocol: layers.IPProtocolUDP, SrcIP: from.Addr().AsSlice(), DstIP: to.Addr().AsSlice()}
	u := &layers.UDP{SrcPort: layers.UDPPort(from.Port()), DstPort: layers.UDPPort(to.Port())}
	_ = u.SetNetworkLayerForChecksum(ip) // an IP layer is one
	b := gopacket.NewSerializeBuffer()
	if err := gopacket.SerializeLayers(b, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true}, eth, ip, u, gopacket.Payload(payload)); err != nil {
		return nil
	}
	return b.Bytes()
}

// unreachableFrame tells the sender of a packet that the host is not reached (RFC 792).
func unreachableFrame(src, dst device.MAC, from netip.Addr, packet header.IPv4) []byte {
	quoted := packet[:min(len(packet), int(packet.HeaderLength())+8)]
	eth := &layers.Ethernet{SrcMAC: src[:], DstMAC: dst[:], EthernetType: layers.EthernetTypeIPv4}
	ip := &layers.IPv4{Version: 4, TTL: 64, Protocol: layers.IPProtocolICMPv4, SrcIP: from.AsSlice(), DstIP: packet.SourceAddressSlice()}
	icmp := &layers.ICMPv4{TypeCode: layers.CreateICMPv4TypeCode(layers.ICMPv4TypeDestinationUnreachable, layers.ICMPv4CodeHost)}
	b := gopacket.NewSerializeBuffer()
	if err := gopacket.SerializeLayers(b, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true}, eth, ip, icmp, gopacket.Payload(quoted)); err != nil {
		return nil
	}
	return b.Bytes()
}
