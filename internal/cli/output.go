package cli

import (
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"janustat/core/text"

	"charm.land/lipgloss/v2"
	"charm.land/lipgloss/v2/table"
	"golang.org/x/term"
)

// terminal gives the file behind a stream if it is a terminal.
func terminal(w any) (*os.File, bool) {
	f, ok := w.(*os.File)
	if o, is := w.(*outlet); is {
		f, ok = o.file()
	}
	return f, ok && term.IsTerminal(int(f.Fd()))
}

// checked keeps the first failure of what is written, which tables and help texts pass over.
type checked struct {
	to  io.Writer
	err error
}

func (c *checked) Write(p []byte) (int, error) {
	n, err := c.to.Write(p)
	if c.err == nil {
		c.err = err
	}
	return n, err
}

// colour reports whether a stream may be coloured. NO_COLOR counts whatever it
// is set to (no-color.org).
func (a *App) colour(w io.Writer) bool {
	_, tty := terminal(w)
	return tty && a.Getenv("NO_COLOR") == "" && a.Getenv("TERM") != "dumb"
}

func width(w io.Writer) int {
	if f, ok := terminal(w); ok {
		if n, _, err := term.GetSize(int(f.Fd())); err == nil {
			return n
		}
	}
	return 0 // no limit
}

// The few colours, each with one meaning everywhere. They are the sixteen that
// every terminal has, so that the person's own theme decides how they look.
var (
	goodStyle  = lipgloss.NewStyle().Foreground(lipgloss.Green)
	workStyle  = lipgloss.NewStyle().Foreground(lipgloss.Yellow)
	badStyle   = lipgloss.NewStyle().Foreground(lipgloss.BrightRed).Bold(true)
	faintStyle = lipgloss.NewStyle().Faint(true)
	headStyle  = lipgloss.NewStyle().Bold(true).Foreground(lipgloss.BrightCyan)
)

// column is one column of a listing. When a terminal is too narrow, the column
// with the highest spare value goes first; 0 always stays.
type column struct {
	head  string
	spare int
	// tight, if not nil, shortens its text when the terminal is too narrow, in its turn at
	// tightAt among the spare values.
	tightAt int
	tight   func(string) string
	ifAny   bool // left out where no row has anything in it
}

// cell is a value with an optional style.
type cell struct {
	text  string
	style *lipgloss.Style
	blank bool // empty means nothing at all, not "not known"
}

func plain(s string) cell { return cell{text: s} }

func blankable(s string) cell { return cell{text: s, blank: true} }

// listing is a table for people.
type listing struct {
	columns []column
	rows    [][]cell
	faint   map[int]bool // rows shown dimmed
}

func (l *listing) add(cells ...cell) { l.rows = append(l.rows, cells) }

// fit is how each column of a listing is shown.
type fit struct{ hidden, tight bool }

// write renders the listing to a stream, without borders, and gives the heads of columns for which it
// has no room.
func (a *App) write(w io.Writer, l *listing) (left []string) {
	fits := make([]fit, len(l.columns))
	for i, c := range l.columns {
		fits[i].hidden = c.ifAny && !slices.ContainsFunc(l.rows, func(r []cell) bool { return r[i].text != "" })
	}
	text := l.render(fits, a.colour(w))
	for limit := width(w); limit > 0 && lipgloss.Width(text) > limit && l.squeeze(fits); {
		text = l.render(fits, a.colour(w))
	}
	fmt.Fprintln(w, text)
	for i, c := range l.columns {
		if fits[i].hidden && !c.ifAny {
			left = append(left, c.head)
		}
	}
	return left
}

// squeeze makes the listing narrower by one column, or reports that it cannot.
func (l *listing) squeeze(fits []fit) bool {
	at, worst := -1, 0
	for i, c := range l.columns {
		turn := c.spare
		if c.tight != nil && !fits[i].tight {
			turn = c.tightAt
		}
		if !fits[i].hidden && turn > worst {
			at, worst = i, turn
		}
	}
	if at < 0 {
		return false
	}
	if l.columns[at].tight != nil && !fits[at].tight {
		fits[at].tight = true
	} else {
		fits[at].hidden = true
	}
	return true
}

func (l *listing) render(fits []fit, colour bool) string {
	var at []int
	for i, f := range fits {
		if !f.hidden {
			at = append(at, i)
		}
	}
	t := table.New().BorderTop(false).BorderBottom(false).BorderLeft(false).BorderRight(false).BorderColumn(false).BorderHeader(false).BorderRow(false)
	heads := make([]string, len(at))
	for i, c := range at {
		heads[i] = l.columns[c].head
	}
	t.Headers(heads...)
	for _, r := range l.rows {
		row := make([]string, len(at))
		for i, c := range at {
			row[i] = r[c].text
			if row[i] == "" && !r[c].blank {
				row[i] = "–"
			}
			if fits[c].tight {
				row[i] = l.columns[c].tight(row[i])
			}
		}
		t.Row(row...)
	}
	t.StyleFunc(func(row, col int) lipgloss.Style {
		base := lipgloss.NewStyle()
		if col < len(at)-1 {
			base = base.PaddingRight(2)
		}
		if !colour {
			return base
		}
		switch {
		case row == table.HeaderRow:
			return base.Inherit(headStyle)
		case l.faint[row]:
			return base.Inherit(faintStyle)
		}
		if s := l.rows[row][at[col]].style; s != nil {
			return base.Inherit(*s)
		}
		return base
	})
	lines := strings.Split(t.String(), "\n")
	for i, s := range lines {
		lines[i] = strings.TrimRight(s, " ")
	}
	return strings.Join(lines, "\n")
}

// paint styles text for a stream if it takes colour.
func (a *App) paint(w io.Writer, s lipgloss.Style, text string) string {
	if !a.colour(w) {
		return text
	}
	return s.Render(text)
}

// wrap breaks text between words to fit a stream's terminal; further lines are
// indented. Where there is no terminal it stays one line.
func (a *App) wrap(w io.Writer, indent int, text string) string {
	limit := width(w) - indent
	if limit < minWrap {
		return text
	}
	lines := strings.Split(lipgloss.Wrap(text, limit, " "), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.Join(lines, "\n"+strings.Repeat(" ", indent))
}

// minWrap is the narrowest text that is worth breaking.
const minWrap = 30

// plural gives "1 camera", "2 cameras".
func plural(n int, word string) string { return text.Plural(n, word) }
