// Package ground holds the site network: its subnet and where each fact about it
// came from, the checks of every value before it is sent, and the allotment of
// addresses. It has no I/O; the same input always gives the same output.
package ground

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"strings"
)

// The widest and narrowest masks a site subnet may have, in bits.
const (
	MinPrefix = 8
	MaxPrefix = 30
)

// ErrStrand is wrapped by every refusal of settings that would make a device unreachable.
var ErrStrand = errors.New("these settings would strand the device")

func strand(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrStrand, fmt.Sprintf(format, args...))
}

// Check refuses an address and gateway that would strand a device in the given
// subnet: an address outside it, its network or broadcast address (RFC 1122,
// 3.2.1.3), a gateway outside the subnet or equal to the address, a special
// address, or a mask outside /8 to /30. A zero gateway means none.
func Check(subnet netip.Prefix, address, gateway netip.Addr) error {
	if err := CheckSubnet(subnet); err != nil {
		return err
	}
	if err := checkHost(subnet, address, "address"); err != nil {
		return err
	}
	if !gateway.IsValid() {
		return nil
	}
	if err := checkHost(subnet, gateway, "gateway"); err != nil {
		return err
	}
	if gateway == address {
		return strand("%s is the gateway's own address", address)
	}
	return nil
}

// CheckSubnet refuses a subnet that no site can have.
func CheckSubnet(subnet netip.Prefix) error {
	switch {
	case !subnet.IsValid() || !subnet.Addr().Is4():
		return strand("%s is not an IPv4 subnet", subnet)
	case subnet.Bits() < MinPrefix || subnet.Bits() > MaxPrefix:
		return strand("the mask /%d is outside /%d to /%d", subnet.Bits(), MinPrefix, MaxPrefix)
	case subnet.Addr().IsMulticast() || subnet.Addr().IsLoopback() || subnet.Addr().As4()[0] == 0 || subnet.Addr().As4()[0] >= 240:
		return strand("%s is not for hosts", subnet)
	}
	return nil
}

func checkHost(subnet netip.Prefix, a netip.Addr, what string) error {
	switch {
	case !a.Is4():
		return strand("the %s %s is not an IPv4 address", what, a)
	case !subnet.Contains(a):
		return strand("the %s %s is outside the subnet %s", what, a, subnet.Masked())
	case a == Network(subnet):
		return strand("the %s %s is the network address of %s (host part zero)", what, a, subnet.Masked())
	case a == Broadcast(subnet):
		return strand("the %s %s is the broadcast address of %s", what, a, subnet.Masked())
	}
	return nil
}

// Network gives the first address of an IPv4 subnet.
func Network(p netip.Prefix) netip.Addr { return p.Masked().Addr() }

// Broadcast gives the last address of an IPv4 subnet.
func Broadcast(p netip.Prefix) netip.Addr {
	return FromUint(ToUint(Network(p)) | hostMask(p))
}

func hostMask(p netip.Prefix) uint32 { return uint32(1)<<(32-p.Bits()) - 1 }

// ToUint gives an IPv4 address as a number, for arithmetic. The address must be IPv4.
func ToUint(a netip.Addr) uint32 {
	b := a.As4()
	return binary.BigEndian.Uint32(b[:])
}

// FromUint gives the IPv4 address of a number.
func FromUint(n uint32) netip.Addr {
	var b [4]byte
	binary.BigEndian.PutUint32(b[:], n)
	return netip.AddrFrom4(b)
}

// ParseSubnet reads a subnet as 10.61.8.0/23, or with a dotted mask as
// 10.61.8.0/255.255.254.0, and refuses one that no site can have.
func ParseSubnet(s string) (netip.Prefix, error) {
	first, mask, dotted := strings.Cut(s, "/")
	p, err := netip.ParsePrefix(s)
	if dotted && strings.Contains(mask, ".") {
		p, err = parseDotted(first, mask)
	}
	if errors.Is(err, ErrStrand) {
		return netip.Prefix{}, err
	}
	if err != nil {
		return netip.Prefix{}, fmt.Errorf("%q: not a subnet. Write it as 10.61.8.0/23", s)
	}
	return p, CheckSubnet(p)
}

func parseDotted(first, mask string) (netip.Prefix, error) {
	a, err := netip.ParseAddr(first)
	if err != nil {
		return netip.Prefix{}, err
	}
	m, err := netip.ParseAddr(mask)
	if err != nil {
		return netip.Prefix{}, err
	}
	bits, err := PrefixFromMask(m)
	return netip.PrefixFrom(a, bits), err
}

// PrefixFromMask gives the bits of a dotted mask. A mask with holes is an error (RFC 4632, 3.1).
func PrefixFromMask(mask netip.Addr) (int, error) {
	if !mask.Is4() {
		return 0, strand("%s is not an IPv4 mask", mask)
	}
	host := ^ToUint(mask)
	if host&(host+1) != 0 {
		return 0, strand("the mask %s has holes", mask)
	}
	bits := 32
	for ; host != 0; host >>= 1 {
		bits--
	}
	return bits, nil
}

// Mask gives the dotted mask of a prefix length, 0 to 32.
func Mask(bits int) netip.Addr {
	return FromUint(uint32(uint64(0xffffffff) << (32 - bits)))
}

// Range is a run of addresses, both ends included.
type Range struct {
	From netip.Addr `json:"from"`
	To   netip.Addr `json:"to"`
}

// List gives addresses as a person writes them, a space between.
func List(addresses []netip.Addr) string {
	texts := make([]string, len(addresses))
	for i, a := range addresses {
		texts[i] = a.String()
	}
	return strings.Join(texts, " ")
}

// One gives the range that holds a single address.
func One(a netip.Addr) Range { return Range{a, a} }

// Contains reports whether the range holds the address.
func (r Range) Contains(a netip.Addr) bool { return r.From.Compare(a) <= 0 && a.Compare(r.To) <= 0 }

// Overlaps reports whether the ranges share an address.
func (r Range) Overlaps(o Range) bool { return r.From.Compare(o.To) <= 0 && o.From.Compare(r.To) <= 0 }

// Len is the number of addresses in the range.
func (r Range) Len() int { return int(ToUint(r.To)-ToUint(r.From)) + 1 }

// String gives "from–to", or the one address.
func (r Range) String() string {
	if r.From == r.To {
		return r.From.String()
	}
	return r.From.String() + "–" + r.To.String()
}
