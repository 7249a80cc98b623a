// Package schedule reads a planner's list of devices, a spreadsheet or a CSV file, by the
// meaning of its headings.
package schedule

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"janustat/core/device"
	"janustat/core/text"
	"janustat/internal/intake"
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
	Remark  Column = "remark"
)

// words are the headings of each meaning, in small letters without signs.
var words = map[Column][]string{
	Tag:     {"tag", "id", "ref", "reference", "no", "nr", "number", "item", "device id", "device no"},
	Kind:    {"kind", "type", "device", "device type", "category", "equipment"},
	Name:    {"name", "description", "designation", "title", "view", "device name", "camera name"},
	Place:   {"place", "location", "position", "where", "room", "area", "mounting place", "site"},
	MAC:     {"mac", "mac address", "macaddress", "ethernet address", "hardware address", "physical address", "mac id"},
	Serial:  {"serial", "serial no", "serial number", "serialno", "sn", "s n", "ser no"},
	Channel: {"channel", "ch", "recorder channel", "rec channel", "channel no", "channel number"},
	Switch:  {"switch", "switch name", "patch panel", "cabinet"},
	Port:    {"port", "switch port", "port no", "switch port no", "outlet", "socket", "patch"},
	Remark:  {"remark", "remarks", "note", "notes", "comment", "comments"},
}

// Heading is a column as it was understood.
type Heading struct {
	Text  string
	Means Column // "" is a field of the planner's own
}

// Row is one device of the list.
type Row struct {
	Line   int // in the file, from 1
	Fields map[Column]string
	Own    map[string]string
	MAC    device.MAC // zero where it has none in full
	Ending string     // hexadecimal digits that its MAC ends with, where it has no more
}

// List is what was read.
type List struct {
	Headings []Heading
	Rows     []Row
	Doubts   []string // what the reader is to look at
}

// Limits of a list.
const (
	maxFile    = 32 << 20
	maxRows    = 20000
	maxColumns = 200
	searchHead = 30 // rows that a heading is looked for in
)

// ErrNoHead is returned for a list without headings that mean anything here.
var ErrNoHead = errors.New("no row of headings was found: at least a MAC or a serial number, and a name or a place")

// Read reads a file, by its ending.
func Read(path string) (List, error) {
	data, err := intake.Read(path, maxFile)
	if err != nil {
		return List{}, err
	}
	var rows [][]string
	switch strings.ToLower(filepath.Ext(path)) {
	case ".xlsx":
		rows, err = workbook(data)
	case ".csv", ".txt", ".tsv":
		rows, err = separated(data)
	default:
		return List{}, fmt.Errorf("%s: an .xlsx or a .csv is wanted", path)
	}
	if err != nil {
		return List{}, fmt.Errorf("%s: %w", path, err)
	}
	l, err := Parse(rows)
	if err != nil {
		return l, fmt.Errorf("%s: %w", path, err)
	}
	return l, nil
}

// workbook gives the rows of the sheet that has most.
func workbook(data []byte) ([][]string, error) {
	f, err := intake.OpenWorkbook(data)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var best [][]string
	for _, sheet := range f.Sheets() {
		rows, err := f.Rows(sheet, true)
		if err != nil {
			return nil, err
		}
		if len(rows) > len(best) {
			best = rows
		}
	}
	return best, nil
}

// separated reads CSV, by the separator that its first lines have most of.
func separated(data []byte) ([][]string, error) {
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	if !utf8.Valid(data) { // what spreadsheets of the West write by default
		latin := make([]rune, len(data))
		for i, b := range data {
			latin[i] = rune(b)
		}
		data = []byte(string(latin))
	}
	head := data[:min(len(data), 4096)]
	comma := ','
	for _, c := range ";\t" {
		if bytes.Count(head, []byte(string(c))) > bytes.Count(head, []byte(string(comma))) {
			comma = c
		}
	}
	r := csv.NewReader(bytes.NewReader(data))
	r.Comma, r.FieldsPerRecord, r.LazyQuotes = comma, -1, true
	var rows [][]string
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return rows, nil
		}
		if err != nil {
			return nil, err
		}
		line, _ := r.FieldPos(0)
		for len(rows) < line-1 && len(rows) < maxRows { // blank lines count
			rows = append(rows, nil)
		}
		if rows = append(rows, row); len(rows) > maxRows {
			return rows, nil
		}
	}
}

var signs = regexp.MustCompile(`[^\pL\d]+`)

// meaning tells what a heading means.
func meaning(head string) Column {
	plain := strings.TrimSpace(signs.ReplaceAllString(strings.ToLower(head), " "))
	for c, list := range words {
		if slices.Contains(list, plain) {
			return c
		}
	}
	return ""
}

// Parse reads rows of cells.
func Parse(rows [][]string) (List, error) {
	if len(rows) > maxRows {
		return List{}, fmt.Errorf("more than %d rows", maxRows)
	}
	at, heads := head(rows)
	if at < 0 {
		return List{}, ErrNoHead
	}
	l := List{Headings: heads}
	seen := map[string]int{}
	for i := at + 1; i < len(rows); i++ {
		r, ok := l.row(rows[i], i+1)
		if !ok {
			continue
		}
		key := r.key()
		if was := seen[key]; was > 0 && key != "" {
			l.Doubts = append(l.Doubts, fmt.Sprintf("line %d: %s stands at line %d already: left out", r.Line, key, was))
			continue
		}
		seen[key] = r.Line
		l.Rows = append(l.Rows, r)
	}
	return l, nil
}

// head finds the row that means most.
func head(rows [][]string) (at int, heads []Heading) {
	at, best := -1, 1
	for i, row := range rows[:min(len(rows), searchHead)] {
		found := map[Column]bool{}
		var list []Heading
		for _, cell := range row[:min(len(row), maxColumns)] {
			h := Heading{Text: text.Harmless(strings.TrimSpace(cell), text.Marker, nil)}
			if m := meaning(cell); m != "" && !found[m] {
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

var hexEnding = regexp.MustCompile(`^[0-9a-fA-F]{4,11}$`)

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
	if said := r.Fields[MAC]; said != "" {
		digits := strings.NewReplacer(":", "", "-", "", ".", "", " ", "").Replace(said)
		if mac, ok := wholeMAC(digits); ok {
			r.MAC = mac
		} else if hexEnding.MatchString(digits) {
			r.Ending = strings.ToLower(digits)
		} else {
			l.Doubts = append(l.Doubts, fmt.Sprintf("line %d: %q is no MAC", line, said))
		}
	}
	return r, true
}
