// Package schedule reads a planner's list of devices, a spreadsheet or a CSV file, by the
// meaning of its headings.
package schedule

import (
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"sync"

	"janustat/core/device"
	"janustat/core/text"
)

// Column is what a column means.
type Column string

// The meanings; any other heading is a field of the planner's own.
const (
	Tag     Column = "tag"
	Kind    Column = "kind"
	Name    Column = "name"
	Place   Column = "place"
	MAC     Column = "mac"
	Serial  Column = "serial"
	Channel Column = "channel"
	Switch  Column = "switch"
	Port    Column = "port"
	Address Column = "address"
	Remark  Column = "remark"
)

// Columns are all meanings.
var Columns = []Column{Tag, Kind, Name, Place, MAC, Serial, Channel, Switch, Port, Address, Remark}

// Heading is a column as it was understood.
type Heading struct {
	Text  string
	Means Column // "" is a field of the planner's own
}

// Row is one device of the list.
type Row struct {
	Sheet  string // of a workbook; "" where there is one alone
	Line   int    // in the file or sheet, from 1
	Fields map[Column]string
	Own    map[string]string
	MAC    device.MAC // zero where it has none in full
	At     netip.Addr // the address that it is to have, if any
	Ending string     // hexadecimal digits that its MAC ends with, where it has no more
}

// SwitchPort joins the switch and its port, as far as the row has them.
func (r *Row) SwitchPort() string {
	switch s, p := r.Fields[Switch], r.Fields[Port]; {
	case s == "":
		return p
	case p == "":
		return s
	default:
		return s + "/" + p
	}
}

// List is what was read.
type List struct {
	Headings []Heading
	Rows     []Row
	Doubts   []string // what the reader is to look at
}

// ErrNoHead is returned for a list without headings that mean anything here.
var ErrNoHead = errors.New("no row of headings was found: at least a MAC or a serial number, and a name or a place")

// Reading is how a list is read.
type Reading struct {
	Sheet string            // of a workbook, by its name; "" is every one that has headings
	Means map[string]Column // what headings mean, in small letters, by a person's word
}

// add takes the rows of a sheet over.
func (l *List) add(more List, where string) {
	for _, h := range more.Headings {
		if !slices.Contains(l.Headings, h) {
			l.Headings = append(l.Headings, h)
		}
	}
	for _, r := range more.Rows {
		r.Sheet = where
		l.Rows = append(l.Rows, r)
	}
	for _, d := range more.Doubts {
		l.Doubts = append(l.Doubts, prefix(where)+d)
	}
}

// Where tells where a row stands.
func (r *Row) Where() string {
	return fmt.Sprintf("%sline %d", prefix(r.Sheet), r.Line)
}

// twice leaves out what stands there already, and tells it.
func (l *List) twice() {
	seen, addresses := map[string]*Row{}, map[netip.Addr]*Row{}
	var rows []Row
	for i := range l.Rows {
		r := &l.Rows[i]
		key := r.key()
		if was := seen[key]; was != nil && key != "" {
			l.Doubts = append(l.Doubts, fmt.Sprintf("%s: %s stands at %s already: left out", r.Where(), key, was.Where()))
			continue
		}
		seen[key] = r
		if was := addresses[r.At]; r.At.IsValid() && was != nil {
			l.Doubts = append(l.Doubts, fmt.Sprintf("%s: the address %s stands at %s already: not taken in", r.Where(), r.At, was.Where()))
			r.At = netip.Addr{}
		} else if r.At.IsValid() {
			addresses[r.At] = r
		}
		rows = append(rows, *r)
	}
	l.Rows = rows
}

var signs = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`[^\pL\d]+`) })

// meaning tells what a heading means.
func (how Reading) meaning(head string) Column {
	if c, said := how.Means[strings.ToLower(strings.TrimSpace(head))]; said {
		return c
	}
	plain := strings.TrimSpace(signs().ReplaceAllString(strings.ToLower(head), " "))
	for c, list := range words {
		if slices.Contains(list, plain) {
			return c
		}
	}
	return ""
}

// Parse reads rows of cells.
func Parse(rows [][]string) (List, error) { return gather([]sheet{{rows: rows}}, Reading{}) }

func parse(rows [][]string, how Reading) (List, error) {
	if len(rows) > maxRows {
		return List{}, fmt.Errorf("more than %d rows", maxRows)
	}
	at, heads := how.head(rows)
	if at < 0 {
		return List{}, ErrNoHead
	}
	l := List{Headings: heads}
	for i := at + 1; i < len(rows); i++ {
		if r, ok := l.row(rows[i], i+1); ok {
			l.Rows = append(l.Rows, r)
		}
	}
	return l, nil
}

// head finds the row that means most.
func (how Reading) head(rows [][]string) (at int, heads []Heading) {
	at, best := -1, 1
	for i, row := range rows[:min(len(rows), searchHead)] {
		found := map[Column]bool{}
		var list []Heading
		for _, cell := range row[:min(len(row), maxColumns)] {
			h := Heading{Text: text.Harmless(strings.TrimSpace(cell), text.Marker, nil)}
			if m := how.meaning(cell); m != "" && !found[m] {
				h.Means, found[m] = m, true
			}
			list = append(list, h)
		}
		if (found[MAC] || found[Serial] || found[Tag]) && len(found) > best {
			at, heads, best = i, list, len(found)
		}
	}
	return at, heads
}

// key is what a row is told by.
func (r *Row) key() string {
	switch {
	case !r.MAC.IsZero():
		return r.MAC.String()
	case r.Fields[Serial] != "":
		return "serial " + strings.ToUpper(r.Fields[Serial])
	}
	return ""
}

// wholeMAC reads twelve digits.
func wholeMAC(digits string) (device.MAC, bool) {
	var pairs []string
	for i := 0; i+2 <= len(digits); i += 2 {
		pairs = append(pairs, digits[i:i+2])
	}
	mac, err := device.ParseMAC(strings.Join(pairs, ":"))
	return mac, err == nil && len(digits) == 12
}

var hexEnding = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[0-9a-fA-F]{4,11}$`) })

// row reads one; false for a blank one.
func (l *List) row(cells []string, line int) (Row, bool) {
	r := Row{Line: line, Fields: map[Column]string{}, Own: map[string]string{}}
	filled := 0
	for i, h := range l.Headings {
		if i >= len(cells) {
			break
		}
		value := text.Harmless(strings.TrimSpace(cells[i]), text.Long, nil)
		if value == "" {
			continue
		}
		filled++
		switch {
		case h.Means != "":
			r.Fields[h.Means] = value
		case h.Text != "":
			r.Own[strings.ToLower(h.Text)] = value
		}
	}
	if filled == 0 || filled == 1 && r.Fields[MAC] == "" && r.Fields[Serial] == "" {
		return r, false // blank, or the title of a part
	}
	if said := r.Fields[Address]; said != "" {
		plain, _, _ := strings.Cut(said, "/") // with its mask, as some write it
		if a, err := netip.ParseAddr(strings.TrimSpace(plain)); err == nil && a.Is4() {
			r.At = a
		} else {
			l.Doubts = append(l.Doubts, fmt.Sprintf("line %d: %q is not an IPv4 address", line, said))
		}
	}
	if said := r.Fields[MAC]; said != "" {
		digits := strings.NewReplacer(":", "", "-", "", ".", "", " ", "").Replace(said)
		if mac, ok := wholeMAC(digits); ok {
			r.MAC = mac
		} else if hexEnding().MatchString(digits) {
			r.Ending = strings.ToLower(digits)
		} else {
			l.Doubts = append(l.Doubts, fmt.Sprintf("line %d: %q is not a MAC", line, said))
		}
	}
	return r, true
}
