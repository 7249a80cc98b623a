package sheet

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// ErrSheet is wrapped by everything that is wrong in a job sheet.
var ErrSheet = errors.New("job sheet")

// Problem is something wrong in a job sheet, and where.
type Problem struct {
	Line, Column int
	Text         string
}

// Problems is all that is wrong with what a sheet says of devices that work together.
type Problems []Problem

// maxProblems is how many are listed.
const maxProblems = 40

// Error lists them, one a line, in the order of the sheet.
func (p Problems) Error() string {
	lines := make([]string, min(len(p), maxProblems))
	for i := range lines {
		lines[i] = fmt.Sprintf("line %d, column %d: %s", p[i].Line, p[i].Column, p[i].Text)
	}
	if more := len(p) - len(lines); more > 0 {
		lines = append(lines, fmt.Sprintf("and %d more", more))
	}
	return strings.Join(lines, "\n  ")
}

func (p Problems) Err() error {
	if len(p) == 0 {
		return nil
	}
	slices.SortStableFunc(p, func(a, b Problem) int { return cmp.Or(a.Line-b.Line, a.Column-b.Column) })
	if len(p) == 1 {
		return fmt.Errorf("%w: %w", ErrSheet, p)
	}
	return fmt.Errorf("%w:\n  %w", ErrSheet, p)
}

// Ref is a device as the sheet names it, and where.
type Ref struct {
	Text         string
	Line, Column int
}

func (r Ref) Problem(format string, args ...any) Problem {
	return Problem{r.Line, r.Column, fmt.Sprintf(format, args...)}
}

// wrong is something wrong at a place of the sheet, by its path.
func (s *Sheet) wrong(path, format string, args ...any) error {
	words := path + ": " + fmt.Sprintf(format, args...)
	at, ok := s.At[path]
	for short := path; !ok && short != ""; at, ok = s.At[short] {
		short = short[:max(strings.LastIndexAny(short, ".["), 0)]
	}
	if !ok {
		return fmt.Errorf("%w: %s", ErrSheet, words)
	}
	return Problems{at.Problem("%s", words)}.Err()
}
