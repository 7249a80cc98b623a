package setting

import (
	"context"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// Ports is what a job sheet says of the ports of one protocol: one for all, or a base for a port of its own
// each, to which the number of a device's address in its subnet is added.
type Ports struct {
	Port uint16 // or the base
	Each bool
}

// maxBase leaves room for the 4094 hosts of a /20.
const maxBase = 61_000

// ReadPorts reads what a job sheet says. Others are the ports that are usual for other protocols.
func ReadPorts(said string, usual uint16, others ...uint16) (Ports, error) {
	digits, each := strings.CutSuffix(strings.TrimSpace(said), "+")
	n, err := strconv.ParseUint(digits, 10, 16)
	switch {
	case err != nil || n == 0:
		return Ports{}, fmt.Errorf("%q: write a port, as %d, or a base for a port of its own each, as 5000+", said, usual)
	case !each && slices.Contains(others, uint16(n)):
		return Ports{}, fmt.Errorf("%q is the usual port of another protocol", said)
	case each && (n < 1024 || n > maxBase):
		return Ports{}, fmt.Errorf("%q: take a base from 1024 to %d, to which the number of an address is added", said, maxBase)
	}
	return Ports{uint16(n), each}, nil
}

// Of gives the port of a device at an address.
func (p Ports) Of(at netip.Prefix) (uint16, error) {
	if !p.Each {
		return p.Port, nil
	}
	a := at.Addr().As4()
	n := uint32(p.Port) + binary.BigEndian.Uint32(a[:])&(1<<(32-at.Bits())-1) // the number of 10.61.8.41/24 is 41
	if n > 65535 {
		return 0, fmt.Errorf("%d+ and the number of %s in its subnet make %d: ports end at 65535. Take a lower base", p.Port, at.Addr(), n)
	}
	return uint16(n), nil
}

// Meets reports whether a device of a subnet may have the port of one, and it or another that of the other: behind
// one forwarded address they would be one.
func (p Ports) Meets(o Ports, subnet netip.Prefix) bool {
	hosts := uint32(1) << (32 - subnet.Bits())
	span := func(of Ports) (from, to uint32) {
		if of.Each {
			return uint32(of.Port), uint32(of.Port) + hosts - 1
		}
		return uint32(of.Port), uint32(of.Port)
	}
	a, b := span(p)
	c, d := span(o)
	return a <= d && c <= b
}

// Port makes a setting of a port, by the ability that sets it. Usual is the one that its form shows, others are the
// usual ports of other protocols, and has tells which devices are to have one.
func Port[Keeper any](s Setting, usual uint16, others []uint16, has func(Device) bool, get func(Keeper, context.Context) (port uint16, told bool, err error), set func(Keeper, context.Context, uint16) error) Setting {
	s.Ports = func(said string) (Ports, error) { return ReadPorts(said, usual, others...) }
	s.Form = fmt.Sprintf("a port, as `%d`; or `5000+`: 5000 and the number of its address in the subnet, so that 10.61.8.41 gets 5041", usual)
	s.Check = func(said string) error { _, err := s.Ports(said); return err }
	s.Wanted = func(said string, d Device) (string, error) {
		p, err := s.Ports(said)
		if err != nil || !has(d) || !d.Address.Addr().Is4() {
			return "", nil //nolint:nilerr // Check has told it
		}
		port, err := p.Of(d.Address)
		if err != nil {
			return "", err
		}
		return strconv.Itoa(int(port)), nil
	}
	s.Read = func(ctx context.Context, conversation any) (string, bool, error) {
		k, ok := conversation.(Keeper)
		if !ok {
			return "", false, nil
		}
		port, told, err := get(k, ctx)
		return strconv.Itoa(int(port)), told, err
	}
	s.Set = func(ctx context.Context, conversation any, value string) error {
		k, err := Able[Keeper](conversation, s.Title)
		if err != nil {
			return err
		}
		port, err := strconv.ParseUint(value, 10, 16)
		if err != nil {
			return err
		}
		return set(k, ctx, uint16(port))
	}
	return s
}

// Every is for a port that any device may have.
func Every(Device) bool { return true }
