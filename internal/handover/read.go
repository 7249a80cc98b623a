package handover

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
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
var newer = []string{"addressing", "dns", "ntp", "timezone", "accounts", "certificate", "ports", "services", "checks", "transport"}

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
			left.DNS, left.NTP, left.Zone, left.Values = addresses(e.DNS), addresses(e.NTP), e.Zone, e.Settings
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
