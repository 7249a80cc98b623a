// Package sheet is what a job sheet says. How it is read from a file is said elsewhere.
package sheet

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/secret"
	"janustat/core/setting"
	"janustat/core/settings"
	"janustat/core/text"
)

// Sheet is the job sheet: the one file a person edits. Its form is specified
// in docs/jobsheet.md.
type Sheet struct {
	Name     string            `yaml:"name"`
	Network  Network           `yaml:"network"`
	Blocks   map[string]Span   `yaml:"blocks"`
	Password PasswordPolicy    `yaml:"password"`
	Names    map[string]string `yaml:"names"`
	// Addresses are those that a person has chosen, by tag, MAC or serial.
	Addresses map[string]netip.Addr `yaml:"addresses"`
	Expected  map[string]int        `yaml:"expected"` // how many of each kind were hung
	Survey    SurveyRules           `yaml:"survey"`
	Lease     Lease                 `yaml:"lease"`
	Users     []WantedUser          `yaml:"users"`
	// Settings are what it says of each, where that is a folder of core/settings.
	Settings setting.Values `yaml:"-"`
	// Captions tells whether the pictures of cameras are to show their names; so if left out.
	Captions *bool `yaml:"captions"`
	// Devices that work together.
	Channels  ChannelPlan  `yaml:"-"`
	Intercoms IntercomPlan `yaml:"-"`
	Reporting ReportPlan   `yaml:"-"`

	At     map[string]Ref `yaml:"-"` // where its keys stand, by their paths
	Marked bool           `yaml:"-"` // it begins with a byte-order mark
}

// Network is what the sheet says of the site network.
type Network struct {
	Subnet    string         `yaml:"subnet"`
	Gateway   string         `yaml:"gateway"`
	Override  bool           `yaml:"override"`
	DNS       []netip.Addr   `yaml:"dns"`
	NTP       []netip.Addr   `yaml:"ntp"`
	KeepClear []Span         `yaml:"keep_clear"`
	DHCPPools []Span         `yaml:"dhcp_pools"`
	NotOurs   []netip.Prefix `yaml:"not_ours"` // subnets of others on the same cable
}

// PasswordPolicy is what the sheet says of passwords.
type PasswordPolicy struct {
	User         string       `yaml:"user"`
	Style        Style        `yaml:"style"`
	MinLength    int          `yaml:"min_length"`
	TriesPerHour int          `yaml:"tries_per_hour"`
	Factory      []FactoryKey `yaml:"factory"`
	RequireTLS   bool         `yaml:"require_tls"` // set no password without encryption
	WithoutTLS   []string     `yaml:"without_tls"` // but on these: tags, MACs or serials
	Recovery     []string     `yaml:"recovery"`    // age public keys that open the keyring too
}

// Style is how many passwords a job has.
type Style string

// The styles.
const (
	Shared Style = "shared"  // one for the job
	ByKind Style = "by_kind" // one for each kind
	Each   Style = "each"    // one for each device
)

// FactoryKey is a user and password that devices of some maker are delivered
// with. They are known to all, so they may stand in the sheet.
type FactoryKey struct {
	User     string `yaml:"user"`
	Password string `yaml:"password"`
}

// SurveyRules is what the sheet says of looking for devices.
type SurveyRules struct {
	FactorySubnets []netip.Prefix    `yaml:"factory_subnets"`
	Rate           int               `yaml:"rate"`   // ARP probes a second
	Makers         map[string]string `yaml:"makers"` // by MAC prefix, beside IEEE's registry
}

// Lease is what the sheet says of `janustat lease`.
type Lease struct {
	Temporary *Span         `yaml:"temporary"` // addresses for devices that have none allotted
	Time      time.Duration `yaml:"time"`      // how long a lease holds
}

// DefaultLease is how long a lease holds where the sheet does not say: long
// enough to commission the device, short enough to be gone the next day.
const DefaultLease = 2 * time.Hour

// Span is an address or a range of addresses, as 10.0.0.5 or 10.0.0.5-10.0.0.9.
type Span struct{ ground.Range }

// Text writes a span as the sheet has it.
func (s Span) Text() string {
	if s.From == s.To {
		return s.From.String()
	}
	return s.From.String() + "-" + s.To.String()
}

// UnmarshalText reads a span.
func (s *Span) UnmarshalText(b []byte) error {
	first, last, isRange := strings.Cut(string(b), "-")
	from, err := netip.ParseAddr(strings.TrimSpace(first))
	if err != nil || !from.Is4() {
		return fmt.Errorf("%q is not an IPv4 address", first)
	}
	to := from
	if isRange {
		if to, err = netip.ParseAddr(strings.TrimSpace(last)); err != nil || !to.Is4() {
			return fmt.Errorf("%q is not an IPv4 address", last)
		}
	}
	if to.Less(from) {
		return fmt.Errorf("%q runs backwards", b)
	}
	s.Range = ground.Range{From: from, To: to}
	return nil
}

func (s *Sheet) Check() error {
	if s.Network.Subnet != "" {
		if _, err := ground.ParseSubnet(s.Network.Subnet); err != nil {
			return s.wrong("network.subnet", "%v", err)
		}
	}
	if s.Network.Gateway != "" {
		if a, err := netip.ParseAddr(s.Network.Gateway); err != nil || !a.Is4() {
			return s.wrong("network.gateway", "%q is not an IPv4 address", s.Network.Gateway)
		}
	}
	for kind := range s.Blocks {
		if k := device.Kind(kind); k == device.Other || !slices.Contains(device.Kinds, k) {
			return s.wrong("blocks."+kind, "the kinds are camera, recorder, intercom and panel%s", text.Meant(kind, []string{"camera", "recorder", "intercom", "panel"}))
		}
	}
	if s.Password.MinLength < 0 || s.Password.MinLength > 64 {
		return s.wrong("password.min_length", "%d is outside 0 to 64", s.Password.MinLength)
	}
	if s.Password.TriesPerHour < 0 || s.Password.TriesPerHour > 4 {
		return s.wrong("password.tries_per_hour", "%d is outside 1 to 4: devices lock after as few as five", s.Password.TriesPerHour)
	}
	switch s.Password.Style {
	case "", Shared, ByKind, Each:
	default:
		return s.wrong("password.style", "%q: use shared, by_kind or each%s", s.Password.Style, text.Meant(string(s.Password.Style), []string{"shared", "by_kind", "each"}))
	}
	for i, f := range s.Password.Factory {
		if f.User == "" {
			return s.wrong(fmt.Sprintf("password.factory[%d]", i), "give a user; without a password it is the empty one")
		}
	}
	for i, p := range s.Survey.FactorySubnets {
		if err := ground.CheckSubnet(p); err != nil {
			return s.wrong(fmt.Sprintf("survey.factory_subnets[%d]", i), "%v", err)
		}
	}
	for i, p := range s.Network.NotOurs {
		if !p.IsValid() || p.Bits() == 0 {
			return s.wrong(fmt.Sprintf("network.not_ours[%d]", i), "%q is not a subnet", p)
		}
	}
	for key, list := range map[string][]netip.Addr{"dns": s.Network.DNS, "ntp": s.Network.NTP} {
		for i, a := range list {
			if !a.Is4() || a.IsUnspecified() {
				return s.wrong(fmt.Sprintf("network.%s[%d]", key, i), "%q is not a server's address", a)
			}
		}
	}
	for _, x := range settings.All {
		if said := s.Settings[x.Name]; said != "" {
			if err := x.Check(said); err != nil {
				return s.wrong(x.Key, "%v", err)
			}
		}
	}
	return cmp.Or(s.checkExpected(), s.checkSurvey(), s.checkNames(), s.checkAddresses(), s.checkUsers(), s.checkJoining())
}

func (s *Sheet) checkExpected() error {
	for kind, n := range s.Expected {
		if k := device.Kind(kind); !slices.Contains(device.Kinds, k) || n < 0 {
			return s.wrong("expected."+kind, "%d: the kinds are camera, recorder, intercom, panel and other, each with a count%s", n, text.Meant(kind, []string{"camera", "recorder", "intercom", "panel", "other"}))
		}
	}
	return nil
}

// maxRate is the fastest sweep that may be asked for, in ARP probes a second:
// a tenth of what a 100 Mbit/s port carries.
const maxRate = 20_000

func (s *Sheet) checkSurvey() error {
	if s.Survey.Rate < 0 || s.Survey.Rate > maxRate {
		return s.wrong("survey.rate", "%d is outside 1 to %d probes a second", s.Survey.Rate, maxRate)
	}
	for prefix := range s.Survey.Makers {
		if _, err := device.ParseMACPrefix(prefix); err != nil {
			return s.wrong("survey.makers."+prefix, "%v", err)
		}
	}
	if t := s.Lease.Time; t != 0 && (t < time.Minute || t > 7*24*time.Hour) {
		return s.wrong("lease.time", "%s is outside 1m to 168h", t)
	}
	return nil
}

// Captioned reports whether the pictures of cameras are to show their names.
func (s *Sheet) Captioned() bool { return s.Captions == nil || *s.Captions }

const maxName = 60 // what common devices take

func (s *Sheet) checkNames() error {
	for ref, name := range s.Names {
		if n := len([]rune(name)); n == 0 || n > maxName || strings.ContainsAny(name, "\n\t\x00") {
			return s.wrong("names."+ref, "a name is one line of 1 to %d characters", maxName)
		}
	}
	return nil
}

func (s *Sheet) checkAddresses() error {
	whose := map[netip.Addr]string{}
	subnet, _ := ground.ParseSubnet(s.Network.Subnet) // checked before
	for _, ref := range slices.Sorted(maps.Keys(s.Addresses)) {
		a := s.Addresses[ref]
		if !a.Is4() || a.IsUnspecified() || a.IsMulticast() || a.IsLoopback() || a.IsLinkLocalUnicast() {
			return s.wrong("addresses."+ref, "%q is not an IPv4 address of a device", a)
		}
		if subnet.IsValid() {
			if err := ground.Check(subnet, a, netip.Addr{}); err != nil {
				return s.wrong("addresses."+ref, "%v", err)
			}
		}
		if other, dup := whose[a]; dup {
			return s.wrong("addresses."+ref, "%s is for %s already", a, other)
		}
		whose[a] = ref
	}
	return nil
}

// Claim is what the sheet says of the site network, if anything.
func (s *Sheet) Claim() (ground.Claim, bool) {
	c := ground.Claim{Rank: ground.FromSheet, Source: "the job sheet"}
	c.Subnet, _ = ground.ParseSubnet(s.Network.Subnet) // checked when read
	c.Gateway, _ = netip.ParseAddr(s.Network.Gateway)
	c.DNS, c.NTP = s.Network.DNS, s.Network.NTP
	return c, c.Subnet.IsValid() || c.Gateway.IsValid() || len(c.DNS) > 0 || len(c.NTP) > 0
}

// BlocksIn gives the blocks for a subnet: the sheet's, and the default for
// kinds that it leaves out.
func (s *Sheet) BlocksIn(subnet netip.Prefix) []ground.Block {
	blocks := ground.DefaultBlocks(subnet)
	for i, b := range blocks {
		if own, ok := s.Blocks[b.Name]; ok {
			blocks[i].Range = own.Range
		}
	}
	return blocks
}

// Reserved gives what the sheet keeps clear.
func (s *Sheet) Reserved() []ground.Reserved {
	var out []ground.Reserved
	for _, r := range s.Network.KeepClear {
		out = append(out, ground.Reserved{Range: r.Range, Why: "kept clear by the job sheet"})
	}
	for _, r := range s.Network.DHCPPools {
		out = append(out, ground.Reserved{Range: r.Range, Why: "in a DHCP pool"})
	}
	if server := s.Reporting.Server; server.IsValid() {
		out = append(out, ground.Reserved{Range: ground.Range{From: server, To: server}, Why: "the server that panels report to"})
	}
	return out
}

// IsNotOurs reports whether an address is on a subnet that the sheet says is another's.
func (s *Sheet) IsNotOurs(a netip.Addr) bool {
	return slices.ContainsFunc(s.Network.NotOurs, func(p netip.Prefix) bool { return p.Contains(a) })
}

// MakerOf gives the maker that the sheet has for a MAC, by its longest prefix, or "".
func (s *Sheet) MakerOf(mac device.MAC) string {
	best, name := 0, ""
	for text, maker := range s.Survey.Makers {
		p, err := device.ParseMACPrefix(text) // checked when read
		if err == nil && p.Contains(mac) && p.Bits > best {
			best, name = p.Bits, maker
		}
	}
	return name
}

// LeaseTime is how long a lease of `janustat lease` holds.
func (s *Sheet) LeaseTime() time.Duration { return cmp.Or(s.Lease.Time, DefaultLease) }

// User is the administrator's name on the devices.
func (s *Sheet) User() string {
	if s.Password.User == "" {
		return "admin"
	}
	return s.Password.User
}

// Style is how many passwords the job has.
func (s *Sheet) Style() Style { return cmp.Or(s.Password.Style, Each) }

// Factory gives the factory keys to try.
func (s *Sheet) Factory() (out []commission.Credential) {
	for _, f := range s.Password.Factory {
		out = append(out, commission.Credential{User: f.User, Password: secret.New(f.Password), Origin: commission.FromFactory})
	}
	return out
}

// Rules are the sheet's own password rules.
func (s *Sheet) Rules() secret.Rules { return secret.Rules{MinLen: s.Password.MinLength} }

// Budget is how many password tries a device is offered per hour.
func (s *Sheet) Budget() secret.Budget { return secret.Budget{PerHour: s.Password.TriesPerHour} }
