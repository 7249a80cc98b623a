// Package dhcp asks which DHCP servers are on a link and what they would give,
// without taking a lease: a DISCOVER and no REQUEST (RFC 2131, 3.1). It codes
// UDP payloads only; the messages themselves are those of a library.
package dhcp

import (
	"errors"
	"net"
	"net/netip"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"janustat/core/device"
)

// Ports of DHCP (RFC 2131, 4.1).
const (
	ServerPort = 67
	ClientPort = 68
)

// ErrNoOffer is returned for a message that is not an offer to us.
var ErrNoOffer = errors.New("not an offer to us")

// Offer is what a server would give.
type Offer struct {
	Server  netip.Addr
	Address netip.Addr
	Subnet  netip.Prefix
	Gateway netip.Addr // invalid when it gives none
	DNS     []netip.Addr
	NTP     []netip.Addr
	Lease   time.Duration
}

// Discover builds a DISCOVER for a MAC. Answers are asked for by broadcast,
// since nobody here has the address that would be offered.
func Discover(mac device.MAC, id [4]byte) ([]byte, error) {
	m, err := dhcpv4.NewDiscovery(mac[:], dhcpv4.WithBroadcast(true), dhcpv4.WithTransactionID(id),
		dhcpv4.WithRequestedOptions(dhcpv4.OptionSubnetMask, dhcpv4.OptionRouter, dhcpv4.OptionDomainNameServer, dhcpv4.OptionNTPServers))
	if err != nil {
		return nil, err
	}
	return m.ToBytes(), nil
}

// ParseOffer reads an OFFER that answers our DISCOVER.
func ParseOffer(payload []byte, id [4]byte) (Offer, error) {
	m, err := dhcpv4.FromBytes(payload)
	if err != nil || m.MessageType() != dhcpv4.MessageTypeOffer || m.TransactionID != id {
		return Offer{}, ErrNoOffer
	}
	var o Offer
	var ok bool
	if o.Address, ok = netip.AddrFromSlice(m.YourIPAddr.To4()); !ok || o.Address.IsUnspecified() {
		return Offer{}, ErrNoOffer
	}
	o.Server, _ = netip.AddrFromSlice(m.ServerIdentifier().To4())
	if ones, bits := m.SubnetMask().Size(); bits == 32 {
		o.Subnet = netip.PrefixFrom(o.Address, ones).Masked()
	}
	if list := m.Router(); len(list) > 0 {
		o.Gateway, _ = netip.AddrFromSlice(list[0].To4())
	}
	o.DNS, o.NTP = addresses(m.DNS()), addresses(m.NTPServers())
	o.Lease = m.IPAddressLeaseTime(0)
	return o, nil
}

func addresses(list []net.IP) []netip.Addr {
	var out []netip.Addr
	for _, ip := range list {
		if a, ok := netip.AddrFromSlice(ip.To4()); ok && !a.IsUnspecified() {
			out = append(out, a)
		}
	}
	return out
}
