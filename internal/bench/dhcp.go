package bench

import (
	"context"
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/header"

	"janustat/core/device"
)

// Ports of DHCP (RFC 2131, 4.1).
const (
	dhcpServerPort = 67
	dhcpClientPort = 68
	leaseTime      = 2 * time.Hour
)

// dhcpIn gives the DHCP message in a frame for a UDP port, if it is one.
func dhcpIn(frame []byte, port uint16) (*dhcpv4.DHCPv4, bool) {
	if len(frame) < 42 || binary.BigEndian.Uint16(frame[12:]) != 0x0800 {
		return nil, false
	}
	ip := header.IPv4(frame[14:])
	if !ip.IsValid(len(ip)) || ip.TransportProtocol() != header.UDPProtocolNumber || len(ip.Payload()) < header.UDPMinimumSize {
		return nil, false
	}
	u := header.UDP(ip.Payload())
	if u.DestinationPort() != port {
		return nil, false
	}
	m, err := dhcpv4.FromBytes(u.Payload())
	return m, err == nil
}

// dhcpFrame wraps a DHCP message for everyone on the link.
func dhcpFrame(from, to device.MAC, src netip.AddrPort, port uint16, m *dhcpv4.DHCPv4) []byte {
	payload := m.ToBytes()
	total := header.IPv4MinimumSize + header.UDPMinimumSize + len(payload)
	f := make([]byte, 14+total)
	copy(f, to[:])
	copy(f[6:], from[:])
	f[12] = 8
	ip := header.IPv4(f[14:])
	ip.Encode(&header.IPv4Fields{
		TotalLength: uint16(total), TTL: 64, Protocol: uint8(header.UDPProtocolNumber),
		SrcAddr: tcpip.AddrFromSlice(src.Addr().AsSlice()), DstAddr: header.IPv4Broadcast,
	})
	ip.SetChecksum(^ip.CalculateChecksum())
	u := header.UDP(f[14+header.IPv4MinimumSize:])
	// Checksum zero: none (RFC 768), which RFC 2131 allows.
	u.Encode(&header.UDPFields{SrcPort: src.Port(), DstPort: port, Length: uint16(header.UDPMinimumSize + len(payload))})
	copy(u[header.UDPMinimumSize:], payload)
	return f
}

// dhcpServer gives leases out of a pool (RFC 2131).
type dhcpServer struct {
	host    *host
	subnet  netip.Prefix
	gateway netip.Addr
	pool    [2]netip.Addr
	dns     []net.IP
	ntp     []net.IP
	mu      sync.Mutex
	leases  map[device.MAC]netip.Addr
}

func (s *dhcpServer) take(frame []byte) {
	m, ok := dhcpIn(frame, dhcpServerPort)
	if !ok {
		return
	}
	kind := dhcpv4.MessageTypeOffer
	switch m.MessageType() {
	case dhcpv4.MessageTypeDiscover:
	case dhcpv4.MessageTypeRequest:
		if id := m.ServerIdentifier(); id != nil && !id.Equal(s.subnet.Addr().AsSlice()) {
			return // it took another server's offer
		}
		kind = dhcpv4.MessageTypeAck
	default:
		return
	}
	mac := device.MACFrom(m.ClientHWAddr)
	lease, ok := s.leaseFor(mac, kind == dhcpv4.MessageTypeAck)
	if !ok {
		return
	}
	own := net.IP(s.subnet.Addr().AsSlice())
	dns := s.dns
	if len(dns) == 0 {
		dns = []net.IP{s.gateway.AsSlice()}
	}
	more := []dhcpv4.Modifier{dhcpv4.WithDNS(dns...)}
	if len(s.ntp) > 0 {
		more = append(more, dhcpv4.WithOption(dhcpv4.OptNTPServers(s.ntp...)))
	}
	reply, err := dhcpv4.NewReplyFromRequest(m, append(more,
		dhcpv4.WithMessageType(kind), dhcpv4.WithYourIP(lease.AsSlice()), dhcpv4.WithServerIP(own),
		dhcpv4.WithOption(dhcpv4.OptServerIdentifier(own)),
		dhcpv4.WithNetmask(net.CIDRMask(s.subnet.Bits(), 32)),
		dhcpv4.WithRouter(s.gateway.AsSlice()),
		dhcpv4.WithLeaseTime(uint32(leaseTime.Seconds())))...)
	if err != nil {
		return
	}
	s.host.port.Send(dhcpFrame(s.host.mac, device.Broadcast, netip.AddrPortFrom(s.subnet.Addr(), dhcpServerPort), dhcpClientPort, reply))
}

// leaseFor gives a client the same address each time; only keep records it.
func (s *dhcpServer) leaseFor(mac device.MAC, keep bool) (netip.Addr, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if a, ok := s.leases[mac]; ok {
		return a, true
	}
	used := map[netip.Addr]bool{}
	for _, a := range s.leases {
		used[a] = true
	}
	for a := s.pool[0]; a.Compare(s.pool[1]) <= 0; a = a.Next() {
		if !used[a] {
			if keep {
				s.leases[mac] = a
			}
			return a, true
		}
	}
	return netip.Addr{}, false
}

// dhcpTries is how often a device asks before it falls back.
const dhcpTries = 4

func ips(list []string) (out []net.IP) {
	for _, s := range list {
		out = append(out, net.ParseIP(s).To4())
	}
	return out
}

// lease gets an address by DHCP before the stack is up, or fails after some tries.
func (h *host) lease(ctx context.Context, tries int) (netip.Prefix, netip.Addr, bool) {
	got := make(chan *dhcpv4.DHCPv4, 8)
	h.change(func() {
		h.raw = func(frame []byte) {
			if m, ok := dhcpIn(frame, dhcpClientPort); ok && device.MACFrom(m.ClientHWAddr) == h.mac {
				select {
				case got <- m:
				default:
				}
			}
		}
	})
	defer func() { h.change(func() { h.raw = nil }) }()
	from := netip.AddrPortFrom(netip.IPv4Unspecified(), dhcpClientPort)
	for range tries {
		ask, err := dhcpv4.NewDiscovery(h.mac[:], dhcpv4.WithOption(dhcpv4.OptHostName(h.id)), dhcpv4.WithBroadcast(true),
			dhcpv4.WithOption(dhcpv4.OptClassIdentifier(h.vendor)), dhcpv4.WithOption(dhcpv4.OptClientIdentifier(append([]byte{1}, h.mac[:]...))))
		if err != nil {
			return netip.Prefix{}, netip.Addr{}, false
		}
		for range 2 { // DISCOVER, then REQUEST
			h.port.Send(dhcpFrame(h.mac, device.Broadcast, from, dhcpServerPort, ask))
			answer, ok := await(ctx, got, ask.TransactionID)
			if !ok {
				break
			}
			if answer.MessageType() == dhcpv4.MessageTypeAck {
				return leaseOf(answer)
			}
			if ask, err = dhcpv4.NewRequestFromOffer(answer, dhcpv4.WithBroadcast(true)); err != nil {
				break
			}
		}
	}
	return netip.Prefix{}, netip.Addr{}, false
}

func await(ctx context.Context, got <-chan *dhcpv4.DHCPv4, id dhcpv4.TransactionID) (*dhcpv4.DHCPv4, bool) {
	limit := time.NewTimer(time.Second)
	defer limit.Stop()
	for {
		select {
		case m := <-got:
			if m.TransactionID == id {
				return m, true
			}
		case <-limit.C:
			return nil, false
		case <-ctx.Done():
			return nil, false
		}
	}
}

func leaseOf(m *dhcpv4.DHCPv4) (netip.Prefix, netip.Addr, bool) {
	addr, ok := netip.AddrFromSlice(m.YourIPAddr.To4())
	bits, _ := m.SubnetMask().Size()
	if !ok || bits == 0 {
		return netip.Prefix{}, netip.Addr{}, false
	}
	var router netip.Addr
	if list := m.Router(); len(list) > 0 {
		router, _ = netip.AddrFromSlice(list[0].To4())
	}
	return netip.PrefixFrom(addr, bits), router, true
}

func parseRange(list []string) ([2]netip.Addr, error) {
	if len(list) != 2 {
		return [2]netip.Addr{}, fmt.Errorf("a pool has a first and a last address")
	}
	first, err := netip.ParseAddr(list[0])
	if err != nil {
		return [2]netip.Addr{}, err
	}
	last, err := netip.ParseAddr(list[1])
	return [2]netip.Addr{first, last}, err
}
