package survey

import (
	"time"

	"janustat/internal/speak/arp"
)

// DHCP servers are asked so often, and so far apart: one may take a while over an
// offer, since it looks whether the address is free (RFC 2131, 2.2).
const (
	dhcpAsks  = 3
	dhcpEvery = 900 * time.Millisecond
	dhcpQuiet = 1500 * time.Millisecond
	dhcpLate  = 6 * time.Second // from the first question, where a server is heard to look
)

func (r *surveyRun) discoverDHCP() {
	for i := range dhcpAsks {
		if err := AskDHCP(r.Net, r.dhcpID); err != nil {
			r.Log.Warn("DHCP not asked", "err", err)
			return
		}
		quiet := dhcpEvery
		if i == dhcpAsks-1 {
			quiet = dhcpQuiet
		}
		if !r.wait(quiet) {
			return
		}
	}
	for r.serverLooks() && r.pace.Since(r.begun) < dhcpLate {
		if !r.wait(countEvery) {
			return
		}
	}
}

// serverLooks reports whether somebody was heard to ask for an address that nobody has,
// right after a question to DHCP servers, and no offer has come: some servers look for
// seconds whether what they offer is free.
func (r *surveyRun) serverLooks() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.looked && len(r.found.Offers) == 0
}

// hearLook takes such a question.
func (r *surveyRun) hearLook(p arp.Packet) {
	if p.Op != arp.Request || r.pace.Since(r.begun) > dhcpAsks*dhcpEvery {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	// The net is not asked which addresses are ours: this runs inside its reading.
	for _, v := range r.visitors {
		if v.Address() == p.Target {
			return
		}
	}
	r.looked = r.looked || len(r.byAddress[p.Target]) == 0
}
