package job

import (
	"bytes"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/secret"
)

// Sheet is the job sheet: the one file a person edits. Its form is specified
// in docs/jobsheet.md.
type Sheet struct {
	Name     string            `yaml:"name"`
	Network  Network           `yaml:"network"`
	Blocks   map[string]Span   `yaml:"blocks"`
	Password PasswordPolicy    `yaml:"password"`
	Names    map[string]string `yaml:"names"`
	Survey   Survey            `yaml:"survey"`
}

// Network is what the sheet says of the site network.
type Network struct {
	Subnet    string `yaml:"subnet"`
	Gateway   string `yaml:"gateway"`
	Override  bool   `yaml:"override"`
	KeepClear []Span `yaml:"keep_clear"`
	DHCPPools []Span `yaml:"dhcp_pools"`
}

// PasswordPolicy is what the sheet says of passwords.
type PasswordPolicy struct {
	User         string `yaml:"user"`
	MinLength    int    `yaml:"min_length"`
	TriesPerHour int    `yaml:"tries_per_hour"`
}

// Survey is what the sheet says of looking for devices.
type Survey struct {
	FactorySubnets []netip.Prefix `yaml:"factory_subnets"`
	Rate           int            `yaml:"rate"` // ARP probes a second
}

// Span is an address or a range of addresses, as 10.0.0.5 or 10.0.0.5-10.0.0.9.
type Span struct{ ground.Range }

// UnmarshalText reads a span.
func (s *Span) UnmarshalText(b []byte) error {
	first, last, isRange := strings.Cut(string(b), "-")
	from, err := netip.ParseAddr(strings.TrimSpace(first))
	if err != nil || !from.Is4() {
		return fmt.Errorf("%q is no IPv4 address", first)
	}
	to := from
	if isRange {
		if to, err = netip.ParseAddr(strings.TrimSpace(last)); err != nil || !to.Is4() {
			return fmt.Errorf("%q is no IPv4 address", last)
		}
	}
	if to.Less(from) {
		return fmt.Errorf("%q runs backwards", b)
	}
	s.Range = ground.Range{From: from, To: to}
	return nil
}

// ErrSheet is wrapped by everything that is wrong in a job sheet.
var ErrSheet = errors.New("job sheet")

// maxSheet bounds a job sheet, in bytes; real ones have a few hundred lines.
const maxSheet = 4 << 20

// ReadSheet reads and checks a job sheet.
func ReadSheet(path string) (*Sheet, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrSheet, err)
	}
	s, err := ParseSheet(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return s, nil
}

// ParseSheet reads and checks the text of a job sheet. Unknown keys, aliases
// and anchors are refused; errors name line and column.
func ParseSheet(data []byte) (*Sheet, error) {
	if len(data) > maxSheet {
		return nil, fmt.Errorf("%w: longer than %d bytes", ErrSheet, maxSheet)
	}
	if err := refuseAliases(data); err != nil {
		return nil, err
	}
	s := &Sheet{}
	if err := yaml.NewDecoder(bytes.NewReader(data), yaml.Strict()).Decode(s); err != nil && len(bytes.TrimSpace(data)) > 0 {
		return nil, fmt.Errorf("%w: %s", ErrSheet, strings.TrimSpace(yaml.FormatError(err, false, true)))
	}
	return s, s.check()
}

// refuseAliases keeps out what could unfold without end.
func refuseAliases(data []byte) error {
	file, err := parser.ParseBytes(data, 0)
	if err != nil {
		return fmt.Errorf("%w: %s", ErrSheet, strings.TrimSpace(yaml.FormatError(err, false, true)))
	}
	for _, doc := range file.Docs {
		if doc.Body == nil {
			continue
		}
		for _, t := range []ast.NodeType{ast.AliasType, ast.AnchorType} {
			if found := ast.Filter(t, doc.Body); len(found) > 0 {
				return fmt.Errorf("%w: line %d: anchors and aliases are not allowed: write the value out", ErrSheet, found[0].GetToken().Position.Line)
			}
		}
	}
	return nil
}

func (s *Sheet) check() error {
	if s.Network.Subnet != "" {
		if _, err := ground.ParseSubnet(s.Network.Subnet); err != nil {
			return fmt.Errorf("%w: network.subnet: %w", ErrSheet, err)
		}
	}
	if s.Network.Gateway != "" {
		if a, err := netip.ParseAddr(s.Network.Gateway); err != nil || !a.Is4() {
			return fmt.Errorf("%w: network.gateway: %q is no IPv4 address", ErrSheet, s.Network.Gateway)
		}
	}
	for kind := range s.Blocks {
		if k := device.Kind(kind); k == device.Other || !slices.Contains(device.Kinds, k) {
			return fmt.Errorf("%w: blocks.%s: the kinds are camera, recorder, intercom and panel", ErrSheet, kind)
		}
	}
	if s.Password.MinLength < 0 || s.Password.MinLength > 64 {
		return fmt.Errorf("%w: password.min_length: %d is outside 0 to 64", ErrSheet, s.Password.MinLength)
	}
	if s.Password.TriesPerHour < 0 || s.Password.TriesPerHour > 4 {
		return fmt.Errorf("%w: password.tries_per_hour: %d is outside 1 to 4: devices lock after as few as five", ErrSheet, s.Password.TriesPerHour)
	}
	for i, p := range s.Survey.FactorySubnets {
		if err := ground.CheckSubnet(p); err != nil {
			return fmt.Errorf("%w: survey.factory_subnets[%d]: %w", ErrSheet, i, err)
		}
	}
	return s.checkNames()
}

const maxName = 60 // what common devices take

func (s *Sheet) checkNames() error {
	for ref, name := range s.Names {
		if n := len([]rune(name)); n == 0 || n > maxName || strings.ContainsAny(name, "\n\t\x00") {
			return fmt.Errorf("%w: names.%s: a name is one line of 1 to %d characters", ErrSheet, ref, maxName)
		}
	}
	return nil
}

// Claim is what the sheet says of the site network, if anything.
func (s *Sheet) Claim() (ground.Claim, bool) {
	c := ground.Claim{Rank: ground.FromSheet, Source: "the job sheet"}
	c.Subnet, _ = ground.ParseSubnet(s.Network.Subnet) // checked when read
	c.Gateway, _ = netip.ParseAddr(s.Network.Gateway)
	return c, c.Subnet.IsValid() || c.Gateway.IsValid()
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
	return out
}

// User is the administrator's name on the devices.
func (s *Sheet) User() string {
	if s.Password.User == "" {
		return "admin"
	}
	return s.Password.User
}

// Rules are the sheet's own password rules.
func (s *Sheet) Rules() secret.Rules { return secret.Rules{MinLen: s.Password.MinLength} }

// Budget is how many password tries a device is offered per hour.
func (s *Sheet) Budget() secret.Budget { return secret.Budget{PerHour: s.Password.TriesPerHour} }

// NameFor gives the name the sheet has for a device, by tag, MAC or serial; its
// tag when the sheet has none.
func (s *Sheet) NameFor(d *device.Device) string {
	for ref, name := range s.Names {
		mac, err := device.ParseMAC(ref)
		if d.Tag != "" && strings.EqualFold(ref, d.Tag) || d.Serial != "" && strings.EqualFold(ref, d.Serial) || err == nil && mac == d.MAC {
			return name
		}
	}
	return d.Tag
}

// NameBySerial gives the name the sheet has for a serial number, or "".
func (s *Sheet) NameBySerial(serial string) string {
	for ref, name := range s.Names {
		if serial != "" && strings.EqualFold(ref, serial) {
			return name
		}
	}
	return ""
}

// NewSheet gives the commented text of a new job sheet. Empty values are left
// as comments.
func NewSheet(name, subnet, gateway string, now time.Time) []byte {
	line := func(key, value, example string) string {
		if value != "" {
			return fmt.Sprintf("  %s: %s\n", key, value)
		}
		return fmt.Sprintf("  # %s: %s\n", key, example)
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, "# Job sheet, begun %s. The one file of the job to edit by hand.\n# `janustat` in this folder tells where the job stands.\n", now.Format(time.DateOnly))
	fmt.Fprintf(&b, "name: %q\n\n", name)
	b.WriteString("# Left out, subnet and gateway are taken from the recorder, else from what the LAN shows.\nnetwork:\n")
	b.WriteString(line("subnet", subnet, "10.61.8.0/23"))
	b.WriteString(line("gateway", gateway, "10.61.8.1"))
	b.WriteString(`  # override: true            # the lines above win over what was found
  # Never given to a device; an address or a range each:
  # keep_clear: [10.61.8.5, 10.61.8.240-10.61.8.254]
  # The ranges of the site's DHCP servers, which cannot be seen from outside:
  # dhcp_pools: [10.61.9.100-10.61.9.199]

# Where each kind is numbered from. Left out: recorders from host 11, panels 21, intercoms 31, cameras 41.
# blocks:
#   camera: 10.61.8.41-10.61.8.239

# password:
#   user: admin                # the administrator's name on every device
#   min_length: 12             # of the site password, beside each device's own rules
#   tries_per_hour: 2          # password tries a device is offered, over all runs

# What each device is called, by tag, MAC or serial:
# names:
#   C01: Ticket hall east

# survey:
#   factory_subnets: [192.168.88.0/24]   # to look for new devices in, beside the common ones
#   rate: 2000                           # ARP probes a second
`)
	return b.Bytes()
}
