package cli

import (
	"net/netip"
	"slices"
	"time"

	"charm.land/lipgloss/v2"

	"janustat/core/device"
)

// deviceJSON is a device in --json output and in handover/register.json. Its
// fields are a contract: they grow and do not change.
type deviceJSON struct {
	Tag       string           `json:"tag"`
	Kind      device.Kind      `json:"kind"`
	Make      string           `json:"make"`
	Model     string           `json:"model"`
	Serial    string           `json:"serial"`
	MAC       device.MAC       `json:"mac"`
	Address   netip.Addr       `json:"address"`
	Prefix    int              `json:"prefix,omitempty"`
	Gateway   netip.Addr       `json:"gateway,omitzero"`
	DHCP      *bool            `json:"dhcp,omitempty"`
	Condition device.Condition `json:"condition"`
	Access    device.Access    `json:"access"`
	Firmware  string           `json:"firmware"`
	Name      string           `json:"name"`
	InJob     device.Choice    `json:"in_job"`
	Allotted  netip.Addr       `json:"allotted,omitzero"`
	Ports     []uint16         `json:"ports,omitempty"`
	SeenAt    time.Time        `json:"seen_at"`
}

func asJSON(d *device.Device) deviceJSON {
	out := deviceJSON{
		Tag: d.Tag, Kind: d.Kind, Make: d.Make, Model: d.Model, Serial: d.Serial, MAC: d.MAC, Address: d.Address(),
		Condition: d.Condition, Access: d.Access, Firmware: d.Firmware, Name: d.Name, InJob: d.InJob,
		Ports: d.Ports, SeenAt: d.SeenAt.UTC().Truncate(time.Second),
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

// deviceColumns are the columns of every list of devices.
var deviceColumns = []column{
	{"TAG", 0},
	{"KIND", 0},
	{"MAKE", 3},
	{"MODEL", 1},
	{"SERIAL", 2},
	{"MAC", 0},
	{"ADDRESS", 0},
	{"CONDITION", 0},
	{"ACCESS", 0},
	{"JOB", 0},
}

func deviceListing(devices []device.Device) *listing {
	l := &listing{columns: deviceColumns, faint: map[int]bool{}}
	for i := range devices {
		d := &devices[i]
		if d.Kind == device.Other || d.InJob == device.Left {
			l.faint[i] = true
		}
		l.add(plain(d.Tag), plain(string(d.Kind)), plain(d.Make), plain(d.Model), plain(d.Serial), plain(d.MAC.String()),
			plain(addressText(d.Address())), conditionCell(d.Condition), accessCell(d.Access), plain(string(d.InJob)))
	}
	return l
}

func addressText(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

func accessCell(a device.Access) cell {
	return styled(string(a), map[device.Access]*lipgloss.Style{
		device.Fresh: &workStyle, device.Factory: &workStyle, device.Keyed: &goodStyle, device.Sealed: &badStyle,
	}[a])
}

func conditionCell(c device.Condition) cell {
	return styled(string(c), map[device.Condition]*lipgloss.Style{
		device.Settled: &goodStyle, device.Clash: &badStyle, device.Stray: &workStyle, device.Leased: &workStyle,
		device.Adrift: &workStyle, device.Bare: &workStyle,
	}[c])
}

func styled(text string, s *lipgloss.Style) cell { return cell{text, s} }

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
			text += plural(counts[k], "bystander")
		} else {
			text += plural(counts[k], string(k))
		}
	}
	return text
}

// tagged gives the taken devices, in the order for people.
func tagged(devices []device.Device) []device.Device {
	out := slices.DeleteFunc(slices.Clone(devices), func(d device.Device) bool { return d.InJob != device.Taken })
	sortForPeople(out)
	return out
}
