package ground

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// Rank is how much a source of facts about the site counts; lower counts more.
type Rank int

// The ranks.
const (
	FromSheet    Rank = iota // the job sheet
	FromRecorder             // a recorder that is set up
	FromLAN                  // DHCP offers
	FromDevice               // other devices that somebody has set up
	FromLaptop               // the laptop's own address, which may be anything
)

// Claim is what one source says of the site network. Invalid fields are not said.
type Claim struct {
	Rank    Rank
	Source  string // named to the person, e.g. "job sheet", "recorder R01"
	Subnet  netip.Prefix
	Gateway netip.Addr
	DNS     []netip.Addr
	NTP     []netip.Addr
}

// Ground is the site network as resolved.
type Ground struct {
	Subnet      netip.Prefix `json:"subnet"`
	SubnetFrom  string       `json:"subnet_from"`
	Gateway     netip.Addr   `json:"gateway,omitzero"`
	GatewayFrom string       `json:"gateway_from,omitempty"`
	DNS         []netip.Addr `json:"dns,omitempty"`
	DNSFrom     string       `json:"dns_from,omitempty"`
	NTP         []netip.Addr `json:"ntp,omitempty"`
	NTPFrom     string       `json:"ntp_from,omitempty"`
	// Ranks tell how much the sources count.
	Ranks Ranks `json:"-"`
}

// Ranks are the ranks of the sources of a ground.
type Ranks struct {
	Subnet  Rank `json:"subnet"`
	Gateway Rank `json:"gateway"`
	DNS     Rank `json:"dns"`
	NTP     Rank `json:"ntp"`
}

// ErrNoGround is returned when nothing says what the site subnet is.
var ErrNoGround = errors.New("nothing says what the site subnet is")

// DisagreeError tells of two sources that differ about the site network.
type DisagreeError struct {
	What string // subnet, gateway, DNS servers or NTP servers
	A, B Claim
}

// What sources can disagree about.
const (
	aboutSubnet  = "subnet"
	aboutGateway = "gateway"
	aboutDNS     = "DNS servers"
	aboutNTP     = "NTP servers"
)

// Error shows both sides and the way out.
func (e *DisagreeError) Error() string {
	return fmt.Sprintf("sources disagree about the %s: %s says %s, %s says %s; "+
		"put the right one in the job sheet under network, with `override: true` if it is to win over what was found",
		e.What, e.A.Source, e.said(e.A), e.B.Source, e.said(e.B))
}

func (e *DisagreeError) said(c Claim) string {
	switch e.What {
	case aboutGateway:
		return c.Gateway.String()
	case aboutDNS:
		return List(c.DNS)
	case aboutNTP:
		return List(c.NTP)
	}
	return c.Subnet.Masked().String()
}

// Resolve decides the ground from what the sources claim: the job sheet first,
// then a recorder, then what the LAN shows. Sources that disagree are a
// *DisagreeError, unless override lets the job sheet win.
//
// What the LAN shows of a wholly different subnet is no disagreement, since
// other networks may share the cable; it is one only when nothing of a better
// rank decides. The laptop's own address is a guess for want of better, and
// disagrees with nobody.
func Resolve(claims []Claim, override bool) (Ground, error) {
	sorted := slices.Clone(claims)
	slices.SortStableFunc(sorted, func(a, b Claim) int {
		if a.Rank != b.Rank {
			return int(a.Rank - b.Rank)
		}
		return strings.Compare(a.Source, b.Source)
	})
	best, err := pickSubnet(sorted, override)
	if err != nil {
		return Ground{}, err
	}
	g := Ground{Subnet: best.Subnet.Masked(), SubnetFrom: best.Source}
	g.Ranks.Subnet = best.Rank
	gate, err := pickGateway(sorted, g.Subnet, override)
	if err != nil {
		return Ground{}, err
	}
	g.Gateway, g.GatewayFrom, g.Ranks.Gateway = gate.Gateway, gate.Source, gate.Rank
	if g.Gateway.IsValid() {
		if err := checkHost(g.Subnet, g.Gateway, "gateway"); err != nil {
			return Ground{}, fmt.Errorf("subnet from %s, gateway from %s: %w", g.SubnetFrom, g.GatewayFrom, err)
		}
	}
	dns, err := pickServers(sorted, g.Subnet, aboutDNS, func(c Claim) []netip.Addr { return c.DNS })
	if err != nil {
		return Ground{}, err
	}
	ntp, err := pickServers(sorted, g.Subnet, aboutNTP, func(c Claim) []netip.Addr { return c.NTP })
	if err != nil {
		return Ground{}, err
	}
	g.DNS, g.DNSFrom, g.Ranks.DNS = dns.DNS, dns.Source, dns.Rank
	g.NTP, g.NTPFrom, g.Ranks.NTP = ntp.NTP, ntp.Source, ntp.Rank
	return g, nil
}

// pickServers takes servers of one sort from the best source on the subnet that names
// any. The job sheet has the last word; others that name different ones disagree, since
// one of them may be a stranger's.
func pickServers(sorted []Claim, subnet netip.Prefix, what string, of func(Claim) []netip.Addr) (best Claim, err error) {
	for _, c := range sorted {
		if len(of(c)) == 0 || c.Rank != FromSheet && (!c.Subnet.IsValid() || c.Subnet.Masked() != subnet) {
			continue
		}
		switch {
		case len(of(best)) == 0:
			best = c
		case best.Rank != FromSheet && !slices.Equal(of(best), of(c)):
			return Claim{}, &DisagreeError{what, best, c}
		}
	}
	return best, nil
}

func pickSubnet(sorted []Claim, override bool) (Claim, error) {
	at := slices.IndexFunc(sorted, func(c Claim) bool { return c.Subnet.IsValid() })
	if at < 0 {
		return Claim{}, fmt.Errorf("%w: give `subnet` and `gateway` in the job sheet, or take a recorder that is set up", ErrNoGround)
	}
	best := sorted[at]
	if err := CheckSubnet(best.Subnet); err != nil {
		return Claim{}, fmt.Errorf("subnet from %s: %w", best.Source, err)
	}
	for _, c := range sorted[at+1:] {
		if !c.Subnet.IsValid() || c.Subnet.Masked() == best.Subnet.Masked() || override && best.Rank == FromSheet {
			continue
		}
		if c.Rank <= FromRecorder || c.Rank == best.Rank || c.Rank == FromLAN && c.Subnet.Overlaps(best.Subnet) {
			return Claim{}, &DisagreeError{aboutSubnet, best, c}
		}
	}
	return best, nil
}

func pickGateway(sorted []Claim, subnet netip.Prefix, override bool) (Claim, error) {
	var best Claim
	for _, c := range sorted {
		// Only the word of a source on this subnet counts for it.
		if !c.Gateway.IsValid() || c.Subnet.IsValid() && c.Subnet.Masked() != subnet {
			continue
		}
		if !best.Gateway.IsValid() {
			best = c
			continue
		}
		if c.Gateway != best.Gateway && (!override || best.Rank != FromSheet) {
			return Claim{}, &DisagreeError{aboutGateway, best, c}
		}
	}
	return best, nil
}
