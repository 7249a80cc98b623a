package schedule

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"janustat/core/text"
	"janustat/internal/intake"
)

// Limits of a list.
const (
	maxFile    = 32 << 20
	maxRows    = 20000
	maxColumns = 200
	maxSheets  = 64
	searchHead = 30 // rows that a heading is looked for in
)

// sheet is one table of a file.
type sheet struct {
	name   string
	rows   [][]string
	hidden int // rows, which are read like the others
}

// Read reads a file, by its ending.
func Read(path string, how Reading) (List, error) {
	data, err := intake.Read(path, maxFile)
	if err != nil {
		return List{}, err
	}
	var sheets []sheet
	switch strings.ToLower(filepath.Ext(path)) {
	case ".xlsx", ".xlsm":
		sheets, err = workbook(data)
	case ".ods":
		sheets, err = openDocument(data)
	case ".csv", ".txt", ".tsv":
		var rows [][]string
		rows, err = separated(data)
		sheets = []sheet{{rows: rows}}
	default:
		return List{}, fmt.Errorf("%s: an .xlsx, .ods or .csv is wanted", path)
	}
	if err != nil {
		return List{}, fmt.Errorf("%s: %w", path, err)
	}
	l, err := gather(sheets, how)
	if err != nil {
		return l, fmt.Errorf("%s: %w", path, err)
	}
	return l, nil
}

// gather reads the sheets that have headings, or the one that is named.
func gather(sheets []sheet, how Reading) (all List, err error) {
	var names []string
	read := 0
	for _, s := range sheets {
		names = append(names, s.name)
		if how.Sheet != "" && !strings.EqualFold(s.name, how.Sheet) {
			continue
		}
		l, err := parse(s.rows, how)
		if errors.Is(err, ErrNoHead) && how.Sheet == "" {
			continue // a cover, a legend
		}
		if err != nil {
			return all, err
		}
		read++
		where := ""
		if len(sheets) > 1 {
			where = s.name
		}
		all.add(l, where)
		if s.hidden > 0 {
			all.Doubts = append(all.Doubts, prefix(where)+map[bool]string{true: "1 row is hidden, and read like the others", false: fmt.Sprintf("%d rows are hidden, and read like the others", s.hidden)}[s.hidden == 1])
		}
	}
	switch {
	case how.Sheet != "" && read == 0:
		return all, fmt.Errorf("there is no sheet %q%s: it has %s", how.Sheet, text.Meant(how.Sheet, names), strings.Join(names, ", "))
	case read == 0:
		return all, ErrNoHead
	}
	all.twice()
	return all, nil
}

func prefix(sheet string) string {
	if sheet == "" {
		return ""
	}
	return fmt.Sprintf("sheet %q: ", sheet)
}

// workbook gives the sheets of a workbook.
func workbook(data []byte) ([]sheet, error) {
	f, err := intake.OpenWorkbook(data)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var out []sheet
	for _, name := range f.Sheets() {
		rows, hidden, err := f.Table(name)
		if err != nil {
			return nil, err
		}
		out = append(out, sheet{name, rows, hidden})
	}
	return out, nil
}

// decoded gives a text as UTF-8: of UTF-8 and UTF-16 by their marks, and else what spreadsheets
// of the West write by default.
func decoded(data []byte) []byte {
	if bytes.HasPrefix(data, []byte("\xff\xfe")) || bytes.HasPrefix(data, []byte("\xfe\xff")) {
		if out, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder().Bytes(data); err == nil {
			return out
		}
	}
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	if utf8.Valid(data) {
		return data
	}
	out, err := charmap.Windows1252.NewDecoder().Bytes(data)
	if err != nil {
		return data
	}
	return out
}

// separated reads CSV, by the separator that its first lines have most of.
func separated(data []byte) ([][]string, error) {
	data = decoded(data)
	head := data[:min(len(data), 4096)]
	if rest, ok := bytes.CutPrefix(head, []byte("sep=")); ok && len(rest) > 0 { // as some spreadsheets begin
		_, data, _ = bytes.Cut(data, []byte("\n"))
	}
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
