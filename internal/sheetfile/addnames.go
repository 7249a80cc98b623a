package sheetfile

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"janustat/core/sheet"
	"janustat/internal/disk"
	"janustat/internal/intake"
)

// ErrByHand is returned where names stand in a way that nobody but their author can change.
var ErrByHand = fmt.Errorf("%w: its names stand in a way that only you can change: write them there yourself", sheet.ErrSheet)

// names finds the names of a sheet: the entry of the key, nil where there is none, and the
// node below it.
func names(data []byte, key string) (entry *ast.MappingValueNode, below ast.Node, err error) {
	body, err := parseYAML(data)
	if err != nil {
		return nil, nil, err
	}
	sections, _ := entries(body)
	for _, s := range sections {
		if refOf(s.Key).Text == key {
			return s, s.Value, nil
		}
	}
	return nil, nil, nil
}

// offset is where a place of the sheet is, in bytes.
func offset(data []byte, at sheet.Ref) (int, error) {
	lines := bytes.SplitAfter(data, []byte("\n"))
	if at.Line < 1 || at.Line > len(lines) {
		return 0, ErrByHand
	}
	n := 0
	for _, l := range lines[:at.Line-1] {
		n += len(l)
	}
	runes := 1
	for i := range string(lines[at.Line-1]) {
		if runes == at.Column {
			return n + i, nil
		}
		runes++
	}
	return 0, ErrByHand
}

// AddNames writes names of devices into a job sheet, by reference, and leaves everything
// else in it as it is, comments too. What the sheet names already is not to be among them.
func AddNames(path string, add map[string]string) error { return addTo(path, "names", add) }

// AddAddresses writes addresses of devices into a job sheet in the same way.
func AddAddresses(path string, add map[string]string) error { return addTo(path, "addresses", add) }

func addTo(path, key string, add map[string]string) error {
	if len(add) == 0 {
		return nil
	}
	return edit(path, func(data []byte) ([]byte, error) {
		entry, below, err := names(data, key)
		if err != nil {
			return nil, err
		}
		if entry == nil {
			if len(data) > 0 && data[len(data)-1] != '\n' {
				data = append(data, '\n')
			}
			lines, err := pairs(add, 2)
			return slices.Concat(data, []byte("\n"+key+":\n"), lines), err
		}
		if m, ok := below.(*ast.MappingNode); ok && m.IsFlowStyle {
			return addWithin(data, m, add)
		}
		// On the lines below the key, indented as those that are there.
		indent := 2
		if list, ok := entries(below); ok && len(list) > 0 {
			indent = placeOf(list[0]).Column - 1
		} else if below != nil && below.Type() != ast.NullType {
			return nil, ErrByHand
		}
		at, err := offset(data, refOf(entry.Key))
		if err != nil {
			return nil, err
		}
		end := bytes.IndexByte(data[at:], '\n')
		if end < 0 {
			data, end = append(slices.Clone(data), '\n'), len(data)-at
		}
		end += at + 1
		lines, err := pairs(add, indent)
		return slices.Concat(data[:end], lines, data[end:]), err
	})
}

// AddSections writes sections into a job sheet that it has not yet, each as a line at its end,
// and leaves everything else in it as it is.
func AddSections(path string, add map[string]string) error {
	return edit(path, func(data []byte) ([]byte, error) {
		body, err := parseYAML(data)
		if err != nil {
			return nil, err
		}
		sections, _ := entries(body)
		for _, s := range sections {
			if _, there := add[refOf(s.Key).Text]; there {
				return nil, fmt.Errorf("%w: line %d: it has %q already: write it there yourself", sheet.ErrSheet, refOf(s.Key).Line, refOf(s.Key).Text)
			}
		}
		out := slices.Clone(data)
		if len(out) > 0 && out[len(out)-1] != '\n' {
			out = append(out, '\n')
		}
		for _, key := range slices.Sorted(maps.Keys(add)) {
			out = append(out, "\n"+key+": "+add[key]+"\n"...)
		}
		return out, nil
	})
}

// addWithin writes names into a mapping in brackets.
func addWithin(data []byte, m *ast.MappingNode, add map[string]string) ([]byte, error) {
	at, err := offset(data, refOf(m))
	if err != nil || data[at] != '{' {
		return nil, ErrByHand
	}
	var parts []string
	for _, ref := range slices.Sorted(maps.Keys(add)) {
		parts = append(parts, quoted(ref)+": "+quoted(add[ref]))
	}
	text := strings.Join(parts, ", ")
	if len(m.Values) > 0 {
		text += ", "
	}
	return slices.Concat(data[:at+1], []byte(text), data[at+1:]), nil
}

// pairs writes references and names, a line each.
func pairs(add map[string]string, indent int) ([]byte, error) {
	var out bytes.Buffer
	for _, ref := range slices.Sorted(maps.Keys(add)) {
		pair, err := yaml.Marshal(map[string]string{ref: add[ref]})
		if err != nil {
			return nil, fmt.Errorf("%w: %w", sheet.ErrSheet, err)
		}
		out.WriteString(strings.Repeat(" ", indent) + strings.TrimSpace(string(pair)) + "\n")
	}
	return out.Bytes(), nil
}

// quoted writes text as YAML does in double quotes, which are JSON's (YAML 1.2, 7.3.1).
func quoted(s string) string {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	_ = e.Encode(s) // text always can be
	return strings.TrimSpace(b.String())
}

// Rename gives a reference that the sheet names already another name, and leaves everything
// else as it is, a comment behind the name too.
func Rename(path, ref, name string) error {
	return edit(path, func(data []byte) ([]byte, error) {
		_, below, err := names(data, "names")
		if err != nil {
			return nil, err
		}
		list, _ := entries(below)
		at := slices.IndexFunc(list, func(e *ast.MappingValueNode) bool { return refOf(e.Key).Text == ref })
		if at < 0 {
			return nil, ErrByHand
		}
		value := list[at].Value.GetToken()
		begin, err := offset(data, sheet.Ref{Line: value.Position.Line, Column: value.Position.Column})
		if err != nil {
			return nil, err
		}
		was := strings.TrimSpace(value.Origin)
		if was == "" || strings.Contains(was, "\n") || !bytes.HasPrefix(data[begin:], []byte(was)) {
			return nil, ErrByHand
		}
		text := quoted(name)
		if m, ok := below.(*ast.MappingNode); !ok || !m.IsFlowStyle {
			line, err := yaml.Marshal(name)
			if err != nil {
				return nil, fmt.Errorf("%w: %w", sheet.ErrSheet, err)
			}
			text = strings.TrimSpace(string(line))
		}
		data = slices.Concat(data[:begin], []byte(text), data[begin+len(was):])
		if s, err := Parse(data); err == nil && s.Names[ref] != name {
			return nil, ErrByHand
		}
		return data, nil
	})
}

// edit changes the text of a sheet, which has to be one afterwards too.
func edit(path string, change func([]byte) ([]byte, error)) error {
	data, err := intake.Read(path, maxSheet)
	if err != nil {
		return fmt.Errorf("%w: %w", sheet.ErrSheet, err)
	}
	mark := []byte(byteOrderMark)
	bare, marked := bytes.CutPrefix(data, mark)
	out, err := change(bare)
	if err != nil {
		return err
	}
	if bytes.Equal(bare, out) {
		return nil
	}
	if _, err := Parse(out); err != nil {
		return err
	}
	if marked {
		out = slices.Concat(mark, out)
	}
	return disk.WriteFile(path, out, 0o644)
}
