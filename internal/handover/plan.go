package handover

import (
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"janustat/core/ground"
)

// Plan is what a job was to be, as far as devices and documents need it: a later visit begins
// with it.
type Plan struct {
	Pairs     []PlannedPair     `json:"pairs,omitempty"`
	Server    string            `json:"server,omitempty"`     // address:port that panels report to
	KeepClear []string          `json:"keep_clear,omitempty"` // ranges that are never given
	Pools     []string          `json:"dhcp_pools,omitempty"`
	Blocks    map[string]string `json:"blocks,omitempty"` // by kind
	Users     []PlannedUser     `json:"users,omitempty"`
	Zone      string            `json:"timezone,omitempty"` // as POSIX writes it
}

// PlannedPair is a door station and an indoor one that it rings.
type PlannedPair struct {
	Door    string `json:"door"`
	Station string `json:"station"`
	Floor   int    `json:"floor,omitempty"`
	Flat    string `json:"flat"`
}

// PlannedUser is a user beside the administrator.
type PlannedUser struct {
	Name string   `json:"name"`
	Role string   `json:"role"`
	On   []string `json:"on,omitempty"` // kinds, tags, MACs or serials; every device if left out
}

// siteFacts are those of the whole site, in order: they feed the workbook, and are what two
// records are compared by.
func (r *Record) siteFacts() []fact {
	g := r.Ground
	out := []fact{}
	add := func(name, value string) { out = append(out, fact{name, value}) }
	subnet, gateway := "", ""
	if g.Subnet.IsValid() {
		subnet = g.Subnet.String()
	}
	if g.Gateway.IsValid() {
		gateway = g.Gateway.String()
	}
	add("Subnet", subnet)
	add("Gateway", gateway)
	add("DNS", ground.List(g.DNS))
	add("NTP", ground.List(g.NTP))
	add("Time zone", r.Plan.Zone)
	add("Kept clear", strings.Join(r.Plan.KeepClear, listed))
	add("DHCP pools", strings.Join(r.Plan.Pools, listed))
	var blocks, pairs, users []string
	for _, kind := range slices.Sorted(maps.Keys(r.Plan.Blocks)) {
		blocks = append(blocks, kind+" "+r.Plan.Blocks[kind])
	}
	for _, p := range r.Plan.Pairs {
		pairs = append(pairs, fmt.Sprintf("%s rings %s, floor %d, flat %s", p.Door, p.Station, p.Floor, p.Flat))
	}
	for _, u := range r.Plan.Users {
		users = append(users, strings.TrimSpace(fmt.Sprintf("%s as %s %s", u.Name, u.Role, strings.Join(u.On, " "))))
	}
	add("Blocks", strings.Join(blocks, listed))
	add("Pairs", strings.Join(pairs, listed))
	add("Server", r.Plan.Server)
	add("Users", strings.Join(users, listed))
	return out
}

// pairForm and userForm are how siteFacts writes pairs and users.
var (
	pairForm = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^(\S+) rings (\S+), floor (-?\d+), flat (\d+)$`) })
	userForm = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^(.+) as (administrator|operator|user)((?: \S+)*)$`) })
)

// takeSite reads the facts of the site as siteFacts writes them. What has another form is left
// out.
func (r *Record) takeSite(facts map[string]string) {
	list := func(name string) []string {
		if facts[name] == "" {
			return nil
		}
		return strings.Split(facts[name], listed)
	}
	if p, err := netip.ParsePrefix(facts["Subnet"]); err == nil {
		r.Ground.Subnet = p
	}
	if a, err := netip.ParseAddr(facts["Gateway"]); err == nil {
		r.Ground.Gateway = a
	}
	r.Ground.DNS, r.Ground.NTP = addresses(facts["DNS"]), addresses(facts["NTP"])
	p := &r.Plan
	p.Zone, p.Server, p.KeepClear, p.Pools = facts["Time zone"], facts["Server"], list("Kept clear"), list("DHCP pools")
	for _, b := range list("Blocks") {
		if kind, span, ok := strings.Cut(b, " "); ok {
			if p.Blocks == nil {
				p.Blocks = map[string]string{}
			}
			p.Blocks[kind] = span
		}
	}
	for _, x := range list("Pairs") {
		if m := pairForm().FindStringSubmatch(x); m != nil {
			floor, _ := strconv.Atoi(m[3]) // digits, by its form
			p.Pairs = append(p.Pairs, PlannedPair{m[1], m[2], floor, m[4]})
		}
	}
	for _, x := range list("Users") {
		if m := userForm().FindStringSubmatch(x); m != nil {
			p.Users = append(p.Users, PlannedUser{m[1], m[2], strings.Fields(m[3])})
		}
	}
}
