// Package text makes what strangers say fit to be kept and shown. Nothing that came
// over the wire is printed, stored or exported as it came: it passes through here,
// in one place, and comes out as one short line of printable characters.
package text

import (
	"cmp"
	"reflect"
	"strconv"
	"strings"
	"unicode"
)

// Lengths, in characters, that text from the wire is cut to.
const (
	Short  = 64  // names, models, serial numbers, firmware
	Long   = 240 // what a device says when it refuses something
	Marker = 200 // endpoint references, service types
)

// maxMarks is how many combining marks one character may carry: scripts need three.
const maxMarks = 3

// Harmless gives text without anything that a terminal, a table, a spreadsheet or a
// document could take for more than text: control characters (C0 and C1), escape
// sequences, line and paragraph separators, marks of direction and other invisible
// characters, invalid UTF-8, and towers of combining marks. White space becomes
// single spaces. It is cut to at most so many characters; hide, which may be nil,
// is applied before that.
func Harmless(s string, most int, hide func(string) string) string {
	if len(s) > maxRaw {
		s = s[:maxRaw]
	}
	s = visible(s)
	if hide != nil {
		s = hide(s)
	}
	return Cut(s, most)
}

// Hostile gives the first character of a text that no name or note has, and that would be
// more than text somewhere: a control character, the end of a line or a paragraph, a mark of
// direction, what is no UTF-8. It is for what a person typed, which is kept as it stands.
func Hostile(s string) (r rune, is bool) {
	for _, r := range s {
		if r == unicode.ReplacementChar || unicode.IsControl(r) && r != '\t' || unicode.Is(unicode.Bidi_Control, r) || unicode.In(r, unicode.Zl, unicode.Zp) {
			return r, true
		}
	}
	return 0, false
}

// maxRaw bounds the work on one text, in bytes.
const maxRaw = 64 << 10

// Cut shortens text to at most so many characters, an ellipsis among them.
func Cut(s string, most int) string {
	if len(s) <= most {
		return s
	}
	n := 0
	for i := range s {
		if n++; n > most { // longer, so the last that fits gives way to the ellipsis
			r := []rune(s[:i])
			return strings.TrimRight(string(r[:most-1]), " ") + "…"
		}
	}
	return s
}

// invisible are characters that count as letters or symbols and show nothing.
var invisible = map[rune]bool{'\u115f': true, '\u1160': true, '\u3164': true, '\uffa0': true, '\u2800': true, '\ufffc': true}

func visible(s string) string {
	if plainASCII(s) {
		return s
	}
	var b strings.Builder
	marks, space := 0, false
	for _, r := range strings.ToValidUTF8(s, "\ufffd") {
		switch {
		case unicode.IsSpace(r) || unicode.Is(unicode.Z, r):
			space = true
			continue
		case !unicode.IsPrint(r) || invisible[r] || unicode.Is(unicode.Variation_Selector, r):
			continue
		case unicode.Is(unicode.M, r):
			if marks++; marks > maxMarks || b.Len() == 0 || space {
				continue
			}
		default:
			marks = 0
		}
		if space && b.Len() > 0 {
			b.WriteByte(' ')
		}
		space = false
		b.WriteRune(r)
	}
	return b.String()
}

// plainASCII reports whether text is printable ASCII with single spaces inside only.
func plainASCII(s string) bool {
	for i := range len(s) {
		if s[i] < ' ' || s[i] > '~' || s[i] == ' ' && (i == 0 || i == len(s)-1 || s[i-1] == ' ') {
			return false
		}
	}
	return true
}

// Inert gives a cell of a table that a spreadsheet would run, or take for something
// else than text, with an apostrophe before it, which spreadsheets take for the mark
// of text. It reports whether it put one there.
func Inert(s string) (cell string, marked bool) {
	trimmed := strings.TrimLeftFunc(s, func(r rune) bool { return r <= ' ' || unicode.IsSpace(r) || unicode.IsControl(r) })
	if s != "" && (strings.ContainsAny(s[:1], "\t\r\n") || strings.HasPrefix(s, "'")) {
		return "'" + s, true
	}
	for _, sign := range []string{"=", "+", "-", "@", "|", "%", "＝", "＋", "－", "＠"} {
		if strings.HasPrefix(trimmed, sign) {
			return "'" + s, true
		}
	}
	return s, false
}

// Error gives an error whose text is harmless, and which is still the one it was.
func Error(err error, hide func(string) string) error {
	if err == nil {
		return nil
	}
	return harmlessError{err, hide}
}

type harmlessError struct {
	error
	hide func(string) string
}

func (e harmlessError) Error() string { return Harmless(e.error.Error(), 2*Long, e.hide) }

func (e harmlessError) Unwrap() error { return e.error }

// Natural orders texts as people count: C9 before C10 before C100.
func Natural(a, b string) int {
	for a != "" && b != "" {
		da, db := digits(a), digits(b)
		if da > 0 && db > 0 {
			x, y := strings.TrimLeft(a[:da], "0"), strings.TrimLeft(b[:db], "0")
			if c := cmp.Or(cmp.Compare(len(x), len(y)), strings.Compare(x, y)); c != 0 {
				return c
			}
			a, b = a[da:], b[db:]
			continue
		}
		if a[0] != b[0] {
			return cmp.Compare(a[0], b[0])
		}
		a, b = a[1:], b[1:]
	}
	return cmp.Compare(len(a), len(b))
}

func digits(s string) (n int) {
	for n < len(s) && s[n] >= '0' && s[n] <= '9' {
		n++
	}
	return n
}

// Each replaces every string that v points at, in structs, slices, maps, their keys and
// pointers, by what f makes of it. It is for plain data, without cycles.
func Each(v any, f func(string) string) { each(reflect.ValueOf(v), f) }

func each(v reflect.Value, f func(string) string) {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			each(v.Elem(), f)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Field(i).CanSet() {
				each(v.Field(i), f)
			}
		}
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			each(v.Index(i), f)
		}
	case reflect.Map:
		eachInMap(v, f)
	case reflect.String:
		if v.CanSet() {
			v.SetString(f(v.String()))
		}
	}
}

// eachInMap replaces the values of a map, and the texts among its keys. Of keys that become
// the same, one stays.
func eachInMap(v reflect.Value, f func(string) string) {
	type pair struct{ key, value reflect.Value }
	var all []pair
	for _, k := range v.MapKeys() {
		key, value := reflect.New(k.Type()).Elem(), reflect.New(v.Type().Elem()).Elem()
		key.Set(k)
		value.Set(v.MapIndex(k))
		each(key, f)
		each(value, f)
		all = append(all, pair{key, value})
		v.SetMapIndex(k, reflect.Value{})
	}
	for _, p := range all {
		v.SetMapIndex(p.key, p.value)
	}
}

// Plural gives "1 camera", "2 cameras".
func Plural(n int, word string) string {
	if n != 1 {
		word += "s"
	}
	return strconv.Itoa(n) + " " + word
}

// Words puts texts beside each other with one space between, and leaves out empty ones.
func Words(parts ...string) string {
	return strings.Join(strings.Fields(strings.Join(parts, " ")), " ")
}

// Have gives "C05 has" of one, "C05 C06 have" of several.
func Have(names []string) string {
	if len(names) == 1 {
		return names[0] + " has"
	}
	return List(names) + " have"
}

// maxListed is how many names are listed before they are only counted.
const maxListed = 12

// List gives names beside each other, and of many the first ones and how many more.
func List(names []string) string {
	if n := len(names) - maxListed; n > 1 {
		return strings.Join(names[:maxListed], " ") + " and " + strconv.Itoa(n) + " more"
	}
	return strings.Join(names, " ")
}

// Are gives "C05 is" of one, "C05 C06 are" of several.
func Are(names []string) string {
	if len(names) == 1 {
		return names[0] + " is"
	}
	return List(names) + " are"
}
