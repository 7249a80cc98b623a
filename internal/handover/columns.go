package handover

import (
	"cmp"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"janustat/core/device"
	"janustat/core/setting"
	"janustat/core/settings"
	"janustat/core/settings/zone"
)

// column is one field of a device in the tables: how it is written, and read back.
type column struct {
	name  string // in register.csv
	title string // in the workbook; "" is not in it
	// value is text, a time.Time, or nil for none.
	value func(e *Entry) any
	// set reads it back; nil is for what only the full record holds.
	set func(e *Entry, s string)
	// compared are those whose change is told between two records.
	compared bool
}

// textColumn is of a field that is text.
func textColumn(name, title string, field func(e *Entry) *string, compared bool) column {
	return column{name, title, func(e *Entry) any { return *field(e) }, func(e *Entry, s string) { *field(e) = s }, compared}
}

// columns are those of the tables of devices, in order; the installer's own fields follow.
var columns = []column{
	textColumn("tag", "Tag", func(e *Entry) *string { return &e.Tag }, true),
	{"kind", "", func(e *Entry) any { return string(e.Kind) }, func(e *Entry, s string) { e.Kind = device.Kind(s) }, true},
	textColumn("name", "Name", func(e *Entry) *string { return &e.Name }, true),
	textColumn("place", "Place", func(e *Entry) *string { return &e.Place }, true),
	textColumn("make", "Maker", func(e *Entry) *string { return &e.Make }, true),
	textColumn("model", "Model", func(e *Entry) *string { return &e.Model }, true),
	textColumn("serial", "Serial", func(e *Entry) *string { return &e.Serial }, true),
	// One that is none is not known. Another unit is told as replaced, not as changed.
	{"mac", "MAC", func(e *Entry) any { return e.MAC.String() }, func(e *Entry, s string) { e.MAC, _ = device.ParseMAC(s) }, false},
	textColumn("firmware", "Firmware", func(e *Entry) *string { return &e.Firmware }, true),
	textColumn("address", "Address", func(e *Entry) *string { return &e.Address }, true),
	textColumn("mask", "Mask", func(e *Entry) *string { return &e.Mask }, true),
	textColumn("gateway", "Gateway", func(e *Entry) *string { return &e.Gateway }, true),
	textColumn("switch_port", "Switch port", func(e *Entry) *string { return &e.Port }, true),
	{"joined", "Joined", func(e *Entry) any { return strings.Join(e.Joined, listed) }, func(e *Entry, s string) { e.Joined = strings.Split(s, listed) }, true},
	textColumn("stream", "Stream", func(e *Entry) *string { return &e.Stream }, true),
	{"access", "Access", func(e *Entry) any { return string(e.Access) }, func(e *Entry, s string) { e.Access = device.Access(s) }, true},
	{"password", "Password set", func(e *Entry) any { return passwordText(*e) }, func(e *Entry, s string) { e.InClear = s == inClear }, true},
	textColumn("password_held_by", "Password held by", func(e *Entry) *string { return &e.Custody }, true),
	textColumn("transport", "Spoken with over", func(e *Entry) *string { return &e.Transport }, true),
	listColumn("encryption", "Weak encryption", func(e *Entry) *[]string { return &e.Weak }, true),
	{"found_at", "Found at", func(e *Entry) any { return foundAt(e.AsFound) }, readFound, true},
	// When it was proved is otherwise after every proof: only whether it is, is compared.
	{"proved_at", "Proved", provedAt, readProved, false},
	textColumn("addressing", "Addressing", func(e *Entry) *string { return &e.Addressing }, true),
	textColumn("dns", "DNS", func(e *Entry) *string { return &e.DNS }, true),
	textColumn("ntp", "NTP", func(e *Entry) *string { return &e.NTP }, true),
	textColumn("timezone", "Time zone", func(e *Entry) *string { return &e.Zone }, true),
	listColumn("accounts", "Accounts", func(e *Entry) *[]string { return &e.Accounts }, true),
	textColumn("certificate", "Certificate (SHA-256)", func(e *Entry) *string { return &e.Certificate }, true),
	{"ports", "Open ports", func(e *Entry) any { return portsText(e.Ports) }, func(e *Entry, s string) { e.Ports = readPorts(s) }, true},
	listColumn("services", "Services", func(e *Entry) *[]string { return &e.Services }, true),
	{"checks", "Checks", func(e *Entry) any { return checksText(e.Checks) }, readChecks, true},
	{"checked_at", "Checked", func(e *Entry) any {
		if e.Checked == nil {
			return nil
		}
		return *e.Checked
	}, nil, false},
	{"left_out", "Left out", func(e *Entry) any { return map[bool]string{true: "yes"}[e.LeftOut] }, func(e *Entry, s string) { e.LeftOut = s == "yes" }, true},
	textColumn("remark", "Remark", func(e *Entry) *string { return &e.Remark }, true),
}

func init() { // settings that are folders of their own; the zone had its column before there were others
	at := 1 + slices.IndexFunc(columns, func(c column) bool { return c.name == "timezone" })
	for _, s := range slices.Backward(settings.All) {
		if s.Name == zone.Name {
			continue
		}
		name := strings.ReplaceAll(string(s.Name), " ", "_")
		newer = append(newer, name)
		columns = slices.Insert(columns, at, column{name, s.Title, func(e *Entry) any { return e.Settings[s.Name] }, func(e *Entry, text string) {
			if text == "" {
				return
			}
			if e.Settings == nil {
				e.Settings = setting.Values{}
			}
			e.Settings[s.Name] = text
		}, true})
	}
}

// listColumn is of a field that is a list of texts.
func listColumn(name, title string, field func(e *Entry) *[]string, compared bool) column {
	return column{name, title, func(e *Entry) any { return strings.Join(*field(e), listed) }, func(e *Entry, s string) {
		if s != "" {
			*field(e) = strings.Split(s, listed)
		}
	}, compared}
}

func portsText(ports []uint16) string {
	words := make([]string, len(ports))
	for i, p := range ports {
		words[i] = strconv.Itoa(int(p))
	}
	return strings.Join(words, " ")
}

func readPorts(s string) (out []uint16) {
	for _, w := range strings.Fields(s) {
		if n, err := strconv.ParseUint(w, 10, 16); err == nil {
			out = append(out, uint16(n))
		}
	}
	return out
}

// checksText sums checks up, those that did not pass first.
func checksText(checks []Checked) string {
	var out, passed []string
	for _, c := range checks {
		if c.Result == "passed" {
			passed = append(passed, c.Check)
			continue
		}
		out = append(out, c.Check+" "+c.Result)
	}
	if len(passed) > 0 {
		out = append(out, "passed: "+strings.Join(passed, " "))
	}
	return strings.Join(out, listed)
}

// readChecks reads what checksText sums up.
func readChecks(e *Entry, s string) {
	for _, part := range strings.Split(s, listed) {
		if list, ok := strings.CutPrefix(part, "passed: "); ok {
			for _, name := range strings.Fields(list) {
				e.Checks = append(e.Checks, Checked{Check: name, Result: "passed"})
			}
		} else if at := strings.LastIndexByte(part, ' '); at > 0 {
			e.Checks = append(e.Checks, Checked{Check: part[:at], Result: part[at+1:]})
		}
	}
}

// readFound reads where a device was found, as foundAt has it.
func readFound(e *Entry, s string) {
	text, dhcp := strings.CutSuffix(s, " DHCP")
	if p, err := netip.ParsePrefix(text); err == nil {
		e.AsFound = &device.Settings{Address: p.Addr(), Prefix: p.Bits(), DHCP: dhcp}
	}
}

// listed is between the words of a list in one cell.
const listed = "; "

// columnOf finds a column by its heading in one of the tables.
func columnOf(heading string) (column, bool) {
	for _, c := range columns {
		if strings.EqualFold(heading, c.name) || c.title != "" && strings.EqualFold(heading, c.title) {
			return c, true
		}
	}
	return column{}, false
}

// label is what people call a column.
func (c column) label() string { return strings.ToLower(cmp.Or(c.title, c.name)) }

// plain gives the value as text; a time as RFC 3339 has it.
func (c column) plain(e *Entry) string {
	switch v := c.value(e).(type) {
	case string:
		return v
	case time.Time:
		return v.Format(time.RFC3339)
	}
	return ""
}

// shown gives the value as people read it.
func (c column) shown(e *Entry) string {
	if at, ok := c.value(e).(time.Time); ok {
		return at.UTC().Format("2006-01-02 15:04 UTC")
	}
	return c.plain(e)
}

func provedAt(e *Entry) any {
	if e.Proved == nil {
		return nil
	}
	return *e.Proved
}

// readProved reads a time as the tables have it, or as a spreadsheet writes it anew.
func readProved(e *Entry, s string) {
	for _, form := range []string{time.RFC3339, "2006-01-02T15:04:05", time.DateTime, "2006-01-02 15:04"} {
		if at, err := time.Parse(form, s); err == nil {
			e.Proved = &at
			return
		}
	}
}
