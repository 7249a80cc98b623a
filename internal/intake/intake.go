// Package intake is the one gate for files that somebody else may have made: a record, a
// planner's list, a job sheet, a keyring, a capture. It lets in regular files of a bounded
// size, and workbooks of bounded rows, columns and cells, before anything is made of them.
package intake

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"
)

// ErrRefused is wrapped by every file that is not let in.
var ErrRefused = errors.New("it is not read")

// Open opens a regular file, and nothing else: no pipe, no device, no folder, no link to one.
func Open(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|dontWait, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: path, Err: fmt.Errorf("%w: it is not a regular file", ErrRefused)}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// Read reads a regular file of at most so many bytes.
func Read(path string, most int64) ([]byte, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, most+1))
	if err != nil {
		return nil, err
	}
	if int64(len(data)) > most {
		return nil, &fs.PathError{Op: "read", Path: path, Err: fmt.Errorf("%w: it is longer than %d kB", ErrRefused, most>>10)}
	}
	return data, nil
}

// Bounds of a workbook: a site of ten thousand devices stays far below.
const (
	maxUnzipped = 96 << 20 // bytes, all parts together
	maxPart     = 32 << 20 // bytes of one part
	maxSheets   = 64
	maxRows     = 20_000
	maxColumns  = 256
	maxCells    = 1_000_000
)

// Workbook is an open workbook.
type Workbook struct {
	f     *excelize.File
	cells int
}

// OpenWorkbook opens a workbook within its bounds. Close it.
func OpenWorkbook(data []byte) (*Workbook, error) {
	f, err := excelize.OpenReader(bytes.NewReader(data), excelize.Options{UnzipSizeLimit: maxUnzipped, UnzipXMLSizeLimit: maxPart})
	if err != nil {
		return nil, fmt.Errorf("%w: it is not a workbook: %w", ErrRefused, err)
	}
	w := &Workbook{f: f}
	if n := len(f.GetSheetList()); n > maxSheets {
		w.Close()
		return nil, fmt.Errorf("%w: it has %d sheets", ErrRefused, n)
	}
	return w, nil
}

// Close lets it go.
func (w *Workbook) Close() { _ = w.f.Close() } // a file in memory

// Sheets names its sheets, in order.
func (w *Workbook) Sheets() []string { return w.f.GetSheetList() }

// Table gives the rows of a sheet as a person reads them: the value of merged cells in each of
// them, and dates as 2026-11-29, however they are shown. hidden is how many rows are not shown;
// they are among the others.
func (w *Workbook) Table(sheet string) (rows [][]string, hidden int, err error) {
	if rows, err = w.Rows(sheet, true); err != nil {
		return nil, 0, err
	}
	for n := range rows {
		if shown, err := w.f.GetRowVisible(sheet, n+1); err == nil && !shown {
			hidden++
		}
		for c, value := range rows[n] {
			days, err := strconv.ParseFloat(value, 64)
			if err != nil || days < 1 || !w.isDate(sheet, c+1, n+1) {
				continue
			}
			if at, err := excelize.ExcelDateToTime(days, false); err == nil {
				rows[n][c] = at.Format(time.DateOnly)
			}
		}
	}
	merged, err := w.f.GetMergeCells(sheet)
	if err != nil {
		return rows, hidden, nil // none that can be read
	}
	for _, m := range merged {
		c1, r1, err := excelize.CellNameToCoordinates(m.GetStartAxis())
		c2, r2, err2 := excelize.CellNameToCoordinates(m.GetEndAxis())
		if err != nil || err2 != nil || c1 != c2 { // a title over several columns is no value of each
			continue
		}
		for r := r1; r <= min(r2, len(rows)); r++ {
			for len(rows[r-1]) < c1 && c1 <= maxColumns {
				rows[r-1] = append(rows[r-1], "")
			}
			if c1 <= maxColumns {
				rows[r-1][c1-1] = m.GetCellValue()
			}
		}
	}
	return rows, hidden, nil
}

// isDate reports whether a cell is shown as a date: by its number format (ECMA-376, 18.8.30).
func (w *Workbook) isDate(sheet string, column, row int) bool {
	at, err := excelize.CoordinatesToCellName(column, row)
	if err != nil {
		return false
	}
	id, err := w.f.GetCellStyle(sheet, at)
	if err != nil || id == 0 {
		return false
	}
	style, err := w.f.GetStyle(id)
	if err != nil {
		return false
	}
	if style.CustomNumFmt != nil {
		form := strings.ToLower(*style.CustomNumFmt)
		return strings.Contains(form, "yy") || strings.Contains(form, "d") && strings.Contains(form, "m") && !strings.Contains(form, "0")
	}
	return style.NumFmt >= 14 && style.NumFmt <= 17 || style.NumFmt == 22 || style.NumFmt >= 27 && style.NumFmt <= 36 || style.NumFmt >= 50 && style.NumFmt <= 58
}

// Rows gives the rows of a sheet, up to its last one that has anything; none where there is
// no such sheet. raw cells are as they are stored.
func (w *Workbook) Rows(sheet string, raw bool) (out [][]string, err error) {
	rows, err := w.f.Rows(sheet)
	if err != nil {
		return nil, nil
	}
	defer rows.Close()
	filled := 0
	for n := 1; rows.Next(); n++ {
		if n > maxRows {
			return nil, fmt.Errorf("%w: sheet %q has more than %d rows", ErrRefused, sheet, maxRows)
		}
		row, err := rows.Columns(excelize.Options{RawCellValue: raw})
		if err != nil {
			return nil, fmt.Errorf("%w: sheet %q: %w", ErrRefused, sheet, err)
		}
		if len(row) > maxColumns {
			return nil, fmt.Errorf("%w: sheet %q has more than %d columns", ErrRefused, sheet, maxColumns)
		}
		if w.cells += len(row); w.cells > maxCells {
			return nil, fmt.Errorf("%w: it has more than %d cells", ErrRefused, maxCells)
		}
		if out = append(out, row); len(row) > 0 {
			filled = n
		}
	}
	return out[:filled], rows.Error()
}
