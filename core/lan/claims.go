package lan

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"janustat/core/device"
)

// MaxOwn is how many IPv4 addresses one host may have to itself. One that claims more
// answers for others (a router with proxy ARP, RFC 1027) or lies: its word alone keeps no
// address from being used, a probe does (RFC 5227).
const MaxOwn = 16

// MaxClaims is how many claims an account keeps of one MAC: what more there are says
// nothing new.
const MaxClaims = 1024

// maxAddresses bounds the addresses of an account.
const maxAddresses = 1 << 17

// Claims is the account of who claims which IPv4 address of a LAN. It is not safe for use
// by several goroutines.
type Claims struct {
	holder map[netip.Addr]device.MAC   // the last who claimed it, one that is no grasper before one that is
	own    map[device.MAC][]netip.Addr // IPv4 addresses that a host claims, no more than tell a grasper
	kept   map[device.MAC]int          // addresses that nobody had claimed before a host did
}

// NewClaims gives an empty account.
func NewClaims() *Claims {
	return &Claims{holder: map[netip.Addr]device.MAC{}, own: map[device.MAC][]netip.Addr{}, kept: map[device.MAC]int{}}
}

// Hear notes that a MAC claims an address.
func (c *Claims) Hear(mac device.MAC, at netip.Addr) {
	was, had := c.holder[at]
	if had && was == mac {
		return
	}
	if !had {
		if len(c.holder) >= maxAddresses || c.kept[mac] >= MaxClaims {
			return
		}
		c.kept[mac]++
	}
	// Two hosts at one address claim it in turn: that is one address of each.
	if own := c.own[mac]; at.Is4() && len(own) <= MaxOwn && !slices.Contains(own, at) {
		c.own[mac] = append(own, at)
	}
	if !had || c.Grasps(was) || !c.Grasps(mac) {
		c.holder[at] = mac
	}
}

// Holder gives who claims an address.
func (c *Claims) Holder(at netip.Addr) (device.MAC, bool) {
	mac, ok := c.holder[at]
	return mac, ok
}

// Taken reports whether an address is claimed by a host whose word counts.
func (c *Claims) Taken(at netip.Addr) bool {
	mac, ok := c.holder[at]
	return ok && !c.Grasps(mac)
}

// Grasps reports whether a MAC claims more addresses than a host can have.
func (c *Claims) Grasps(mac device.MAC) bool { return len(c.own[mac]) > MaxOwn }

// GraspText tells a person of one, and what to do about it.
func GraspText(mac device.MAC) string {
	return fmt.Sprintf("%s answers for more addresses than a host can have, so that none there can be known to be free: it is a router with proxy ARP, or a device that answers for everything. Ask whoever runs the network to switch that off or to disconnect it, then try again", mac)
}

// Grasp is a host that claims more addresses than it can have.
type Grasp struct {
	MAC       device.MAC `json:"mac"`
	Addresses int        `json:"addresses"` // at least so many
	Answers   bool       `json:"answers"`   // also for addresses that were drawn at random
}

// Graspers gives those who claim more than MaxOwn addresses of the subnets, the loudest first.
func (c *Claims) Graspers(in []netip.Prefix) (out []Grasp) {
	counts := map[device.MAC]int{}
	for at, mac := range c.holder {
		if slices.ContainsFunc(in, func(p netip.Prefix) bool { return p.Contains(at) }) {
			counts[mac]++
		}
	}
	for mac, n := range counts {
		if n > MaxOwn {
			out = append(out, Grasp{MAC: mac, Addresses: n})
		}
	}
	slices.SortFunc(out, func(a, b Grasp) int {
		return cmp.Or(b.Addresses-a.Addresses, slices.Compare(a.MAC[:], b.MAC[:]))
	})
	return out
}
