package handover

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"janustat/core/text"
)

// Paper is what documents are printed on.
type Paper string

// The papers.
const (
	A4     Paper = "A4"
	Letter Paper = "Letter"
)

// size gives a paper's width and height upright, in millimetres.
func (p Paper) size() (wide, tall float64) {
	if p == Letter {
		return 215.9, 279.4
	}
	return 210, 297
}

// Options are how the pack is made.
type Options struct {
	Paper Paper
	Sheet LabelSheet
	// Stills are pictures of cameras, as JPEG, by tag; they may be left out.
	Stills map[string][]byte
	// Changes are what was done since a moment, for a service visit; nil is not asked for.
	Changes []Deed
	// Root is the certificate of the site's authority, as PEM; nil where it has none.
	Root []byte
	// Passwords are the client's, encrypted, as a file of age; nil is not asked for.
	Passwords []byte
}

// Deed is one thing that was done to a device.
type Deed struct {
	Tag, Name string
	At        time.Time
	What      string
}

// changes is the table of what was done.
func changes(list []Deed) ([]byte, error) {
	rows := [][]string{{"tag", "name", "at", "what"}}
	for _, c := range list {
		rows = append(rows, []string{c.Tag, c.Name, c.At.UTC().Format(time.RFC3339), c.What})
	}
	return table(rows)
}

// The files that are not in every pack, and the one that lists all and comes last.
const (
	AuthorityFile = "authority.pem"
	ChangesFile   = "changes.csv"
	PasswordsFile = "passwords.age" // encrypted
	SignatureFile = "manifest.json.sig"
	ManifestFile  = "manifest.json"
)

// Document is one file of the pack.
type Document struct {
	Name string
	Data []byte
}

// Pack makes every document, and the manifest last. The same record and options give the
// same bytes.
func (r Record) Pack(o Options) ([]Document, error) {
	var out []Document
	for _, d := range []struct {
		name string
		make func() ([]byte, error)
	}{
		{"register.csv", r.CSV},
		{"register.json", r.JSON},
		{"register.xlsx", r.XLSX},
		{"handover.pdf", func() ([]byte, error) { return r.PDF(o) }},
		{"handover.html", func() ([]byte, error) { return r.HTML(o) }},
		{"labels.pdf", func() ([]byte, error) { return r.Labels(o) }},
		{"reservations.csv", r.Reservations},
		{"reservations.txt", r.ReservationLines},
		{"hosts", r.Hosts},
		{"targets.json", r.Targets},
	} {
		data, err := d.make()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", d.name, err)
		}
		out = append(out, Document{d.name, data})
	}
	if o.Root != nil {
		out = append(out, Document{AuthorityFile, o.Root})
	}
	if o.Changes != nil {
		data, err := changes(o.Changes)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", ChangesFile, err)
		}
		out = append(out, Document{ChangesFile, data})
	}
	if o.Passwords != nil {
		out = append(out, Document{PasswordsFile, o.Passwords})
	}
	manifest, err := r.manifest(out)
	return append(out, Document{ManifestFile, manifest}), err
}

// manifest lists the files with their hashes.
func (r Record) manifest(docs []Document) ([]byte, error) {
	type file struct {
		Name   string `json:"name"`
		Bytes  int    `json:"bytes"`
		SHA256 string `json:"sha256"`
	}
	m := struct {
		Site  string    `json:"site"`
		Made  time.Time `json:"made_at"`
		Files []file    `json:"files"`
	}{Site: r.Site, Made: r.Made}
	for _, d := range docs {
		h := sha256.Sum256(d.Data)
		m.Files = append(m.Files, file{d.Name, len(d.Data), hex.EncodeToString(h[:])})
	}
	return indented(m)
}

func indented(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	err := e.Encode(v)
	return b.Bytes(), err
}

// settled are the devices that have an address, each once.
func (r Record) settled() (out []Entry) {
	for _, e := range r.Devices {
		if e.Address != "" && !e.LeftOut {
			out = append(out, e)
		}
	}
	return out
}

// Reservations is the table of addresses for whoever runs the site's DHCP server: those
// that are static are to be kept out of its pool, those that are leased to be reserved.
func (r Record) Reservations() ([]byte, error) {
	rows := [][]string{{"address", "mac", "tag", "name", "how"}}
	for _, e := range r.settled() {
		how := "static on the device"
		if e.AsLeft.DHCP {
			how = "leased: reserve it"
		}
		rows = append(rows, []string{e.Address, e.MAC.String(), e.Tag, e.Name, how})
	}
	return table(rows)
}

// ReservationLines says the same in words, a line each.
func (r Record) ReservationLines() ([]byte, error) {
	var b bytes.Buffer
	for _, e := range r.settled() {
		fmt.Fprintf(&b, "reserve %s for %s, %s\n", e.Address, e.MAC, e.Tag)
	}
	return b.Bytes(), nil
}

// Hosts is a table of host names (hosts(5)): each device by its tag, and by its name.
func (r Record) Hosts() ([]byte, error) {
	var b bytes.Buffer
	fmt.Fprintf(&b, "# %s, %s\n", text.Harmless(r.Site, text.Short, nil), r.Made.Format(time.DateOnly))
	for _, e := range r.settled() {
		fmt.Fprintf(&b, "%s\t%s", e.Address, strings.ToLower(e.Tag))
		if name := hostName(e.Name); name != "" && name != strings.ToLower(e.Tag) {
			b.WriteString(" " + name)
		}
		b.WriteByte('\n')
	}
	return b.Bytes(), nil
}

// hostName makes a host name of a device's (RFC 1123, 2.1): letters, digits and hyphens.
func hostName(name string) string {
	var b strings.Builder
	for _, c := range strings.ToLower(name) {
		switch {
		case c >= 'a' && c <= 'z' || c >= '0' && c <= '9':
			b.WriteRune(c)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	s := b.String()
	return strings.TrimRight(s[:min(len(s), 63)], "-")
}

// Targets is a list for monitoring: what to ask, where, and how each is told apart.
func (r Record) Targets() ([]byte, error) {
	type target struct {
		Targets []string          `json:"targets"`
		Labels  map[string]string `json:"labels"`
	}
	out := []target{}
	for _, e := range r.settled() {
		if _, err := netip.ParseAddr(e.Address); err != nil {
			continue
		}
		out = append(out, target{[]string{e.Address}, map[string]string{"tag": e.Tag, "kind": string(e.Kind), "name": e.Name, "site": r.Site}})
	}
	return indented(out)
}
