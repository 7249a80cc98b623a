package schedule

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// Bounds of an OpenDocument spreadsheet, as for other workbooks.
const (
	maxContent  = 32 << 20 // bytes of content.xml
	maxRepeated = 200      // of a row that has something in it, or a cell
)

// openDocument gives the sheets of an OpenDocument spreadsheet (ISO/IEC 26300: content.xml,
// table:table). A cell says what it shows; a date what it is.
func openDocument(data []byte) ([]sheet, error) {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, fmt.Errorf("it is not an OpenDocument spreadsheet: %w", err)
	}
	f, err := z.Open("content.xml")
	if err != nil {
		return nil, errors.New("it is not an OpenDocument spreadsheet: it has no content.xml")
	}
	defer f.Close()
	limited := &io.LimitedReader{R: f, N: maxContent + 1}
	d := xml.NewDecoder(limited)
	var out []sheet
	var row []string
	repeat, cells := 1, 0
	for {
		tok, err := d.Token()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			if limited.N <= 0 {
				err = errors.New("it is too long")
			}
			return nil, fmt.Errorf("content.xml: %w", err)
		}
		switch x := tok.(type) {
		case xml.StartElement:
			switch x.Name.Local {
			case "table":
				if len(out) >= maxSheets {
					return nil, errors.New("it has too many sheets")
				}
				out = append(out, sheet{name: attr(x, "name")})
			case "table-row":
				row, repeat = nil, repeated(x, "number-rows-repeated")
				if v := attr(x, "visibility"); len(out) > 0 && (v == "collapse" || v == "filter") {
					out[len(out)-1].hidden++
				}
			case "table-cell", "covered-table-cell":
				text, err := cellText(d, x)
				if err != nil {
					return nil, fmt.Errorf("content.xml: %w", err)
				}
				n := repeated(x, "number-columns-repeated")
				if text == "" {
					n = min(n, maxColumns-min(len(row), maxColumns))
				}
				for range min(n, maxRepeated) {
					row = append(row, text)
				}
				if cells += len(row); cells > maxRows*maxColumns {
					return nil, errors.New("it has too many cells")
				}
			}
		case xml.EndElement:
			if x.Name.Local != "table-row" || len(out) == 0 {
				continue
			}
			s := &out[len(out)-1]
			blank := strings.TrimSpace(strings.Join(row, "")) == ""
			if blank && repeat > maxRepeated {
				continue // the rest of the sheet
			}
			for range min(repeat, maxRepeated) {
				if s.rows = append(s.rows, row); len(s.rows) > maxRows {
					return nil, fmt.Errorf("sheet %q has more than %d rows", s.name, maxRows)
				}
			}
		}
	}
}

func attr(x xml.StartElement, name string) string {
	for _, a := range x.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

func repeated(x xml.StartElement, name string) int {
	n, err := strconv.Atoi(attr(x, name))
	if err != nil || n < 1 {
		return 1
	}
	return n
}

// cellText reads a cell to its end: its date where it is one, else its paragraphs.
func cellText(d *xml.Decoder, x xml.StartElement) (string, error) {
	var b strings.Builder
	for depth, notes := 1, 0; depth > 0; {
		tok, err := d.Token()
		if err != nil {
			return "", err
		}
		switch t := tok.(type) {
		case xml.StartElement:
			if depth++; t.Name.Local == "annotation" {
				notes = depth
			}
			if t.Name.Local == "p" && b.Len() > 0 {
				b.WriteByte(' ')
			}
		case xml.EndElement:
			if depth == notes {
				notes = 0
			}
			depth--
		case xml.CharData:
			if notes == 0 {
				b.Write(t)
			}
		}
	}
	if date := attr(x, "date-value"); date != "" {
		day, _, _ := strings.Cut(date, "T")
		return day, nil
	}
	return strings.TrimSpace(b.String()), nil
}
