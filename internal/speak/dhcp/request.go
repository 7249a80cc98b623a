package dhcp

import (
	"encoding/hex"
	"errors"
	"net"
	"net/netip"
	"strings"
	"time"
	"unicode"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"janustat/core/device"
)

// Kind is what a client wants (RFC 2131, 3.1, table 2).
type Kind byte

// The kinds of messages that clients send.
const (
	Wants   = Kind(dhcpv4.MessageTypeDiscover)
	Takes   = Kind(dhcpv4.MessageTypeRequest)
	Refuses = Kind(dhcpv4.MessageTypeDecline)
	Returns = Kind(dhcpv4.MessageTypeRelease)
)

// ErrNoRequest is returned for what no client sends.
var ErrNoRequest = errors.New("not a DHCP client's message")

// Request is a client's message.
type Request struct {
	Kind        Kind
	MAC         device.MAC
	Current     netip.Addr // ciaddr: the address it has and wants to go on with
	Address     netip.Addr // option 50: the one it asks for, or refuses
	Server      netip.Addr // option 54: whose offer it takes
	VendorClass string     // option 60
	Host        string     // option 12
	ClientID    string     // option 61, hexadecimal
	message     *dhcpv4.DHCPv4
}

// ParseRequest reads a client's message. Only Ethernet clients are known.
func ParseRequest(payload []byte) (Request, error) {
	m, err := dhcpv4.FromBytes(payload)
	if err != nil || m.OpCode != dhcpv4.OpcodeBootRequest || len(m.ClientHWAddr) != 6 {
		return Request{}, ErrNoRequest
	}
	r := Request{
		Kind: Kind(m.MessageType()), MAC: device.MACFrom(m.ClientHWAddr), message: m,
		VendorClass: printable(m.ClassIdentifier()), Host: printable(m.HostName()),
		ClientID: hex.EncodeToString(m.Options.Get(dhcpv4.OptionClientIdentifier)),
		Current:  address(m.ClientIPAddr), Address: address(m.RequestedIPAddress()), Server: address(m.ServerIdentifier()),
	}
	switch r.Kind {
	case Wants, Takes, Refuses, Returns:
	default:
		return Request{}, ErrNoRequest
	}
	if r.MAC.IsZero() || r.MAC.IsGroup() {
		return Request{}, ErrNoRequest
	}
	return r, nil
}

func address(ip net.IP) netip.Addr {
	a, ok := netip.AddrFromSlice(ip.To4())
	if !ok || a.IsUnspecified() {
		return netip.Addr{}
	}
	return a
}

// maxText bounds what a client says of itself, in characters.
const maxText = 64

// printable keeps what can be shown: a hostile client may send anything.
func printable(s string) string {
	s = strings.Map(func(r rune) rune {
		if r == unicode.ReplacementChar || !unicode.IsPrint(r) {
			return -1
		}
		return r
	}, s)
	runes := []rune(s)
	return string(runes[:min(len(runes), maxText)])
}

// Lease is what a server gives.
type Lease struct {
	Server  netip.Addr // the server's own address, its identifier
	Address netip.Addr
	Subnet  netip.Prefix
	Gateway netip.Addr // invalid: none
	DNS     []netip.Addr
	NTP     []netip.Addr
	Time    time.Duration
}

// Offer answers a client that wants an address (RFC 2131, 4.3.1).
func (r Request) Offer(l Lease) ([]byte, error) { return r.give(dhcpv4.MessageTypeOffer, l) }

// Ack gives the address to a client that takes the offer (RFC 2131, 4.3.2).
func (r Request) Ack(l Lease) ([]byte, error) { return r.give(dhcpv4.MessageTypeAck, l) }

func (r Request) give(kind dhcpv4.MessageType, l Lease) ([]byte, error) {
	with := []dhcpv4.Modifier{
		dhcpv4.WithMessageType(kind), dhcpv4.WithYourIP(l.Address.AsSlice()), dhcpv4.WithServerIP(l.Server.AsSlice()),
		dhcpv4.WithOption(dhcpv4.OptServerIdentifier(l.Server.AsSlice())),
		dhcpv4.WithNetmask(net.CIDRMask(l.Subnet.Bits(), 32)), dhcpv4.WithLeaseTime(uint32(l.Time.Seconds())),
	}
	if l.Gateway.IsValid() {
		with = append(with, dhcpv4.WithRouter(l.Gateway.AsSlice()))
	}
	if len(l.DNS) > 0 {
		with = append(with, dhcpv4.WithDNS(ips(l.DNS)...))
	}
	if len(l.NTP) > 0 {
		with = append(with, dhcpv4.WithOption(dhcpv4.OptNTPServers(ips(l.NTP)...)))
	}
	m, err := dhcpv4.NewReplyFromRequest(r.message, with...)
	if err != nil {
		return nil, err
	}
	return m.ToBytes(), nil
}

// Nak tells a client that the address it asks for is not to be had here, so that
// it begins anew (RFC 2131, 4.3.2).
func (r Request) Nak(server netip.Addr) ([]byte, error) {
	m, err := dhcpv4.NewReplyFromRequest(r.message, dhcpv4.WithMessageType(dhcpv4.MessageTypeNak),
		dhcpv4.WithOption(dhcpv4.OptServerIdentifier(server.AsSlice())))
	if err != nil {
		return nil, err
	}
	return m.ToBytes(), nil
}

func ips(list []netip.Addr) (out []net.IP) {
	for _, a := range list {
		out = append(out, a.AsSlice())
	}
	return out
}

// FromServer tells which server sent a message to a client, if one did: an
// OFFER, an ACK or a NAK, to whomever.
func FromServer(payload []byte) (server netip.Addr, ok bool) {
	m, err := dhcpv4.FromBytes(payload)
	if err != nil || m.OpCode != dhcpv4.OpcodeBootReply {
		return netip.Addr{}, false
	}
	switch m.MessageType() {
	case dhcpv4.MessageTypeOffer, dhcpv4.MessageTypeAck, dhcpv4.MessageTypeNak:
		return address(m.ServerIdentifier()), true
	}
	return netip.Addr{}, false
}
