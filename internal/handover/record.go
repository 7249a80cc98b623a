// Package handover writes the record that the client keeps: CSV, JSON and PDF.
// It never sees a password. The forms are specified in docs/register.md.
package handover

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/text"
)

// Record is everything the documents tell.
type Record struct {
	Site string `json:"site"`
	// Made is the moment that the record is of: when something in it changed last. So the
	// same state of a job gives the same documents.
	Made    time.Time     `json:"made_at"`
	Ground  ground.Ground `json:"ground"`
	Devices []Entry       `json:"devices"`
	// Channels are those of all recorders, in order.
	Channels []Channel `json:"channels"`
	// Spans are what the address plan has beside the devices: kept clear, pools, what others use.
	Spans []Span   `json:"address_plan"`
	Open  []string `json:"still_open"` // what is not finished, in words

	excepted int // things that a proved device refuses, and that are among those open
}

// Entry is one device of the job as left.
type Entry struct {
	Tag      string           `json:"tag"`
	Kind     device.Kind      `json:"kind"`
	Name     string           `json:"name"`
	Place    string           `json:"place"`
	Make     string           `json:"make"`
	Model    string           `json:"model"`
	Serial   string           `json:"serial"`
	MAC      device.MAC       `json:"mac"`
	Firmware string           `json:"firmware"`
	Address  string           `json:"address"`
	Mask     string           `json:"mask"`
	Gateway  string           `json:"gateway"`
	Port     string           `json:"switch_port"`
	Remark   string           `json:"remark"`
	Access   device.Access    `json:"access"`
	AsFound  *device.Settings `json:"as_found"`
	AsLeft   *device.Settings `json:"as_left"`
	Proved   *time.Time       `json:"proved_at"`
	InClear  bool             `json:"password_set_without_encryption"`
	// Custody says who holds the password.
	Custody string `json:"password_held_by"`
	// Joined says whom it works with, and how that was when it was read last.
	Joined []string `json:"joined,omitempty"`
	Stream string   `json:"stream,omitempty"` // codec, size and where
	// Own are fields of the installer's own.
	Own map[string]string `json:"own,omitempty"`
	// Weak says what is weak about its encryption, in the standards' words.
	Weak []string `json:"weak_encryption,omitempty"`
	// LeftOut tells that it was set up by the job and left out of it later.
	LeftOut bool `json:"left_out,omitempty"`
}

// Channel is one channel of a recorder.
type Channel struct {
	Recorder string `json:"recorder"`
	Number   int    `json:"channel"`
	Camera   string `json:"camera"`
	Name     string `json:"name"`
	Address  string `json:"address"`
	State    string `json:"state"`
}

// Span is a range of addresses and what it is for.
type Span struct {
	From netip.Addr `json:"from"`
	To   netip.Addr `json:"to"`
	Why  string     `json:"why"`
	Pool bool       `json:"pool,omitempty"` // of a DHCP server
}

// Facts are what a record is made of, beside the devices, which come in the order given.
type Facts struct {
	Site    string
	Ground  ground.Ground
	InClear map[int64]bool              // by ID: it has a password that was set without encryption
	Notes   map[int64]map[string]string // by ID, and field
	Spans   []Span
	// Excepted are, by ID, things that a device that is proved has not as it should, since it
	// takes them in no way.
	Excepted map[int64][]string
}

// New makes the record of the taken devices, and of those that were left out after they
// had been set up.
func New(f Facts, devices []device.Device) Record {
	r := Record{Site: f.Site, Ground: f.Ground, Devices: []Entry{}, Channels: []Channel{}, Spans: f.Spans, Open: []string{}}
	joined := r.join(devices)
	for i := range devices {
		d := &devices[i]
		leftOut := d.InJob == device.Left && d.Commissioned()
		if d.InJob != device.Taken && !leftOut {
			continue
		}
		for _, at := range []time.Time{d.ChangedAt, d.Proved} {
			if at.After(r.Made) {
				r.Made = at
			}
		}
		r.Devices = append(r.Devices, entry(d, f, joined[d.Tag], leftOut))
		r.Open = append(r.Open, open(d)...)
		if d.InJob == device.Taken && !d.Proved.IsZero() {
			for _, what := range f.Excepted[d.ID] {
				r.Open, r.excepted = append(r.Open, d.Tag+" "+what), r.excepted+1
			}
		}
	}
	r.Made = r.Made.UTC().Truncate(time.Second)
	return r
}

func entry(d *device.Device, f Facts, joined []string, leftOut bool) Entry {
	e := Entry{
		Tag: d.Tag, Kind: d.Kind, Name: d.Name, Make: d.Make, Model: d.Model, Serial: d.Serial, MAC: d.MAC,
		Firmware: d.Firmware, Access: d.Access, AsFound: d.AsFound, AsLeft: d.AsLeft, InClear: f.InClear[d.ID], LeftOut: leftOut, Joined: joined,
	}
	for field, value := range f.Notes[d.ID] {
		switch field {
		case "place":
			e.Place = value
		case "port":
			e.Port = value
		case "remark":
			e.Remark = value
		default:
			if e.Own == nil {
				e.Own = map[string]string{}
			}
			e.Own[field] = value
		}
	}
	switch {
	case d.Access == device.Keyed || d.Access == device.Factory:
		e.Custody = "the installer, on the job's keyring"
	case d.Access == device.Sealed:
		e.Custody = "nobody known"
	}
	if d.TLS != nil {
		e.Weak = d.TLS.Weak
	}
	if s := d.AsLeft; s != nil {
		e.Address, e.Mask = s.Address.String(), ground.Mask(s.Prefix).String()
		if s.Gateway.IsValid() {
			e.Gateway = s.Gateway.String()
		}
		if k := d.Stream; k != nil {
			e.Stream = strings.TrimSpace(k.Codec + " " + k.Size())
		}
	}
	if !d.Proved.IsZero() {
		at := d.Proved.UTC().Truncate(time.Second)
		e.Proved = &at
	}
	return e
}

// join tells whom each device works with, by tag, and lists the channels.
func (r *Record) join(devices []device.Device) map[string][]string {
	joined, byTag := map[string][]string{}, map[string]*device.Device{}
	for i := range devices {
		if devices[i].InJob == device.Taken {
			byTag[devices[i].Tag] = &devices[i]
		}
	}
	for i := range devices {
		d := &devices[i]
		if d.InJob != device.Taken {
			continue
		}
		for _, k := range d.Links {
			switch k.Kind {
			case "channel":
				c := Channel{Recorder: d.Tag, Number: k.Number, Camera: k.Peer, State: k.State}
				if camera := byTag[k.Peer]; camera != nil {
					c.Name, c.Address = camera.Name, addressOf(camera)
				}
				r.Channels = append(r.Channels, c)
				joined[k.Peer] = append(joined[k.Peer], fmt.Sprintf("%s channel %d: %s", d.Tag, k.Number, k.State))
			case "pair":
				joined[d.Tag] = append(joined[d.Tag], fmt.Sprintf("pair with %s: %s", k.Peer, k.State))
			default:
				joined[d.Tag] = append(joined[d.Tag], fmt.Sprintf("reports to %s: %s", k.Peer, k.State))
			}
		}
	}
	return joined
}

func addressOf(d *device.Device) string {
	if d.AsLeft == nil {
		return ""
	}
	return d.AsLeft.Address.String()
}

// Taken reports whether a field's name is one of the record itself, and so no note's.
func Taken(field string) bool {
	_, own := columnOf(field)
	return own && field != "place" && field != "remark"
}

// Custody tells who holds the passwords, and of how many devices; never what they are.
func (r *Record) Custody() (out []string) {
	holds := map[string]int{}
	for _, e := range r.Devices {
		if e.Custody != "" {
			holds[e.Custody]++
		}
	}
	for _, who := range slices.Sorted(maps.Keys(holds)) {
		out = append(out, fmt.Sprintf("Passwords of %s are held by %s.", text.Plural(holds[who], "device"), who))
	}
	return out
}

// Held says how the checks of the devices that are proved went.
func (r Record) Held() string {
	if r.excepted > 0 {
		return "every check held, but for " + text.Plural(r.excepted, "thing") + " that devices refuse (see “Still open”)"
	}
	return "every check held"
}

// Fields gives the names of the installer's own fields, sorted.
func (r *Record) Fields() []string {
	seen := map[string]bool{}
	for _, e := range r.Devices {
		for f := range e.Own {
			seen[f] = true
		}
	}
	return slices.Sorted(maps.Keys(seen))
}

// open tells what is not finished about a device.
func open(d *device.Device) []string {
	switch {
	case d.InJob == device.Left:
		return []string{fmt.Sprintf("%s was set up and then left out of the job: it keeps %s and its password", d.Tag, d.AsLeft.Address)}
	case d.Alarm != "":
		return []string{fmt.Sprintf("%s is not what it was: it %s", d.Tag, strings.TrimPrefix(d.Alarm, "it "))}
	case !d.ResetAt.IsZero():
		return []string{d.Tag + " was reset and has not been brought back"}
	case d.AsLeft == nil && d.Allotted == nil:
		return []string{d.Tag + " has no address allotted yet"}
	case d.AsLeft == nil:
		return []string{d.Tag + " is not commissioned yet"}
	case d.Proved.IsZero():
		return []string{d.Tag + " is commissioned and not proved yet"}
	case d.AsLeft.DHCP:
		return []string{fmt.Sprintf("%s takes nothing but a lease: the site's DHCP server has to keep %s for %s", d.Tag, d.AsLeft.Address, d.MAC)}
	}
	return nil
}

// CSV writes the table of devices (RFC 4180).
func (r Record) CSV() ([]byte, error) {
	fields := r.Fields()
	var head []string
	for _, c := range columns {
		head = append(head, c.name)
	}
	rows := [][]string{append(head, fields...)}
	for _, e := range r.Devices {
		var row []string
		for _, c := range columns {
			row = append(row, c.plain(&e))
		}
		for _, f := range fields {
			row = append(row, e.Own[f])
		}
		rows = append(rows, row)
	}
	return table(rows)
}

// table writes rows as CSV (RFC 4180), with nothing in them that a spreadsheet would run.
func table(rows [][]string) ([]byte, error) {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.UseCRLF = true
	for _, row := range rows {
		for i := range row {
			row[i], _ = text.Inert(row[i])
		}
	}
	err := w.WriteAll(rows)
	return b.Bytes(), err
}

func foundAt(s *device.Settings) string {
	if s == nil || !s.Address.IsValid() {
		return ""
	}
	text := s.Address.String() + "/" + strconv.Itoa(s.Prefix)
	if s.DHCP {
		text += " DHCP"
	}
	return text
}

// passwordText says how the password was set, never what it is.
func passwordText(e Entry) string {
	if e.InClear {
		return "set without encryption"
	}
	return ""
}

// WeaklyEncrypted tells what is weak about the encryption of devices, a line each.
func (r Record) WeaklyEncrypted() (out []string) {
	for _, e := range r.Devices {
		if len(e.Weak) > 0 {
			out = append(out, e.Tag+" ("+strings.Join(e.Weak, ", ")+")")
		}
	}
	return out
}

// InClear lists the tags of devices with a password that was set without encryption.
func (r Record) InClear() (tags []string) {
	for _, e := range r.Devices {
		if e.InClear {
			tags = append(tags, e.Tag)
		}
	}
	return tags
}

// JSON writes the whole record.
func (r Record) JSON() ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	if err := e.Encode(r); err != nil {
		return nil, fmt.Errorf("record: %w", err)
	}
	return b.Bytes(), nil
}

// Counts gives the number of devices of each kind that occurs, in the kinds' order.
func (r Record) Counts() []Count {
	var out []Count
	for _, k := range device.Kinds {
		n := 0
		for _, e := range r.Devices {
			if e.Kind == k {
				n++
			}
		}
		if n > 0 {
			out = append(out, Count{k, n})
		}
	}
	return out
}

// Count is a number of devices of one kind.
type Count struct {
	Kind device.Kind
	N    int
}
