package handover

import (
	"bytes"
	"cmp"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/text"
	"janustat/internal/intake"
)

// ErrNoRecord is wrapped by what cannot be read as a record.
var ErrNoRecord = errors.New("it is not a handover record")

// Bounds of a record that is read: in bytes, and in devices.
const (
	maxRecord  = 64 << 20
	maxDevices = 20_000
)

// Read reads the record of an earlier pack: register.json, register.csv or register.xlsx, or
// the folder that they are in. The JSON holds all; the others the devices alone.
func Read(path string) (Record, error) {
	info, err := os.Stat(path)
	if err != nil {
		return Record{}, err
	}
	if info.IsDir() {
		for _, name := range []string{"register.json", filepath.Join("handover", "register.json")} {
			if _, err := os.Stat(filepath.Join(path, name)); err == nil {
				return Read(filepath.Join(path, name))
			}
		}
		return Record{}, fmt.Errorf("%s: %w: there is no register.json in it", path, ErrNoRecord)
	}
	data, err := intake.Read(path, maxRecord)
	if err != nil {
		return Record{}, err
	}
	var r Record
	switch strings.ToLower(filepath.Ext(path)) {
	case ".json":
		if err = json.Unmarshal(data, &r); err == nil {
			r.knows, r.site, err = known(data)
		}
	case ".csv":
		r, err = fromCSV(data)
	case ".xlsx":
		r, err = fromXLSX(data)
	default:
		err = errors.New("a .json, .csv or .xlsx is wanted")
	}
	if err == nil && len(r.Devices) == 0 {
		err = errors.New("there are no devices in it")
	}
	if err == nil {
		err = r.check()
	}
	if err != nil {
		return r, fmt.Errorf("%s: %w: %w", path, ErrNoRecord, err)
	}
	r.harmless()
	return r, nil
}

// newer are the columns that came later than the others, and that records before them did not
// have.
var newer = []string{"addressing", "dns", "ntp", "timezone", "accounts", "certificate", "ports", "services", "checks"}

// known tells which columns a record in JSON has; nil is all, and all of the site's facts.
func known(data []byte) (columnsOf map[string]bool, site map[string]string, err error) {
	var raw struct {
		Devices []map[string]json.RawMessage `json:"devices"`
		Plan    json.RawMessage              `json:"plan"`
		Ground  ground.Ground                `json:"ground"`
	}
	if err := json.Unmarshal(data, &raw); err != nil {
		return nil, nil, err
	}
	if raw.Plan != nil {
		return nil, nil, nil
	}
	columnsOf = map[string]bool{}
	for _, c := range columns {
		columnsOf[c.name] = !slices.Contains(newer, c.name)
	}
	site = map[string]string{}
	for _, f := range (&Record{Ground: raw.Ground}).siteFacts()[:4] {
		site[f.Name] = f.Value
	}
	return columnsOf, site, nil
}

// tagForm is that of the tags which devices are given: a tag becomes the name of files and
// hosts.
var tagForm = regexp.MustCompile(`^[CDIPRX][0-9]{2,4}$`)

// check refuses what no record of ours has.
func (r *Record) check() error {
	if len(r.Devices) > maxDevices {
		return fmt.Errorf("it has more than %d devices", maxDevices)
	}
	for i := range r.Devices {
		if t := r.Devices[i].Tag; t != "" && !tagForm.MatchString(t) {
			return fmt.Errorf("device %d: %q cannot be a tag: a letter of C D I P R X and 2 to 4 digits", i+1, text.Harmless(t, text.Short, nil))
		}
	}
	return nil
}

// harmless makes what comes from a file fit to be kept and shown.
func (r *Record) harmless() {
	site := text.Harmless(r.Site, maxTitle, nil)
	text.Each(r, func(s string) string { return text.Harmless(s, text.Long, nil) })
	r.Site = site
}

func fromCSV(data []byte) (Record, error) {
	var r Record
	rows := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))))
	rows.FieldsPerRecord = -1
	head, err := rows.Read()
	if err != nil {
		return r, err
	}
	r.headed(head, device.Camera)
	r.site = map[string]string{}
	for {
		row, err := rows.Read()
		if errors.Is(err, io.EOF) {
			return r, nil
		}
		if err != nil {
			return r, err
		}
		if e, ok := entryOf(head, row, ""); ok {
			r.Devices = append(r.Devices, e)
		}
	}
}

func fromXLSX(data []byte) (Record, error) {
	var r Record
	f, err := intake.OpenWorkbook(data)
	if err != nil {
		return r, err
	}
	defer f.Close()
	for _, kind := range device.Kinds {
		rows, err := f.Rows(kindSheets[kind], false)
		if err != nil {
			return r, err
		}
		if len(rows) == 0 {
			continue // a kind that the site has none of
		}
		r.headed(rows[0], kind)
		for _, row := range rows[1:] {
			if e, ok := entryOf(rows[0], row, kind); ok {
				r.Devices = append(r.Devices, e)
			}
		}
	}
	r.site = map[string]string{}
	for sheet, read := range map[string]func(row []string){
		"Site": func(row []string) { r.site[row[0]] = row[1] },
		"Channels": func(row []string) {
			n, _ := strconv.Atoi(row[1])
			r.Channels = append(r.Channels, Channel{Recorder: row[0], Number: n, Camera: row[2], Name: row[3], Address: row[4], State: row[5]})
		},
	} {
		rows, err := f.Rows(sheet, false)
		if err != nil {
			return r, err
		}
		for i, row := range rows {
			if i > 0 {
				read(append(row, make([]string, 6)...))
			}
		}
	}
	r.takeSite(r.site)
	return r, nil
}

// headed notes which columns a table has: those of all its sheets.
func (r *Record) headed(head []string, kind device.Kind) {
	if r.knows == nil {
		r.knows = map[string]bool{"kind": kind != ""}
	}
	for _, h := range head {
		if c, ok := columnOf(h); ok {
			r.knows[c.name] = true
		}
	}
}

// entryOf reads a row, by its headings: those of register.csv, or of the workbook.
func entryOf(head, row []string, kind device.Kind) (Entry, bool) {
	e := Entry{Kind: kind, Own: map[string]string{}}
	for i, h := range head {
		if i >= len(row) || row[i] == "" {
			continue
		}
		value := strings.TrimPrefix(row[i], "'") // which kept it from being a formula
		if c, ok := columnOf(h); !ok {
			e.Own[strings.ToLower(h)] = value
		} else if c.set != nil {
			c.set(&e, value)
		}
	}
	return e, e.Tag != "" || !e.MAC.IsZero()
}

// Difference is what one record has otherwise than an earlier one.
type Difference struct {
	Tag  string `json:"tag"`
	What string `json:"what"` // new, gone, or the field that differs
	From string `json:"from,omitempty"`
	To   string `json:"to,omitempty"`
}

// Compare tells what is otherwise in a later record, device by device: they are told by MAC,
// and those without one by tag. A replaced device keeps its tag, and is told as such.
func Compare(earlier, later Record) (out []Difference) {
	was := map[string]Entry{}
	byTag := map[string]Entry{}
	for _, e := range earlier.Devices {
		was[e.id()], byTag[e.Tag] = e, e
	}
	seen := map[string]bool{}
	for _, e := range later.Devices {
		old, ok := was[e.id()]
		if !ok {
			if replaced, same := byTag[e.Tag]; same && e.Tag != "" {
				out = append(out, Difference{e.Tag, "replaced", replaced.MAC.String(), e.MAC.String()})
				old, ok = replaced, true
			}
		}
		if !ok {
			out = append(out, Difference{Tag: e.Tag, What: "new", To: e.MAC.String()})
			continue
		}
		seen[old.id()] = true
		out = append(out, differences(earlier, later, old, e)...)
	}
	for _, e := range earlier.Devices {
		if !seen[e.id()] {
			out = append(out, Difference{Tag: e.Tag, What: "gone", From: e.MAC.String()})
		}
	}
	return append(out, siteDifferences(earlier, later)...)
}

// both reports whether both records know a column.
func both(a, b Record, column string) bool {
	return (a.knows == nil || a.knows[column]) && (b.knows == nil || b.knows[column])
}

// siteDifferences are those of the site as a whole, and of recorder channels.
func siteDifferences(a, b Record) (out []Difference) {
	facts := func(r Record) map[string]string {
		if r.site != nil {
			return r.site
		}
		out := map[string]string{}
		for _, f := range r.siteFacts() {
			out[f.Name] = f.Value
		}
		return out
	}
	was, is := facts(a), facts(b)
	for _, f := range (&Record{}).siteFacts() { // in their order
		from, had := was[f.Name]
		to, has := is[f.Name]
		if had && has && from != to {
			out = append(out, Difference{What: "site: " + strings.ToLower(f.Name), From: from, To: to})
		}
	}
	if len(a.site) == 0 && a.site != nil || len(b.site) == 0 && b.site != nil {
		return out // a table of devices alone knows of no channels
	}
	channels := func(r Record) map[[2]string]string {
		out := map[[2]string]string{}
		for _, c := range r.Channels {
			out[[2]string{c.Recorder, fmt.Sprintf("channel %d", c.Number)}] = c.Camera
		}
		return out
	}
	before, after := channels(a), channels(b)
	all := maps.Clone(before)
	maps.Copy(all, after)
	keys := slices.SortedFunc(maps.Keys(all), func(x, y [2]string) int { return cmp.Or(text.Natural(x[0], y[0]), text.Natural(x[1], y[1])) })
	for _, k := range keys {
		if before[k] != after[k] {
			out = append(out, Difference{k[0], k[1], before[k], after[k]})
		}
	}
	return out
}

func (e Entry) id() string {
	if e.MAC.IsZero() {
		return "tag " + e.Tag
	}
	return e.MAC.String()
}

// ofItself are columns that a device has told, and that are not known of one that was only taken
// over from a record.
var ofItself = []string{"access", "password", "password_held_by", "encryption", "stream", "accounts", "certificate", "ports", "services", "checks", "found_at", "joined"}

func differences(earlier, later Record, a, b Entry) (out []Difference) {
	yes := func(t *time.Time) string {
		if t == nil {
			return "no"
		}
		return "yes"
	}
	tell := func(what, from, to string) {
		if from != to {
			out = append(out, Difference{b.Tag, what, from, to})
		}
	}
	for _, c := range columns {
		if c.compared && both(earlier, later, c.name) && !((a.planned || b.planned) && slices.Contains(ofItself, c.name)) {
			tell(c.label(), c.plain(&a), c.plain(&b))
		}
	}
	if both(earlier, later, "proved_at") && !a.planned && !b.planned {
		tell("proved", yes(a.Proved), yes(b.Proved))
	}
	own := maps.Clone(a.Own)
	if own == nil {
		own = map[string]string{}
	}
	maps.Copy(own, b.Own)
	for _, field := range slices.Sorted(maps.Keys(own)) {
		tell(field, a.Own[field], b.Own[field])
	}
	return out
}

// Device gives an entry as a device of a new job: in it, with the address it had, and with
// no key on that job's keyring. links are what it knows of others.
func (e Entry) Device(now time.Time, links []device.Link) device.Device {
	d := device.Device{
		Tag: e.Tag, MAC: e.MAC, FirstSeen: now,
		Facts: device.Facts{Kind: e.Kind, Make: e.Make, Model: e.Model, Serial: e.Serial, Firmware: e.Firmware, Name: e.Name, Access: device.Sealed, Indoor: strings.HasPrefix(e.Tag, "I")},
	}
	d.Apply(device.Chosen{At: now, Choice: device.Taken})
	d.Ports, d.Offers = e.Ports, e.Services
	if s, ok := e.settings(); ok {
		d.Apply(device.Allotment{At: now, Settings: s, Why: "as in the record it began from"})
		left := s
		if left.Name = e.Name; e.AsLeft != nil {
			left = *e.AsLeft
		} else {
			left.DNS, left.NTP, left.Zone = addresses(e.DNS), addresses(e.NTP), e.Zone
		}
		d.Apply(device.TakenOver{Left: &left, Found: e.AsFound, Links: links})
	}
	if e.LeftOut {
		d.Apply(device.Chosen{At: now, Choice: device.Left})
	}
	return d
}

// addresses reads a list as the tables have it.
func addresses(s string) (out []netip.Addr) {
	for _, w := range strings.FieldsFunc(s, func(r rune) bool { return r == ' ' || r == ',' }) {
		if a, err := netip.ParseAddr(w); err == nil {
			out = append(out, a)
		}
	}
	return out
}

// settings gives the address that an entry has, false without a whole one.
func (e Entry) settings() (s device.Settings, ok bool) {
	if e.AsLeft != nil && e.AsLeft.Address.Is4() && e.AsLeft.Prefix > 0 {
		return device.Settings{Address: e.AsLeft.Address, Prefix: e.AsLeft.Prefix, Gateway: e.AsLeft.Gateway, DHCP: e.AsLeft.DHCP}, true
	}
	subnet, err := ground.ParseSubnet(e.Address + "/" + e.Mask)
	if err != nil {
		return s, false
	}
	s.Prefix = subnet.Bits()
	if err := s.Address.UnmarshalText([]byte(e.Address)); err != nil || !s.Address.Is4() {
		return s, false
	}
	if e.Gateway != "" {
		if err := s.Gateway.UnmarshalText([]byte(e.Gateway)); err != nil {
			return s, false
		}
	}
	return s, true
}

// Listed makes a record of what somebody's own list says of devices, a row each, by the names of
// columns. What a row leaves out is not known, and is as the other record has it of that device,
// which is found by its MAC, its serial number or, where the row has neither, its tag.
func Listed(rows []map[string]string, other Record) Record {
	out := Record{site: map[string]string{}}
	for _, row := range rows {
		at := slices.IndexFunc(other.Devices, func(e Entry) bool {
			switch {
			case row["mac"] != "":
				return e.MAC.String() == row["mac"]
			case row["serial"] != "":
				return strings.EqualFold(e.Serial, row["serial"])
			}
			return row["tag"] != "" && e.Tag == row["tag"]
		})
		e := Entry{Tag: row["tag"]}
		if at >= 0 {
			e = other.Devices[at]
			e.Joined, e.Accounts = slices.Clone(e.Joined), slices.Clone(e.Accounts)
		}
		for _, c := range columns {
			if v := row[c.name]; v != "" && c.set != nil && !(c.name == "serial" && strings.EqualFold(v, e.Serial)) && (at < 0 || c.name != "kind" && (c.name != "tag" || tagForm.MatchString(v))) { // which people call as they like
				c.set(&e, v)
			}
		}
		if e.MAC.IsZero() && e.Tag == "" {
			e.Tag = cmp.Or(e.Serial, e.Name) // by which it is shown
		}
		out.Devices = append(out.Devices, e)
	}
	out.harmless()
	return out
}
