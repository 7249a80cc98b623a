package sheetfile

import (
	"cmp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"janustat/core/sheet"
)

// Retag writes another tag wherever a job sheet speaks of one, and leaves everything
// else as it is, comments too. It tells how often; the file is not written where that is 0.
func Retag(path, from, to string) (n int, err error) {
	err = edit(path, func(data []byte) ([]byte, error) {
		body, err := parseYAML(data)
		if err != nil {
			return nil, err
		}
		var at, taken []ast.Node
		sections, _ := entries(body)
		for _, s := range sections {
			at, taken = append(at, refsIn(s, from)...), append(taken, refsIn(s, to)...)
		}
		if n = len(at); n > 0 && len(taken) > 0 {
			return nil, sheet.Problems{refOf(taken[0]).Problem("it has %s already: take that out first, or choose another tag", to)}.Err()
		}
		// From the end, so that what comes before keeps its place.
		slices.SortFunc(at, func(a, b ast.Node) int {
			p, q := refOf(a), refOf(b)
			return cmp.Or(q.Line-p.Line, q.Column-p.Column)
		})
		for _, node := range at {
			begin, err := offset(data, refOf(node))
			if err != nil {
				return nil, err
			}
			if c := data[begin]; c == '"' || c == '\'' {
				begin++
			}
			if !strings.EqualFold(string(data[begin:min(begin+len(from), len(data))]), from) {
				return nil, sheet.Problems{refOf(node).Problem("write %s in the place of %s yourself", to, from)}.Err()
			}
			data = slices.Concat(data[:begin], []byte(to), data[begin+len(from):])
		}
		return data, nil
	})
	return n, err
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
	case "names", "addresses": // what devices are called, and where they are, is no reference
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
