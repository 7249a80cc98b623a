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
	forms []string // of all, the longest first
}

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
		v.forms = append(v.forms, forms(p.plain)...)
	}
	slices.SortFunc(v.forms, func(a, b string) int {
		if len(a) != len(b) {
			return len(b) - len(a)
		}
		return strings.Compare(a, b)
	})
	v.forms = slices.Compact(v.forms)
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
	for _, form := range v.forms {
		if strings.Contains(s, form) {
			s = strings.ReplaceAll(s, form, mask)
		}
	}
	return s
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
	for _, form := range v.forms {
		for at := 0; ; {
			i := bytes.Index(b[at:], []byte(form))
			if i < 0 {
				break
			}
			clear(b[at+i : at+i+len(form)])
			at, found = at+i+len(form), true
		}
		if len(b) < len(form) && strings.Contains(form, string(b)) { // a piece out of its middle
			clear(b)
			return true
		}
		for n := min(len(b), len(form)-1); n >= edge; n-- {
			if string(b[len(b)-n:]) == form[:n] {
				clear(b[len(b)-n:])
				found = true
			}
			if string(b[:n]) == form[len(form)-n:] {
				clear(b[:n])
				found = true
			}
		}
	}
	return found
}
