package device

import (
	"encoding/hex"
	"fmt"
	"net"
	"strings"
)

// MAC is a 48-bit IEEE 802 MAC address, comparable so that it can key a map.
// The zero value means "not known".
type MAC [6]byte

// Broadcast is the Ethernet broadcast address (IEEE 802.3).
var Broadcast = MAC{0xff, 0xff, 0xff, 0xff, 0xff, 0xff}

// ParseMAC reads a 48-bit MAC in any of the notations of net.ParseMAC.
func ParseMAC(s string) (MAC, error) {
	hw, err := net.ParseMAC(s)
	if err != nil || len(hw) != 6 {
		return MAC{}, fmt.Errorf("%q is not a 48-bit MAC address", s)
	}
	return MAC(hw), nil
}

// MACFrom copies a hardware address; anything but 6 bytes gives the zero MAC.
func MACFrom(hw []byte) MAC {
	if len(hw) != 6 {
		return MAC{}
	}
	return MAC(hw)
}

// IsZero reports whether the MAC is not known.
func (m MAC) IsZero() bool { return m == MAC{} }

// IsGroup reports whether the I/G bit marks a broadcast or multicast address (IEEE 802-2014, 8.2.2).
func (m MAC) IsGroup() bool { return m[0]&1 == 1 }

// String gives the colon notation in lower case, or "" when not known.
func (m MAC) String() string {
	if m.IsZero() {
		return ""
	}
	return net.HardwareAddr(m[:]).String()
}

// Hex gives the twelve hexadecimal digits without separators.
func (m MAC) Hex() string { return hex.EncodeToString(m[:]) }

// MarshalText gives the colon notation.
func (m MAC) MarshalText() ([]byte, error) { return []byte(m.String()), nil }

// UnmarshalText reads what MarshalText wrote; an empty text is the zero MAC.
func (m *MAC) UnmarshalText(b []byte) error {
	if len(b) == 0 {
		*m = MAC{}
		return nil
	}
	v, err := ParseMAC(string(b))
	if err != nil {
		return err
	}
	*m = v
	return nil
}

// endsIn reports whether the MAC's last digits are the given ones, separators ignored.
func (m MAC) endsIn(digits string) bool {
	plain := strings.NewReplacer(":", "", "-", "", ".", "").Replace(strings.ToLower(digits))
	if len(plain) < minMACDigits || len(plain) > 12 {
		return false
	}
	return strings.HasSuffix(m.Hex(), plain)
}

// MACPrefix is the first bits of MACs that a registry gave to one maker (IEEE
// 802, 8.2): 24, 28 or 36 as a rule.
type MACPrefix struct {
	MAC  MAC
	Bits int // 4 to 48
}

// ParseMACPrefix reads hexadecimal digits, with or without separators, as 02:e4:42.
func ParseMACPrefix(s string) (MACPrefix, error) {
	digits := strings.NewReplacer(":", "", "-", "", ".", "").Replace(s)
	padded := digits
	if len(digits)%2 == 1 {
		padded += "0"
	}
	b, err := hex.DecodeString(padded)
	if err != nil || len(b) == 0 || len(b) > 6 {
		return MACPrefix{}, fmt.Errorf("no MAC address begins with %q", s)
	}
	p := MACPrefix{Bits: 4 * len(digits)}
	copy(p.MAC[:], b)
	return p, nil
}

// Contains reports whether a MAC begins so.
func (p MACPrefix) Contains(m MAC) bool { return strings.HasPrefix(m.Hex(), p.MAC.Hex()[:p.Bits/4]) }

// minMACDigits is how many of a MAC's last digits name a device: fewer are too easily a tag or a serial.
const minMACDigits = 4
