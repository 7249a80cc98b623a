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
	// Authority is the site's own; nil where it has none.
	Authority *Authority `json:"authority,omitempty"`

	knows map[string]bool   // columns that it was read with; nil is all
	site  map[string]string // facts of the site that it was read with, where it was no JSON; nil is those that follow from it
}

// Authority is what is to be known of the site's own certification authority.
type Authority struct {
	SHA256  string         `json:"sha256"`  // of its certificate, hexadecimal
	Subnets []netip.Prefix `json:"subnets"` // that it may vouch for
}

// Verdict is how the devices of a record fare, as computed from what is open. People accept a
// site; the program only says what was proved.
type Verdict struct {
	Devices  int    `json:"devices"` // of the job, in this record
	Proved   int    `json:"proved"`
	Finished bool   `json:"finished"`          // nothing is open but notes
	Part     int    `json:"part_of,omitempty"` // the devices of the whole job, where this is a part
	Words    string `json:"words"`
}

// New makes the record of the taken devices, and of those that were left out after they
// had been set up.
func New(f Material, devices []device.Device) Record {
	r := Record{Site: f.Site, Ground: f.Ground, Devices: []Entry{}, Channels: []Channel{}, Spans: f.Spans, Plan: f.Plan, Open: []string{}, Items: []OpenItem{}, Authority: f.Authority}
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
func (r *Record) judge(f Material) {
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
