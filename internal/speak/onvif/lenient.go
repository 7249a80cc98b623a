package onvif

import (
	"math/bits"
	"net/netip"
	"strconv"
	"strings"
)

// flag is a truth value (XML Schema, 3.2.2) as devices write it. What is none is false.
type flag bool

// UnmarshalText never fails: one odd word must not cost the whole answer.
func (f *flag) UnmarshalText(b []byte) error {
	switch strings.ToLower(strings.TrimSpace(string(b))) {
	case "true", "1", "yes", "on", "enabled":
		*f = true
	default:
		*f = false
	}
	return nil
}

// number is a whole number as devices write it. What is none is zero.
type number int

// UnmarshalText never fails.
func (n *number) UnmarshalText(b []byte) error {
	v, err := strconv.ParseInt(strings.TrimSpace(string(b)), 10, 32)
	if err != nil {
		v = 0
	}
	*n = number(v)
	return nil
}

// prefixLength is how many bits of an IPv4 address name its subnet. Some devices give
// the mask instead.
type prefixLength int

// UnmarshalText never fails; -1 is for what is neither a length nor a mask.
func (p *prefixLength) UnmarshalText(b []byte) error {
	text := strings.TrimPrefix(strings.TrimSpace(string(b)), "/")
	if n, err := strconv.Atoi(text); err == nil && n >= 0 && n <= 32 {
		*p = prefixLength(n)
		return nil
	}
	*p = -1
	if a, ok := parseAddr(text); ok && a.Is4() {
		raw := a.As4()
		mask := uint32(raw[0])<<24 | uint32(raw[1])<<16 | uint32(raw[2])<<8 | uint32(raw[3])
		if n := bits.LeadingZeros32(^mask); mask<<n == 0 {
			*p = prefixLength(n)
		}
	}
	return nil
}

// parseAddr reads an address; leading zeros in IPv4 are decimal, as devices that write
// them mean them, and a mask behind a stroke is passed over.
func parseAddr(text string) (netip.Addr, bool) {
	text, _, _ = strings.Cut(strings.TrimSpace(text), "/")
	if parts := strings.Split(text, "."); len(parts) == 4 {
		for i, part := range parts {
			if short := strings.TrimLeft(part, "0"); short != "" {
				parts[i] = short
			} else if part != "" {
				parts[i] = "0"
			}
		}
		text = strings.Join(parts, ".")
	}
	a, err := netip.ParseAddr(text)
	return a, err == nil
}
