package job

import (
	"bytes"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// RetagSheet writes another tag wherever a job sheet speaks of one, and leaves everything
// else as it is, comments too. It tells how often; the file is not written where that is 0.
func RetagSheet(path, from, to string) (int, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return 0, fmt.Errorf("%w: %w", ErrSheet, err)
	}
	file, err := parser.ParseBytes(data, 0)
	if err != nil {
		return 0, fmt.Errorf("%w: %w", ErrSheet, err)
	}
	var at, taken []ast.Node
	for _, doc := range file.Docs {
		sections, _ := entries(doc.Body)
		for _, s := range sections {
			at, taken = append(at, refsIn(s, from)...), append(taken, refsIn(s, to)...)
		}
	}
	switch {
	case len(at) == 0:
		return 0, nil
	case len(taken) > 0:
		return 0, fmt.Errorf("%w: line %d: it speaks of %s already: take that out first, or choose another tag", ErrSheet, taken[0].GetToken().Position.Line, to)
	}
	lines := bytes.SplitAfter(data, []byte("\n"))
	// From the end, so that what comes before keeps its place.
	slices.SortFunc(at, func(a, b ast.Node) int {
		p, q := a.GetToken().Position, b.GetToken().Position
		if p.Line != q.Line {
			return q.Line - p.Line
		}
		return q.Column - p.Column
	})
	for _, n := range at {
		p := n.GetToken().Position
		line := lines[p.Line-1]
		begin := min(p.Column-1, len(line))
		i := bytes.Index(bytes.ToLower(line[begin:]), []byte(strings.ToLower(from)))
		if i < 0 || i > 1 { // a quote may come before it
			return 0, fmt.Errorf("%w: line %d: write %s in the place of %s yourself", ErrSheet, p.Line, to, from)
		}
		begin += i
		lines[p.Line-1] = slices.Concat(line[:begin], []byte(to), line[begin+len(from):])
	}
	data = bytes.Join(lines, nil)
	if _, err := ParseSheet(data); err != nil {
		return 0, err
	}
	return len(at), WriteFile(path, data, 0o644)
}

// refsIn gives the places in a section of the sheet that mean a device by a tag.
func refsIn(section *ast.MappingValueNode, tag string) (out []ast.Node) {
	is := func(n ast.Node) {
		if strings.EqualFold(refOf(n).Text, tag) {
			out = append(out, n)
		}
	}
	var scalars func(n ast.Node)
	scalars = func(n ast.Node) {
		if list, ok := entries(n); ok {
			for _, e := range list {
				is(e.Key)
				scalars(e.Value)
			}
			return
		}
		if s, ok := n.(*ast.SequenceNode); ok {
			for _, v := range s.Values {
				scalars(v)
			}
			return
		}
		if n != nil {
			is(n)
		}
	}
	within := func(n ast.Node, key string) {
		list, _ := entries(n)
		for _, e := range list {
			if refOf(e.Key).Text == key {
				scalars(e.Value)
			}
		}
	}
	switch refOf(section.Key).Text {
	case "names": // what devices are called is no reference
		list, _ := entries(section.Value)
		for _, e := range list {
			is(e.Key)
		}
	case "channels", "intercoms":
		scalars(section.Value)
	case "reporting":
		within(section.Value, "devices")
	case "users":
		if s, ok := section.Value.(*ast.SequenceNode); ok {
			for _, v := range s.Values {
				within(v, "on")
			}
		}
	case "password":
		within(section.Value, "without_tls")
	}
	return out
}
