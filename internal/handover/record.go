// Package handover writes the record that the client keeps: CSV, JSON and PDF.
// It never sees a password. The forms are specified in docs/register.md.
package handover

import (
	"bytes"
	"cmp"
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
	"janustat/core/open"
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
	Plan  Plan     `json:"plan"`
	Open  []string `json:"still_open"` // what is open, in words
	// Items are the same, one by one.
	Items   []OpenItem `json:"open"`
	Verdict Verdict    `json:"verdict"`

	knows map[string]bool   // columns that it was read with; nil is all
	site  map[string]string // facts of the site that it was read with, where it was no JSON; nil is those that follow from it
}

// OpenItem is one thing that is open.
type OpenItem struct {
	Device   string    `json:"device"` // "" is the whole job
	What     open.What `json:"what"`
	Text     string    `json:"text"`
	Urgency  string    `json:"urgency"` // now, work or note
	Check    string    `json:"check,omitempty"`
	Expected string    `json:"expected,omitempty"`
	Found    string    `json:"found,omitempty"`
	Since    time.Time `json:"since,omitzero"`
}

// Sentence tells it in one.
func (o OpenItem) Sentence() string { return strings.TrimSpace(o.Device + " " + o.Text) }

// Verdict is how the devices of a record fare, as computed from what is open. People accept a
// site; the program only says what was proved.
type Verdict struct {
	Devices  int    `json:"devices"` // of the job, in this record
	Proved   int    `json:"proved"`
	Finished bool   `json:"finished"`          // nothing is open but notes
	Part     int    `json:"part_of,omitempty"` // the devices of the whole job, where this is a part
	Words    string `json:"words"`
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
	// How it gets its address, and what it asks.
	Addressing string `json:"addressing"` // static; leased, by a reservation; "" is not set up
	DNS        string `json:"dns"`
	NTP        string `json:"ntp"`
	Zone       string `json:"timezone"` // as POSIX writes it
	// Accounts are the users that the job made or uses, with their levels.
	Accounts []string `json:"accounts,omitempty"`
	// Certificate is the SHA-256 of the one it shows over HTTPS, hexadecimal.
	Certificate string   `json:"certificate,omitempty"`
	Ports       []uint16 `json:"ports,omitempty"`    // TCP, that were seen open
	Services    []string `json:"services,omitempty"` // that it announces
	// Checks are those of its last proof, and when that was.
	Checks  []Checked  `json:"checks,omitempty"`
	Checked *time.Time `json:"checked_at,omitempty"`
	// LeftOut tells that it was set up by the job and left out of it later.
	LeftOut bool `json:"left_out,omitempty"`

	planned bool // as an earlier record has it, and not opened since
}

// Checked is one check of a proof.
type Checked struct {
	Check    string `json:"check"`
	Result   string `json:"result"` // passed, failed, refused or untested
	Expected string `json:"expected,omitempty"`
	Found    string `json:"found,omitempty"`
}

// Proof is the last proof of a device.
type Proof struct {
	At     time.Time
	Checks []Checked
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
	Site     string
	Ground   ground.Ground
	InClear  map[int64]bool              // by ID: it has a password that was set without encryption
	Notes    map[int64]map[string]string // by ID, and field
	Spans    []Span
	Open     []open.Item        // of the whole job
	Accounts map[int64][]string // by ID: users and their levels
	Proofs   map[int64]Proof    // by ID: the last one
	Plan     Plan
	Part     int // devices of the whole job, where the record is of a part; else 0
}

// New makes the record of the taken devices, and of those that were left out after they
// had been set up.
func New(f Facts, devices []device.Device) Record {
	r := Record{Site: f.Site, Ground: f.Ground, Devices: []Entry{}, Channels: []Channel{}, Spans: f.Spans, Plan: f.Plan, Open: []string{}, Items: []OpenItem{}}
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
	}
	r.judge(f)
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
		e.Weak, e.Certificate = d.TLS.Weak, d.TLS.Fingerprint
	}
	e.planned = d.Commissioned() && d.OpenedAt.IsZero()
	e.Accounts, e.Ports, e.Services = f.Accounts[d.ID], d.Ports, d.Offers
	if p, ok := f.Proofs[d.ID]; ok {
		at := p.At.UTC().Truncate(time.Second)
		e.Checks, e.Checked = p.Checks, &at
	}
	if s := d.AsLeft; s != nil {
		e.Address, e.Mask = s.Address.String(), ground.Mask(s.Prefix).String()
		if s.Gateway.IsValid() {
			e.Gateway = s.Gateway.String()
		}
		e.Addressing = "static"
		if s.DHCP {
			e.Addressing = "leased, by a reservation"
		}
		e.DNS, e.NTP, e.Zone = ground.List(s.DNS), ground.List(s.NTP), s.Zone
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

// judge computes the verdict of what is open.
func (r *Record) judge(f Facts) {
	here, of := map[string]bool{}, 0
	for _, e := range r.Devices {
		here[e.label()] = true
		if e.LeftOut {
			continue
		}
		if of++; e.Proved != nil {
			r.Verdict.Proved++
		}
	}
	in := map[open.What]map[string]bool{}
	refused, finished := 0, true
	for _, i := range f.Open {
		if i.What == open.Stale || f.Part > 0 && !here[i.Device] {
			continue // the record that is being made; what is of other devices
		}
		item := OpenItem{Device: i.Device, What: i.What, Text: i.Text, Urgency: i.Urgency.String(), Check: i.Check, Expected: i.Want, Found: i.Got}
		if !i.Since.IsZero() {
			item.Since = i.Since.UTC().Truncate(time.Second)
		}
		r.Items, r.Open = append(r.Items, item), append(r.Open, item.Sentence())
		if in[i.What] == nil {
			in[i.What] = map[string]bool{}
		}
		in[i.What][i.Device] = true
		if i.What == open.Refused {
			refused++
		}
		finished = finished && i.Urgency == open.Note
	}
	v := &r.Verdict
	v.Devices, v.Part, v.Finished = of, f.Part, finished && v.Proved == of && of > 0
	var words []string
	if v.Part > 0 {
		words = append(words, fmt.Sprintf("A part of the job: %d of its %s.", of, text.Plural(v.Part, "device")))
	}
	if v.Finished {
		all := fmt.Sprintf("All %d devices proved: every check passed", of)
		if of == 1 {
			all = "The device is proved: every check passed"
		}
		if refused > 0 {
			all += fmt.Sprintf(", except %s that devices refuse", text.Plural(refused, "setting"))
		}
		words = append(words, all+".")
	} else {
		words = append(words, fmt.Sprintf("Not finished: %d of %d devices proved.", v.Proved, of))
		for _, x := range []struct {
			what open.What
			told string
		}{
			{open.Failed, "failed a check"},
			{open.Silent, "did not answer"},
			{open.Alarm, "changed identity"},
			{open.Locked, "locked"},
			{open.Closed, "with an unknown password"},
			{open.Uncommission, "not set up"},
			{open.ByHand, "to be set up by hand"},
			{open.NoAddress, "without an address"},
			{open.SetApart, "set up by others and not decided on"},
			{open.Undecided, "found and not decided on"},
		} {
			if n := len(in[x.what]); n > 0 {
				words = append(words, fmt.Sprintf("%d %s.", n, x.told))
			}
		}
	}
	v.Words = strings.Join(words, " ")
}

// label is what an open item calls the device.
func (e *Entry) label() string { return cmp.Or(e.Tag, e.Serial, e.MAC.String()) }

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

// inClear is how the tables say that a password was set in the open.
const inClear = "set without encryption"

// passwordText says how the password was set, never what it is.
func passwordText(e Entry) string {
	if e.InClear {
		return inClear
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
