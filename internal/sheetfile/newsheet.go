package sheetfile

import (
	"bytes"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"janustat/core/sheet"
)

// New gives the commented text of a new job sheet. Empty values are left
// as comments.
func New(name, subnet, gateway string, now time.Time) []byte {
	return NewWith(name, sheet.Network{Subnet: subnet, Gateway: gateway}, now)
}

// NewWith gives one with more of the network.
func NewWith(name string, n sheet.Network, now time.Time) []byte {
	subnet, gateway := n.Subnet, n.Gateway
	line := func(key, value, example string) string {
		if value != "" {
			return fmt.Sprintf("  %s: %s\n", key, value)
		}
		return fmt.Sprintf("  # %s: %s\n", key, example)
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, "# Job sheet, begun %s. The one file of the job to edit by hand.\n# `janustat` in this folder shows where the job stands.\n", now.Format(time.DateOnly))
	fmt.Fprintf(&b, "name: %q\n\n", name)
	b.WriteString("# Left out, subnet and gateway are taken from the recorder, else from what the LAN shows.\nnetwork:\n")
	b.WriteString(line("subnet", subnet, "10.61.8.0/23"))
	b.WriteString(line("gateway", gateway, "10.61.8.1"))
	list := func(n int, of func(i int) string) string {
		words := make([]string, n)
		for i := range words {
			words[i] = of(i)
		}
		if n == 0 {
			return ""
		}
		return "[" + strings.Join(words, ", ") + "]"
	}
	addresses := func(of []netip.Addr) string { return list(len(of), func(i int) string { return of[i].String() }) }
	spans := func(of []sheet.Span) string { return list(len(of), func(i int) string { return of[i].Text() }) }
	b.WriteString("  # override: true            # the lines above win over what was found\n")
	b.WriteString(line("dns", addresses(n.DNS), "[10.61.8.1]          # left out: what the site's DHCP server offers"))
	b.WriteString(line("ntp", addresses(n.NTP), "[10.61.8.1]"))
	b.WriteString("  # Subnets of other people on the same cable: listed, never asked, never touched:\n  # not_ours: [10.99.0.0/16]\n  # Never given to a device; an address or a range each:\n")
	b.WriteString(line("keep_clear", spans(n.KeepClear), "[10.61.8.5, 10.61.8.240-10.61.8.254]"))
	b.WriteString("  # The ranges of the site's DHCP servers, which cannot be seen from outside:\n")
	b.WriteString(line("dhcp_pools", spans(n.DHCPPools), "[10.61.9.100-10.61.9.199]"))
	b.WriteString(`
# Where each kind is numbered from. Left out: recorders from host 11, panels 21, intercoms 31, cameras 41.
# blocks:
#   camera: 10.61.8.41-10.61.8.239

# password:
#   user: admin                # the administrator's name on every device
#   style: each                # each device its own, as if left out; by_kind: one a kind; shared: one for the job, which
#                              # every device of it learns: a device of others, taken by mistake, too
#   factory:                   # known to all; tried on sealed devices, and replaced where they fit
#     - {user: admin, password: "..."}
#   min_length: 12             # of the site password, beside each device's own rules
#   tries_per_hour: 2          # wrong passwords allowed per device and hour, counting all commands
#   require_tls: true          # set no password without encryption (HTTPS) …
#   without_tls: [C07]         # … but on these, which offer none
#   recovery: [age1…]          # the firm's public key: opens the keyring too, if its passphrase is forgotten

# Further users, by the roles of the standard: administrator, operator, user. Their passwords are made.
# users:
#   - {name: viewer, role: user, on: [recorder, C01]}   # kinds, tags, MACs or serials; left out: every device

# What each device is called, by tag, MAC or serial; one that is not here keeps the name it has:
# names:
#   C01: Ticket hall east

# Addresses of your own choice, by tag, MAC or serial; the others are numbered by the blocks above:
# addresses: {C07: 10.61.8.60}

# The pictures of cameras that are named show the name, where they can; "captions: false" leaves them as they are:
# captions: true

# Devices that work together. Cameras on recorder channels: "auto", or {R01: {1: C01, 2: C02}, R02: auto}:
# channels: auto
# Door stations, and the indoor stations that they ring, by floor and flat:
# intercoms: {D01: {I01: {floor: 1, flat: 101}, I02: {floor: 2, flat: 201}}}
# The server that panels report to:
# reporting: {server: 10.61.8.6, port: 7700}
# Each of these may be "none": then nobody is asked about it again.

# Set on every device; left out, each keeps its own. As POSIX writes it:
# timezone: "GMT0BST,M3.5.0/1,M10.5.0"
# ports: {rtsp: 5000+}   # a port for each camera: 5000 and the number of its address
# https: on              # switched on where a device has it, before its first password where it accepts that
# outside: off           # uplinks, remote users and dynamic DNS names are removed
# discovery: off         # devices are found by their addresses alone from then on

# How many devices you installed: "survey --expect-sheet" waits for them and says what is missing.
# expected: {camera: 24, recorder: 1}

# survey:
#   factory_subnets: [192.168.88.0/24]   # to look for new devices in, beside the common ones
#   rate: 2000                           # ARP probes a second
#   makers: {"02:e4:42": Verrine}        # by MAC prefix, beside IEEE's registry

# lease:                                 # of the small DHCP service, "janustat lease"
#   temporary: 10.61.9.220-10.61.9.239   # for devices that have no address allotted
#   time: 2h
`)
	return b.Bytes()
}
