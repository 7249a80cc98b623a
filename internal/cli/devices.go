package cli

import (
	"net/netip"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"janustat/core/device"
)

// deviceJSON is a device in --json output and in handover/register.json. Its
// fields are a contract: they grow and do not change.
type deviceJSON struct {
	Tag       string             `json:"tag"`
	Kind      device.Kind        `json:"kind"`
	Make      string             `json:"make"`
	Model     string             `json:"model"`
	Serial    string             `json:"serial"`
	MAC       device.MAC         `json:"mac"`
	Address   netip.Addr         `json:"address"`
	Prefix    int                `json:"prefix,omitempty"`
	Gateway   netip.Addr         `json:"gateway,omitzero"`
	DHCP      *bool              `json:"dhcp,omitempty"`
	Condition device.Condition   `json:"condition"`
	Access    device.Access      `json:"access"`
	Firmware  string             `json:"firmware"`
	Name      string             `json:"name"`
	InJob     device.Choice      `json:"in_job"`
	Allotted  netip.Addr         `json:"allotted,omitzero"`
	Ports     []uint16           `json:"ports,omitempty"`
	Addresses []netip.Addr       `json:"addresses,omitempty"` // all it answers for, where there are several
	Clashing  []device.MAC       `json:"clashing,omitempty"`  // the other MACs on its address
	Host      string             `json:"host,omitempty"`
	Offers    []string           `json:"offers,omitempty"`
	Registry  string             `json:"registry,omitempty"` // whom IEEE gave the MAC's prefix to
	NotOurs   bool               `json:"not_ours,omitempty"`
	SetUpBy   string             `json:"set_up_by,omitempty"` // why it is somebody's, set up outside this job
	Asks      *device.DHCPClient `json:"asks,omitempty"`      // what it says when it asks for an address
	TLS       *device.TLS        `json:"tls,omitempty"`       // its device service over HTTPS
	Alarm     string             `json:"alarm,omitempty"`     // why nothing is offered to it
	ResetAt   *time.Time         `json:"reset_at,omitempty"`
	MuteTLS   string             `json:"mute_tls,omitempty"` // it offers HTTPS that could not be spoken
	SeenAt    time.Time          `json:"seen_at"`
}

func asJSON(d *device.Device) deviceJSON {
	out := deviceJSON{
		Tag: d.Tag, Kind: d.Kind, Make: d.Make, Model: d.Model, Serial: d.Serial, MAC: d.MAC, Address: d.Address(),
		Condition: d.Condition, Access: d.Access, Firmware: d.Firmware, Name: d.Name, InJob: d.InJob,
		Ports: d.Ports, Clashing: d.Clashing, Host: d.Host, Offers: d.Offers, Registry: d.Registry, NotOurs: d.NotOurs, SetUpBy: d.SetUpBy, Asks: d.Asks, TLS: d.TLS, Alarm: d.Alarm, MuteTLS: d.MuteTLS, SeenAt: d.SeenAt.UTC().Truncate(time.Second),
	}
	if !d.ResetAt.IsZero() {
		at := d.ResetAt.UTC().Truncate(time.Second)
		out.ResetAt = &at
	}
	if len(d.Addresses) > 1 {
		out.Addresses = d.Addresses
	}
	if s := d.Settings; s != nil {
		out.Prefix, out.Gateway, out.DHCP = s.Prefix, s.Gateway, &s.DHCP
	}
	if d.Allotted != nil {
		out.Allotted = d.Allotted.Address
	}
	return out
}

func allJSON(devices []device.Device) []deviceJSON {
	out := make([]deviceJSON, len(devices))
	for i := range devices {
		out[i] = asJSON(&devices[i])
	}
	return out
}

// makeText gives the maker: the device's own word, else the holder of its MAC's
// prefix, marked as such.
func makeText(d *device.Device) string {
	if d.Make == "" && d.Registry != "" {
		return "(" + short(d.Registry, maxMaker) + ")"
	}
	return d.Make
}

const (
	maxMaker = 18
	maxWhat  = 24
)

// whatText says what a device is, as far as it tells.
func whatText(d *device.Device) string { return short(d.Wording(), maxWhat) }

func short(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return strings.TrimSpace(string(r[:most-1])) + "…"
	}
	return s
}

func jobText(d *device.Device) string {
	switch {
	case d.NotOurs:
		return "not ours"
	case d.Alarm != "" && d.InJob == device.Taken:
		return "ALARM"
	case !d.ResetAt.IsZero():
		return "reset"
	}
	return string(d.InJob)
}

func addressText(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

func accessCell(a device.Access) cell {
	return styled(string(a), map[device.Access]*lipgloss.Style{
		device.Fresh: &workStyle, device.Factory: &workStyle, device.Keyed: &goodStyle, device.Sealed: &badStyle, device.Unread: &workStyle, device.Mute: &workStyle,
	}[a])
}

func conditionCell(c device.Condition) cell {
	return styled(string(c), map[device.Condition]*lipgloss.Style{
		device.Settled: &goodStyle, device.Clash: &badStyle, device.Stray: &workStyle, device.Leased: &workStyle,
		device.Adrift: &workStyle, device.Bare: &workStyle,
	}[c])
}

func styled(text string, s *lipgloss.Style) cell { return cell{text: text, style: s} }

// countByKind gives "8 cameras, 1 recorder, …" in the order of kinds.
func countByKind(devices []device.Device) string {
	counts := map[device.Kind]int{}
	for i := range devices {
		counts[devices[i].Kind]++
	}
	text := ""
	for _, k := range device.Kinds {
		if counts[k] == 0 {
			continue
		}
		if text != "" {
			text += ", "
		}
		if k == device.Other {
			text += plural(counts[k], "other device")
		} else {
			text += plural(counts[k], string(k))
		}
	}
	return text
}
