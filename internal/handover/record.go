// Package handover writes the record that the client keeps: CSV, JSON and PDF.
// It never sees a password. The forms are specified in docs/register.md.
package handover

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/text"
)

// Record is everything the documents tell.
type Record struct {
	Site    string        `json:"site"`
	Made    time.Time     `json:"made_at"`
	Ground  ground.Ground `json:"ground"`
	Devices []Entry       `json:"devices"`
	Open    []string      `json:"still_open"` // what is not finished, in words
}

// Entry is one device of the job as left.
type Entry struct {
	Tag      string           `json:"tag"`
	Kind     device.Kind      `json:"kind"`
	Name     string           `json:"name"`
	Make     string           `json:"make"`
	Model    string           `json:"model"`
	Serial   string           `json:"serial"`
	MAC      device.MAC       `json:"mac"`
	Firmware string           `json:"firmware"`
	Address  string           `json:"address"`
	Mask     string           `json:"mask"`
	Gateway  string           `json:"gateway"`
	Access   device.Access    `json:"access"`
	AsFound  *device.Settings `json:"as_found"`
	Proved   *time.Time       `json:"proved_at"`
	InClear  bool             `json:"password_set_without_encryption"`
	// Weak says what is weak about its encryption, in the standards' words.
	Weak []string `json:"weak_encryption,omitempty"`
	// LeftOut tells that it was set up by the job and left out of it later.
	LeftOut bool `json:"left_out,omitempty"`
}

// New makes the record of the taken devices, and of those that were left out after they
// had been set up. Devices come in the order given.
// inClear tells, by ID, those that have a password that was set without encryption.
func New(site string, g ground.Ground, devices []device.Device, inClear map[int64]bool, made time.Time) Record {
	r := Record{Site: site, Made: made.UTC().Truncate(time.Second), Ground: g, Devices: []Entry{}, Open: []string{}}
	for i := range devices {
		d := &devices[i]
		leftOut := d.InJob == device.Left && d.Commissioned()
		if d.InJob != device.Taken && !leftOut {
			continue
		}
		e := Entry{
			Tag: d.Tag, Kind: d.Kind, Name: d.Name, Make: d.Make, Model: d.Model, Serial: d.Serial, MAC: d.MAC,
			Firmware: d.Firmware, Access: d.Access, AsFound: d.AsFound, InClear: inClear[d.ID], LeftOut: leftOut,
		}
		if d.TLS != nil {
			e.Weak = d.TLS.Weak
		}
		if s := d.AsLeft; s != nil {
			e.Address, e.Mask = s.Address.String(), ground.Mask(s.Prefix).String()
			if s.Gateway.IsValid() {
				e.Gateway = s.Gateway.String()
			}
		}
		if !d.Proved.IsZero() {
			at := d.Proved.UTC().Truncate(time.Second)
			e.Proved = &at
		}
		r.Devices = append(r.Devices, e)
		r.Open = append(r.Open, open(d)...)
	}
	return r
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

var csvHead = []string{
	"tag", "kind", "name", "make", "model", "serial", "mac", "firmware", "address", "mask", "gateway", "access", "found_at", "proved_at", "password", "encryption",
}

// CSV writes the table of devices (RFC 4180).
func (r Record) CSV() ([]byte, error) {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.UseCRLF = true
	if err := w.Write(csvHead); err != nil {
		return nil, err
	}
	for _, e := range r.Devices {
		row := []string{
			e.Tag, string(e.Kind), e.Name, e.Make, e.Model, e.Serial, e.MAC.String(), e.Firmware,
			e.Address, e.Mask, e.Gateway, string(e.Access), foundAt(e.AsFound), proved(e.Proved), passwordText(e), strings.Join(e.Weak, "; "),
		}
		for i := range row {
			row[i], _ = text.Inert(row[i])
		}
		if err := w.Write(row); err != nil {
			return nil, err
		}
	}
	w.Flush()
	return b.Bytes(), w.Error()
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

func proved(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.Format(time.RFC3339)
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
