package sheetfile

import (
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"janustat/core/setting"
	"janustat/core/settings"
	"janustat/core/sheet"
	"janustat/core/text"
)

// form is what may stand at one place of a job sheet.
type form struct {
	keys map[string]*form // a mapping with these keys
	each *form            // a mapping with keys of the person's own
	list *form            // a list
	// One value: what it is in words, and why a text is none. A nil fits takes any text as it
	// was typed, also what looks like a number or a date.
	what string
	fits func(string) error
	why  bool // the reason says more than that
	free bool // what stands there is read by itself
}

var (
	anyText = &form{what: "text"}
	free    = &form{free: true}
	whole   = &form{what: "a whole number", fits: func(s string) error { _, err := strconv.Atoi(s); return err }}
	yesNo   = &form{what: "true or false", fits: func(s string) error {
		if s != "true" && s != "false" {
			return errors.New("neither")
		}
		return nil
	}}
	oneAddress = &form{what: "an IPv4 address, as 10.61.8.1", fits: func(s string) error {
		a, err := netip.ParseAddr(s)
		if err == nil && !a.Is4() {
			err = errors.New("not IPv4")
		}
		return err
	}}
	oneSpan   = &form{what: "an address or a range, as 10.61.8.41-10.61.8.99", why: true, fits: func(s string) error { return (&sheet.Span{}).UnmarshalText([]byte(s)) }}
	oneSubnet = &form{what: "a subnet, as 10.61.8.0/23", fits: func(s string) error { _, err := netip.ParsePrefix(s); return err }}
	aTime     = &form{what: "a time with its unit, as 2h or 30m", fits: func(s string) error { _, err := time.ParseDuration(s); return err }}
)

func listOf(f *form) *form { return &form{list: f} }

func eachOf(f *form) *form { return &form{each: f} }

// sheetForm is that of a job sheet (docs/jobsheet.md).
var sheetForm = &form{keys: map[string]*form{
	"name": anyText,
	"network": {keys: map[string]*form{
		"subnet": anyText, "gateway": anyText, "override": yesNo, "dns": listOf(oneAddress), "ntp": listOf(oneAddress),
		"keep_clear": listOf(oneSpan), "dhcp_pools": listOf(oneSpan), "not_ours": listOf(oneSubnet),
	}},
	"blocks": eachOf(oneSpan),
	"password": {keys: map[string]*form{
		"user": anyText, "style": anyText, "min_length": whole, "tries_per_hour": whole, "require_tls": yesNo, "without_tls": listOf(anyText), "recovery": listOf(anyText),
		"factory": listOf(&form{keys: map[string]*form{"user": anyText, "password": anyText}}),
	}},
	"names":     eachOf(anyText),
	"addresses": eachOf(oneAddress),
	"expected":  eachOf(whole),
	"survey":    {keys: map[string]*form{"factory_subnets": listOf(oneSubnet), "rate": whole, "makers": eachOf(anyText)}},
	"lease":     {keys: map[string]*form{"temporary": oneSpan, "time": aTime}},
	"users":     listOf(&form{keys: map[string]*form{"name": anyText, "role": anyText, "on": listOf(anyText)}}),
	"captions":  yesNo,
	"channels":  free, "intercoms": free, "reporting": free,
}}

func init() { // the keys of the settings that are folders of their own
	for _, s := range settings.All {
		in, parts := sheetForm, strings.Split(s.Key, ".")
		for _, part := range parts[:len(parts)-1] {
			if in.keys[part] == nil {
				in.keys[part] = &form{keys: map[string]*form{}}
			}
			in = in.keys[part]
		}
		in.keys[parts[len(parts)-1]] = anyText
	}
}

// reading is a walk through a sheet by its form.
type reading struct {
	at    map[string]sheet.Ref // where each key or value stands, by its path
	said  setting.Values       // of the settings that are folders of their own
	wrong sheet.Problems
}

// walk holds a node against its form, and makes text of what is to be text. It gives the
// node to be read in its place.
func (r *reading) walk(f *form, n ast.Node, path string) ast.Node {
	if n == nil || f.free {
		return n
	}
	if c, ok := n.(*ast.CommentGroupNode); ok {
		return c
	}
	if t, ok := n.(*ast.TagNode); ok {
		r.say(placeOf(t), "%s: a tag of YAML has no meaning here: leave it out", orWhole(path))
		return n
	}
	if n.Type() == ast.NullType {
		return n // as if it were left out
	}
	switch {
	case f.keys != nil || f.each != nil:
		r.mapping(f, n, path)
		return n
	case f.list != nil:
		s, ok := n.(*ast.SequenceNode)
		if !ok {
			r.say(placeOf(n), "%s: write a list here: [%s]", orWhole(path), strings.TrimSpace(n.String()))
			return n
		}
		for i := range s.Values {
			below := fmt.Sprintf("%s[%d]", path, i)
			if s.Values[i] != nil {
				r.at[below] = placeOf(s.Values[i])
			}
			s.Values[i] = r.walk(f.list, s.Values[i], below)
		}
		return n
	}
	return r.value(f, n, path)
}

func orWhole(path string) string {
	if path == "" {
		return "the sheet"
	}
	return path
}

func (r *reading) say(at sheet.Ref, format string, args ...any) {
	r.wrong = append(r.wrong, at.Problem(format, args...))
}

func (r *reading) mapping(f *form, n ast.Node, path string) {
	list, ok := entries(n)
	if !ok {
		example := "key: value"
		for _, k := range sortedKeys(f.keys) {
			example = k + ": …"
			break
		}
		r.say(placeOf(n), "%s: write keys with values below it, each on a line of its own, as %s", orWhole(path), example)
		return
	}
	for _, e := range list {
		key := refOf(e.Key)
		below := key.Text
		if path != "" {
			below = path + "." + key.Text
		}
		r.at[below] = key
		next := f.each
		if f.keys != nil {
			if next = f.keys[key.Text]; next == nil {
				keys := sortedKeys(f.keys)
				r.say(key, "%[2]s has no key %[1]q%[3]s. Keys: %[4]s", key.Text, orWhole(path), text.Meant(key.Text, keys), strings.Join(keys, ", "))
				continue
			}
		}
		e.Value = r.walk(next, e.Value, below)
	}
}

func sortedKeys(m map[string]*form) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// value holds one value against its form.
func (r *reading) value(f *form, n ast.Node, path string) ast.Node {
	typed, ok := asTyped(n)
	if !ok {
		r.say(placeOf(n), "%s: write %s here, and not a list or a mapping", path, f.what)
		return n
	}
	if f.fits != nil {
		if err := f.fits(typed); err != nil {
			why := ""
			if f.why {
				why = fmt.Sprintf(" (%v)", err)
			}
			r.say(placeOf(n), "%s: write %s, and not %q%s", path, f.what, typed, why)
		}
		return n
	}
	for _, s := range settings.All {
		if s.Key == path {
			r.said[s.Name] = typed
		}
	}
	if n.Type() == ast.StringType || n.Type() == ast.LiteralType {
		return n
	}
	t := *n.GetToken()
	t.Value = typed
	return ast.String(&t)
}

// placeOf is where a node begins: a mapping without brackets, at its first key.
func placeOf(n ast.Node) sheet.Ref {
	switch n := n.(type) {
	case *ast.MappingValueNode:
		return refOf(n.Key)
	case *ast.MappingNode:
		if !n.IsFlowStyle && len(n.Values) > 0 {
			return refOf(n.Values[0].Key)
		}
	}
	return refOf(n)
}

// asTyped gives one value as it was typed.
func asTyped(n ast.Node) (string, bool) {
	switch n := n.(type) {
	case *ast.StringNode:
		return n.Value, true
	case *ast.LiteralNode:
		return n.Value.Value, true
	case *ast.MappingNode, *ast.MappingValueNode, *ast.SequenceNode:
		return "", false
	}
	return strings.TrimSpace(n.GetToken().Value), true
}

// byteOrderMark is what some editors put before a text.
const byteOrderMark = "\ufeff"

// parseYAML parses the one document of a sheet.
func parseYAML(data []byte) (ast.Node, error) {
	file, err := parser.ParseBytes(data, 0)
	if err != nil {
		return nil, inWords(err)
	}
	var body ast.Node
	for _, doc := range file.Docs {
		if doc.Body == nil || doc.Body.Type() == ast.CommentType || doc.Body.Type() == ast.NullType {
			continue
		}
		if body != nil {
			at := placeOf(doc.Body)
			if doc.Start != nil {
				at = sheet.Ref{Line: doc.Start.Position.Line, Column: doc.Start.Position.Column}
			}
			return nil, sheet.Problems{{Line: at.Line, Column: at.Column, Text: "a second document begins here (---): a job sheet is one"}}.Err()
		}
		body = doc.Body
	}
	return body, nil
}

var twice = regexp.MustCompile(`^mapping key "(.*)" already defined at \[(\d+):\d+\]$`)

// inWords tells an error of the parser in words of the sheet, without quoting from it: there
// may be passwords in it.
func inWords(err error) error {
	var e yaml.Error
	if !errors.As(err, &e) || e.GetToken() == nil {
		return fmt.Errorf("%w: it is not YAML", sheet.ErrSheet)
	}
	p, words := e.GetToken().Position, e.GetMessage()
	if m := twice.FindStringSubmatch(words); m != nil {
		words = fmt.Sprintf("%q is there twice, first at line %s", m[1], m[2])
	}
	if strings.Contains(words, "tab character") || strings.Contains(words, "\t") {
		words = "there is a tab: indent with spaces"
	}
	return sheet.Problems{{Line: p.Line, Column: p.Column, Text: words}}.Err()
}
