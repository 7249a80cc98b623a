package bench

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"time"

	"janustat/core/device"
)

// Trait is one way in which a drawn device differs from a plain one: a manner, a trait of its
// model, or how somebody left it.
type Trait struct {
	Name   string
	Weight int    // how often it is drawn, beside the others
	Group  string // of which a device has one at most; "" is a group of its own
	Stands string // for which standard, or for what was seen in practice
	// Excuse is why a device of this trait does not end commissioned, where its nature forbids
	// that; "" is for all others.
	Excuse string
	needs  func(Model) bool
	apply  func(*Model, *Unit)
}

// DrawnFactory is the password from the factory that drawn devices have which have one.
const DrawnFactory = "Factory-111"

// model makes a trait of a device's model.
func model(name, group, stands string, weight int, apply func(*Model)) Trait {
	return Trait{Name: name, Weight: weight, Group: group, Stands: stands, apply: func(m *Model, _ *Unit) { apply(m) }}
}

// left makes a trait of how somebody left a device, or of where it is.
func left(name, group, stands string, weight int, apply func(*Unit)) Trait {
	return Trait{Name: name, Weight: weight, Group: group, Stands: stands, apply: func(_ *Model, u *Unit) { apply(u) }}
}

// by makes a trait of a manner.
func by(manner, group string, weight int) Trait {
	return Trait{Name: manner, Weight: weight, Group: group, Stands: manners[manner].stands, apply: func(_ *Model, u *Unit) { u.Manners = append(u.Manners, manner) }}
}

// so makes a trait of a manner of answering that a device has with every write.
func so(manner string) Trait {
	t := by(manner, "keys", 1)
	t.Name += ", to every write"
	return t.also(func(_ *Model, u *Unit) { u.Manners = append(u.Manners, mumblesAlways) })
}

func (t Trait) where(needs func(Model) bool) Trait { t.needs = needs; return t }

func (t Trait) excused(why string) Trait { t.Excuse = why; return t }

func (t Trait) also(apply func(*Model, *Unit)) Trait {
	first := t.apply
	t.apply = func(m *Model, u *Unit) { first(m, u); apply(m, u) }
	return t
}

// last gives the last byte of a MAC.
func last(mac string) int {
	m, err := device.ParseMAC(mac)
	if err != nil {
		return 0
	}
	return int(m[5])
}

func digests(m Model) bool { return m.Auth == "md5" || m.Auth == "sha256" || m.Auth == "both" }

func plainHTTP(m Model) bool { return m.HTTPS == "" && m.Plain == 0 }

func withFactory(_ *Model, u *Unit) { u.Password = DrawnFactory }

// Traits are all that devices are drawn with: those of this table, and manners that say
// themselves how often they are drawn, in the order of their names.
func Traits() []Trait {
	all := slices.Concat(ownTraits(), furtherTraits())
	for _, name := range slices.Sorted(maps.Keys(manners)) {
		m := manners[name]
		if m.weight == 0 {
			continue
		}
		t := by(name, m.group, m.weight)
		t.needs, t.Excuse = m.needs, m.excuse
		if m.brings != nil {
			t = t.also(m.brings)
		}
		all = append(all, t)
	}
	return all
}

func ownTraits() []Trait {
	return []Trait{
		// Passwords and users.
		by(cuts8, "keys", 1), by(cuts12, "keys", 1), by(swallows, "keys", 2), by(saysOK, "keys", 2), by(saysBlank, "keys", 2), by(saysCut, "keys", 1), by(saysGo, "keys", 1),
		so(saysOK), so(saysBlank), so(saysCut), so(saysGo),
		by(lateKeys, "keys", 2), by(lateUsers, "keys", 2),
		by(keepsFactory, "keys", 1).also(withFactory).excused("its password is the factory's for good"),
		by(deafToKeys, "keys", 1).also(withFactory).excused("its password is the factory's for good"),
		left("factory password", "keys", "practice: a password from the factory, the same on all", 3, func(u *Unit) { u.Password = DrawnFactory }),
		by(hidesUsers, "users", 2), by(listsUsers, "users", 2), by("capital users", "names", 1),
		model("published rules", "rules", "Core Specification, GetPasswordComplexityConfiguration", 3, func(m *Model) { m.Rules = &Rules{Min: 8, Upper: 1, Digits: 1, NoUser: true} }),
		model("strict rules", "rules", "Core Specification, GetPasswordComplexityConfiguration", 2, func(m *Model) { m.Rules = &Rules{Min: 12, Upper: 2, Digits: 2, Special: 2, NoUser: true} }),
		model("long rules", "rules", "Core Specification, GetPasswordComplexityConfiguration", 1, func(m *Model) { m.Rules = &Rules{Min: 20, Upper: 1, Digits: 1} }),
		model("silent rules", "rules", "practice: rules that are enforced and not published", 3, func(m *Model) { m.Rules = &Rules{Min: 9, Upper: 1, Digits: 1, Special: 1, Silent: true} }),
		model("silent ceiling of 12", "rules", "practice: fields of twelve", 2, func(m *Model) { m.Rules = &Rules{Max: 12, Silent: true} }),
		model("silent ceiling of 8", "rules", "practice: fields of eight", 2, func(m *Model) { m.Rules = &Rules{Max: 8, Silent: true, NoSpecial: true} }),
		model("letters and digits", "rules", "practice: special signs are refused", 2, func(m *Model) { m.Rules = &Rules{NoSpecial: true, Silent: true} }),
		model("four classes", "rules", "practice: of capitals, small letters, digits and special signs", 2, func(m *Model) { m.Rules = &Rules{Min: 8, Classes: 4, Silent: true} }),
		model("quotes passwords", "", "seen: passwords in faults and in the name", 1, func(m *Model) { m.Quotes = true }),
		model("strict until keyed", "strict", "Core Specification, access classes", 3, func(m *Model) { m.Strict = true }),
		model("locked answers 423", "lock", "RFC 4918, 11.3", 1, func(m *Model) { m.LockAnswer = "status" }),
		model("locked answers in words", "lock", "practice: a fault in words", 1, func(m *Model) { m.LockAnswer = "fault" }),
		// The login and HTTP.
		by(sessionDigest, "login", 1).where(digests), by(nonceOnce, "login", 2).where(digests), by(nonceStale, "login", 2).where(digests), by(secretClock, "clock", 2), by(closesIdle, "connections", 3),
		by(leadsToPath, "places", 2).where(plainHTTP), by(leadsToPort, "places", 2).where(plainHTTP), by(leadsAway, "places", 1).where(plainHTTP).excused("its service is another host's by its own word"),
		by(leadsToHTTPS, "https", 1).where(plainHTTP).also(func(m *Model, _ *Unit) { m.HTTPS = "on" }),
		model("port 8000", "places", "practice: the service at another port", 2, func(m *Model) { m.Plain = 8000 }),
		model("HTTPS beside", "https", "RFC 9110, 4.2.2", 2, func(m *Model) { m.HTTPS = "on" }).where(plainHTTP),
		model("HTTPS alone", "https", "RFC 9110, 4.2.2", 2, func(m *Model) { m.HTTPS = "only" }).where(plainHTTP),
		model("HTTPS off", "https", "Core Specification, GetNetworkProtocols", 2, func(m *Model) { m.HTTPS = "off" }).where(plainHTTP),
		model("renews its certificate", "https", "seen: another certificate after a move", 1, func(m *Model) { m.HTTPS, m.RenewsCert = "on", true }).where(plainHTTP),
		{Name: "slow handshakes", Group: "https", Weight: 1, Stands: "practice: a second over a handshake", needs: plainHTTP, apply: func(m *Model, u *Unit) { m.HTTPS, u.TLSDelay = "on", time.Second }},
		// Answers.
		model("wild XML", "xml", "Namespaces in XML 1.0: any prefix, anywhere", 3, func(m *Model) { m.Dialect = "wild" }),
		model("default namespaces", "xml", "Namespaces in XML 1.0, 6.2", 3, func(m *Model) { m.Dialect = "default" }),
		model("faults by 500", "faults", "SOAP 1.2, 7.5.2.2", 2, func(m *Model) { m.FaultCode = 500 }),
		by(oldFaults, "faults", 2), by(securityFaults, "faults", 2), by(forbids, "faults", 1).where(func(m Model) bool { return !digests(m) }), // else it tells nobody that it wants a digest
		by(junk, "", 2), by("masks", "addresses", 1), by("busy", "busy", 2),
		left("slow", "busy", "practice: a third of a second over each answer", 2, func(u *Unit) { u.Slow = 300 * time.Millisecond }),
		// What it has.
		model("no servers", "servers", "Core Specification: DNS and NTP are optional", 2, func(m *Model) { m.NoServers = true }),
		by(ntpClosed, "servers", 2), by(emptyAnswers, "servers", 2), by("servers static", "servers", 1).also(func(_ *Model, u *Unit) { u.DHCP = true }),
		by(noGateway, "gateway", 2), by(gatewayFirst, "gateway", 2), by(gatewayInside, "gateway", 2), by(forgetsGateway, "gateway", 2),
		model("no list of services", "", "practice: no GetServices", 2, func(m *Model) { m.NoServices = true }),
		by("prohibits names", "names", 1), by("no clock", "clock", 1), by("no UTC", "clock", 1),
		model("text in its picture", "picture", "Media Service Specification, 5.12", 2, func(m *Model) { m.Screen = "named" }),
		model("date in its picture", "picture", "Media Service Specification, 5.12", 1, func(m *Model) { m.Screen = "plain" }),
		by(noStill, "picture", 1), by(blind, "picture", 1), by(blackStill, "picture", 1), by(frozenStill, "picture", 1),
		// Discovery.
		model("typed probes only", "discovery", "WS-Discovery 2005/04, 5.2", 2, func(m *Model) { m.TypedOnly = true }),
		model("to be resolved", "discovery", "WS-Discovery 2005/04, 5.3: XAddrs are optional", 2, func(m *Model) { m.NoXAddrs = true }),
		by(deadAddress, "discovery", 1), by(noDiscovery, "places", 1), by(untyped, "discovery", 1),
		// Addresses and restarts.
		model("needs a restart", "restart", "Core Specification, RebootNeeded", 4, func(m *Model) { m.NeedsBoot = true }),
		by(silentRestart, "restart", 2), by(lateRestart, "restart", 1).also(func(m *Model, _ *Unit) { m.NeedsBoot = true }), by(lateService, "service", 1),
		left("loses the move", "", "practice: the answer to a move goes to nobody", 3, func(u *Unit) { u.LoseMove = true }),
		by("two ports", "addresses", 1), by("two addresses", "addresses", 1),
		left("on DHCP", "dhcp", "RFC 2131", 3, func(u *Unit) { u.DHCP = true }),
		by("lease first off", "dhcp", 1).also(func(_ *Model, u *Unit) { u.DHCP = true }),
		left("adrift", "dhcp", "RFC 3927", 2, func(u *Unit) { u.Address = "169.254.20.30/16" }),
		left("in the site's subnet", "dhcp", "practice: someone gave it an address", 2, func(u *Unit) { u.Address = fmt.Sprintf("10.61.9.%d/23", 150+last(u.MAC)%50) }),
		left("in no common subnet", "dhcp", "practice: an address of the last site", 2, func(u *Unit) { u.Address = "172.20.4.9/16" }),
		left("IPv6 too", "", "RFC 4291, 2.5.6", 3, func(u *Unit) { u.IPv6 = true }),
		left("clock ahead", "time", "practice: no battery", 3, func(u *Unit) { u.Clock = 61 * time.Hour }),
		left("clock of 1970", "time", "practice: no battery", 2, func(u *Unit) { u.Clock = -50 * 365 * 24 * time.Hour }),
		left("named before", "names", "practice: a name of the last site", 1, func(u *Unit) { u.Name = "Lobby & stairs" }),
	}
}

// Auth is how a device wants to be logged in to.
func (u *Unit) Auth() string { return u.model.Auth }

// Found gives where a device is before anybody sets it up; invalid where it asks for a lease.
func (u *Unit) Found() netip.Prefix {
	if u.DHCP {
		return netip.Prefix{}
	}
	return u.prefix
}

// most is how many traits a drawn device has.
const most = 4

// Draw makes a site of n devices, each with one to four traits drawn by a seed: the same seed
// makes the same site. traits are those of each device, by its ID.
func Draw(seed uint64, n int) (s *Site, traits map[string][]string, err error) {
	chance := rand.New(rand.NewPCG(seed, 19))
	all := Traits()
	traits = map[string][]string{}
	s = drawnSite(seed)
	for i := range n {
		id := fmt.Sprintf("drawn-%d", i+1)
		m := plainModel(chance)
		drawn := drawTraits(chance, all, &m)
		u := drawnUnit(id, i)
		for _, t := range drawn {
			t.apply(&m, &u)
			traits[id] = append(traits[id], t.Name)
		}
		u.Model = id
		s.Models[id] = m
		s.Devices = append(s.Devices, u)
	}
	return s, traits, s.finish()
}

// WithTraits makes a site of one device with the traits that are named: what is left of a
// drawn one when it is looked for which of them matter.
func WithTraits(seed uint64, auth string, names []string) (*Site, error) {
	s := drawnSite(seed)
	m := plainModel(rand.New(rand.NewPCG(seed, 19)))
	m.Auth = auth
	u := drawnUnit("drawn-1", 0)
	for _, name := range names {
		at := slices.IndexFunc(Traits(), func(t Trait) bool { return t.Name == name })
		if at < 0 {
			return nil, fmt.Errorf("no trait %q", name)
		}
		Traits()[at].apply(&m, &u)
	}
	u.Model = "drawn-1"
	s.Models["drawn-1"] = m
	s.Devices = []Unit{u}
	return s, s.finish()
}

func drawnSite(seed uint64) *Site {
	return &Site{
		Name: fmt.Sprintf("Drawn %d", seed), Seed: seed, Models: map[string]Model{},
		Laptop: Laptop{MAC: "02:1a:70:00:00:01", Addresses: []string{"10.61.8.200/23"}},
		Others: []Bystander{
			{ID: "router", Role: "router", MAC: "02:5c:00:00:00:01", Address: "10.61.8.1/23"},
			{ID: "leases", Role: "dhcp", MAC: "02:5c:00:00:00:02", Address: "10.61.8.2/23", Gateway: "10.61.8.1", Pool: []string{"10.61.9.100", "10.61.9.150"}},
			{ID: "printer", Role: "printer", MAC: "02:9d:00:00:00:30", Address: "10.61.8.41/23"},
		},
	}
}

// makers are invented, as all are.
var makers = []string{"Verrine", "Oakhollow", "Tallow & Pike", "Brightmoor"}

func plainModel(chance *rand.Rand) Model {
	factory := []string{"192.168.77.20/24", "192.168.1.237/24", "10.10.10.10/24"}
	return Model{
		Make: makers[chance.IntN(len(makers))], Kind: "camera", Firmware: "1.0", Factory: factory[chance.IntN(len(factory))],
		Auth:    []string{"token", "md5", "sha256", "both", "any"}[chance.IntN(5)],
		Dialect: "declared", Path: "/onvif/device_service", Restart: time.Second, FaultCode: 400,
	}
}

func drawnUnit(id string, i int) Unit {
	return Unit{ID: id, MAC: fmt.Sprintf("02:7a:11:0d:%02x:%02x", i>>8, i&0xff), Serial: strings.ToUpper(strings.ReplaceAll(id, "-", ""))}
}

func drawTraits(chance *rand.Rand, all []Trait, m *Model) (out []Trait) {
	m.Name = fmt.Sprintf("Drawn %03d", chance.IntN(1000))
	groups := map[string]bool{}
	count := 1 + chance.IntN(most)
	for tries := 0; len(out) < count && tries < 50; tries++ {
		sum := 0
		for _, t := range all {
			sum += t.Weight
		}
		at := chance.IntN(sum)
		var t Trait
		for _, t = range all {
			if at -= t.Weight; at < 0 {
				break
			}
		}
		group := t.Group
		if group == "" {
			group = t.Name
		}
		so := *m
		u := drawnUnit("x", 0)
		for _, have := range out {
			have.apply(&so, &u)
		}
		if groups[group] || t.needs != nil && !t.needs(so) {
			continue
		}
		groups[group] = true
		out = append(out, t)
	}
	return out
}

// finish resolves what Parse resolves of a site that is written down.
func (s *Site) finish() error {
	if err := s.expand(); err != nil {
		return err
	}
	return s.expandOthers()
}
