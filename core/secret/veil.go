package secret

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"net/url"
	"slices"
	"strings"
	"sync"
)

// Veil knows the passwords that are in play and blanks them out of text and bytes: a
// device may quote in a fault, or in its name, what it was sent. The zero value and
// nil know none. It is safe for use by several goroutines.
type Veil struct {
	mu    sync.RWMutex
	known map[string]bool
	forms []string // of all
	// Forms by their beginnings and ends: a job of a thousand devices has some ten
	// thousand, and each word of each device is held against them.
	begin, end map[key][]string
	longest    int
}

// key is the beginning or the end of a form.
type key [edge]byte

// hidable is how many bytes a secret has that is blanked: a shorter one stands in
// too much that is harmless.
const hidable = 4

// Add makes passwords known. Short ones cannot be hidden.
func (v *Veil) Add(list ...Password) {
	if v == nil {
		return
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, p := range list {
		if len(p.plain) < hidable || v.known[p.plain] {
			continue
		}
		if v.known == nil {
			v.known = map[string]bool{}
		}
		v.known[p.plain] = true
		for _, form := range forms(p.plain) {
			v.add(form)
		}
	}
}

func (v *Veil) add(form string) {
	begin, end := key([]byte(form[:edge])), key([]byte(form[len(form)-edge:]))
	if slices.Contains(v.begin[begin], form) {
		return
	}
	if v.begin == nil {
		v.begin, v.end = map[key][]string{}, map[key][]string{}
	}
	v.forms = append(v.forms, form)
	v.begin[begin], v.end[end] = append(v.begin[begin], form), append(v.end[end], form)
	v.longest = max(v.longest, len(form))
}

// forms are the ways in which a device may write a secret back: as it is, as XML,
// JSON and URLs escape it, and in base64 and hexadecimal.
func forms(plain string) []string {
	xml := strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&#34;", "'", "&#39;")
	named := strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "'", "&apos;")
	json := strings.NewReplacer(`\`, `\\`, `"`, `\"`)
	out := []string{
		plain, xml.Replace(plain), named.Replace(plain), json.Replace(plain), url.QueryEscape(plain), url.PathEscape(plain),
		base64.StdEncoding.EncodeToString([]byte(plain)), base64.RawStdEncoding.EncodeToString([]byte(plain)), base64.RawURLEncoding.EncodeToString([]byte(plain)),
		hex.EncodeToString([]byte(plain)), strings.ToUpper(hex.EncodeToString([]byte(plain))),
	}
	return slices.DeleteFunc(out, func(s string) bool { return len(s) < hidable })
}

// Text blanks every known password in text.
func (v *Veil) Text(s string) string {
	if v == nil {
		return s
	}
	v.mu.RLock()
	defer v.mu.RUnlock()
	var out strings.Builder
	from := 0
	for _, m := range v.find([]byte(s)) {
		out.WriteString(s[from:m.from])
		out.WriteString(mask)
		from = m.to
	}
	if from == 0 {
		return s
	}
	out.WriteString(s[from:])
	return out.String()
}

// span is a piece of text or bytes.
type span struct{ from, to int }

// find gives where known passwords stand, those that overlap together. The lock is held.
func (v *Veil) find(b []byte) (out []span) {
	if len(v.forms) == 0 {
		return nil
	}
	for i := 0; i+edge <= len(b); i++ {
		for _, form := range v.begin[key(b[i:i+edge])] {
			if !bytes.HasPrefix(b[i:], []byte(form)) {
				continue
			}
			if n := len(out); n > 0 && out[n-1].to > i {
				out[n-1].to = max(out[n-1].to, i+len(form))
			} else {
				out = append(out, span{i, i + len(form)})
			}
		}
	}
	return out
}

// edge is how many bytes of a secret give it away at the end or the beginning of a
// piece of a stream.
const edge = 3

// Bytes overwrites every known password with zeros in a piece of a stream, such as
// the content of a TCP segment: also the parts of one that was cut in two, or that
// lies between cuts. It reports whether there was any, and changes b in place.
func (v *Veil) Bytes(b []byte) (found bool) {
	if v == nil || len(b) == 0 {
		return false
	}
	v.mu.RLock()
	defer v.mu.RUnlock()
	if len(b) < v.longest { // a piece out of the middle of one?
		for _, form := range v.forms {
			if len(b) < len(form) && strings.Contains(form, string(b)) {
				clear(b)
				return true
			}
		}
	}
	// All is found before anything is cleared.
	spans := append(v.find(b), v.cut(b)...)
	for _, s := range spans {
		clear(b[s.from:s.to])
	}
	return len(spans) > 0
}

// cut gives the piece at the end that begins a password, and the one at the beginning
// that ends one. The lock is held.
func (v *Veil) cut(b []byte) (out []span) {
	for i := max(0, len(b)-v.longest); i+edge <= len(b); i++ {
		for _, form := range v.begin[key(b[i:i+edge])] {
			if strings.HasPrefix(form, string(b[i:])) {
				out = append(out, span{i, len(b)})
			}
		}
	}
	for n := edge; n <= min(len(b), v.longest); n++ {
		for _, form := range v.end[key(b[n-edge:n])] {
			if strings.HasSuffix(form, string(b[:n])) {
				out = append(out, span{0, n})
			}
		}
	}
	return out
}
