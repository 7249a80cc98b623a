package survey

import (
	"net/netip"
	"net/url"
	"slices"

	"janustat/core/device"
	"janustat/internal/speak/wsd"
)

// ban has a host asked nothing that is another's: an address that it has, or that it says its
// service is at, is in a subnet that the job sheet has under not_ours. The ban is of the MAC,
// since such a host answers by IPv6 too. The lock is held.
func (r *surveyRun) ban(mac device.MAC, at netip.Addr, m *wsd.Match) {
	if r.Subnets.NotOurs(at) || m != nil && r.theirs(m) {
		if r.bans == nil {
			r.bans = map[device.MAC]bool{}
		}
		if len(r.bans) < maxHeard {
			r.bans[mac] = true
		}
	}
}

// banned reports whether a host is asked nothing. One that is met at an IPv4 address of ours
// too is: a single frame in its name that claims another's address does not hide it. The lock
// is held.
func (r *surveyRun) banned(mac device.MAC) bool {
	return r.bans[mac] && !slices.ContainsFunc(r.byMAC[mac], func(at int) bool {
		a := r.found.Sightings[at].Address
		return a.Is4() && !a.IsUnspecified() && !r.Subnets.NotOurs(a)
	})
}

// theirs reports whether an answer to discovery says that the service is at an address of
// another's.
func (r *surveyRun) theirs(m *wsd.Match) bool {
	for _, x := range m.XAddrs {
		u, err := url.Parse(x)
		if err != nil {
			continue
		}
		if a, err := netip.ParseAddr(u.Hostname()); err == nil && r.Subnets.NotOurs(a) {
			return true
		}
	}
	return false
}
