// Package sheetfile reads job sheets from their files, and writes what a person decides into them
// without touching anything else. Their form is specified in docs/jobsheet.md.
package sheetfile

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"janustat/core/setting"
	"janustat/core/sheet"
	"janustat/core/text"
	"janustat/internal/intake"
)

// maxSheet bounds a job sheet, in bytes; real ones have a few hundred lines.
const maxSheet = 1 << 20

// MaxLines bounds it in lines: a name for each of ten thousand devices.
const MaxLines = 12_000

// Read reads and checks a job sheet.
func Read(path string) (*sheet.Sheet, error) {
	data, err := intake.Read(path, maxSheet)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", sheet.ErrSheet, err)
	}
	s, err := Parse(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return s, nil
}

// Parse reads and checks the text of a job sheet. Unknown keys, aliases
// and anchors are refused; errors name line and column.
func Parse(data []byte) (*sheet.Sheet, error) {
	if len(data) > maxSheet {
		return nil, fmt.Errorf("%w: longer than %d bytes", sheet.ErrSheet, maxSheet)
	}
	if n := bytes.Count(data, []byte("\n")); n > MaxLines {
		return nil, fmt.Errorf("%w: it has %d lines, and at most %d are read", sheet.ErrSheet, n, MaxLines)
	}
	if tooDeep(data) {
		return nil, fmt.Errorf("%w: nested more than %d deep", sheet.ErrSheet, maxDepth)
	}
	data, marked := bytes.CutPrefix(data, []byte(byteOrderMark))
	body, err := parseYAML(data)
	if err != nil {
		return nil, err
	}
	s := &sheet.Sheet{Marked: marked}
	if body == nil {
		return s, nil
	}
	if err := errors.Join(refuseAliases(body), refuseHostile(body)); err != nil {
		return nil, err
	}
	r := reading{at: map[string]sheet.Ref{}, said: setting.Values{}}
	body = r.walk(sheetForm, body, "")
	if err := r.wrong.Err(); err != nil {
		return nil, err
	}
	if err := yaml.NodeToValue(body, s); err != nil {
		return nil, inWords(err)
	}
	s.At, s.Settings = r.at, r.said
	wrong := readJoining(body, s)
	if err := s.Check(); err != nil {
		return s, err
	}
	return s, wrong.Err()
}

// maxDepth is how deep a sheet may nest; real ones reach 4.
const maxDepth = 64

// tooDeep reports whether text opens more brackets, or more lists and mappings in a
// line, than a sheet can mean: a parser's time and memory grow with the square of that.
func tooDeep(data []byte) bool {
	open := 0
	for line := range bytes.Lines(data) {
		inLine := 0
		for i, c := range line {
			switch c {
			case '[', '{':
				open++
			case ']', '}':
				open = max(0, open-1)
			case '-', '?', ':':
				if i+1 < len(line) && (line[i+1] == ' ' || line[i+1] == '\t') {
					inLine++
				}
			}
		}
		if open > maxDepth || inLine > 8*maxDepth || len(line)-len(bytes.TrimLeft(line, " ")) > 8*maxDepth {
			return true
		}
	}
	return false
}

// refuseAliases keeps out what could unfold without end.
func refuseAliases(body ast.Node) error {
	for _, t := range []ast.NodeType{ast.AliasType, ast.AnchorType} {
		if found := ast.Filter(t, body); len(found) > 0 {
			return sheet.Problems{refOf(found[0]).Problem("anchors and aliases are not allowed: write the value out")}.Err()
		}
	}
	return nil
}

// refuseHostile keeps out texts that would be more than text in a terminal, a table or a
// file of hosts: everything in the sheet ends there.
func refuseHostile(body ast.Node) error {
	var wrong sheet.Problems
	for _, t := range []ast.NodeType{ast.StringType, ast.LiteralType} {
		for _, n := range ast.Filter(t, body) {
			value := n.GetToken().Value
			if l, ok := n.(*ast.LiteralNode); ok && l.Value != nil {
				value = strings.TrimRight(l.Value.Value, "\n")
			}
			if r, hostile := text.Hostile(value); hostile {
				wrong = append(wrong, refOf(n).Problem("%s has a character that no name has (U+%04X): take it out", strconv.Quote(text.Cut(value, text.Short)), r))
			}
		}
	}
	return wrong.Err()
}
