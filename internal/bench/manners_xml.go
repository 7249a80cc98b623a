package bench

import (
	"bytes"
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"unicode/utf16"
)

// text matches what stands between two tags.
var text = regexp.MustCompile(`>([^<>]+)<`)

// inText gives what changes each text of an answer.
func inText(change func(s string) string) func([]byte) []byte {
	return func(out []byte) []byte {
		head, rest := out, []byte(nil)
		if at := bytes.Index(out, []byte("Body")); at >= 0 {
			head, rest = out[:at], out[at:]
		}
		return append(bytes.Clone(head), text.ReplaceAllFunc(rest, func(m []byte) []byte {
			s := string(m[1 : len(m)-1])
			if strings.TrimSpace(s) == "" {
				return m
			}
			return []byte(">" + change(s) + "<")
		})...)
	}
}

func declared(m Model) bool { return m.Dialect == "declared" }

// xmlManners are those of XML, of its encodings and of faults.
var xmlManners = map[string]manner{
	"byte-order mark": {
		stands: "XML 1.0, 4.3.3: a byte-order mark", weight: 1, group: "octets",
		octets: func(out []byte) []byte { return append([]byte("\xef\xbb\xbf"), out...) },
	},
	"UTF-16": {
		stands: "XML 1.0, 2.2 and 4.3.3: every processor reads UTF-16", weight: 1, group: "octets",
		octets: func(out []byte) []byte {
			wide := []byte{0xfe, 0xff}
			for _, u := range utf16.Encode([]rune(strings.Replace(string(out), "UTF-8", "UTF-16", 1))) {
				wide = append(wide, byte(u>>8), byte(u))
			}
			return wide
		},
		head: func(h http.Header) { h.Set("Content-Type", "application/soap+xml; charset=utf-16") },
	},
	"Latin-1": {
		stands: "XML 1.0, 4.3.3: a declared encoding, ISO 8859-1", weight: 1, group: "octets",
		brings: func(m *Model, _ *Unit) { m.Make = "Størmø" },
		octets: func(out []byte) []byte {
			var narrow []byte
			for _, r := range strings.Replace(string(out), "UTF-8", "ISO-8859-1", 1) {
				narrow = append(narrow, byte(r))
			}
			if !bytes.Contains(narrow[:min(64, len(narrow))], []byte("ISO-8859-1")) {
				narrow = append([]byte(`<?xml version="1.0" encoding="ISO-8859-1"?>`), narrow...)
			}
			return narrow
		},
	},
	"blank lines first": {
		stands: "seen: blank lines before the declaration", weight: 1, group: "octets",
		octets: func(out []byte) []byte { return append([]byte("\r\n\r\n"), out...) },
	},
	"comments": {
		stands: "XML 1.0, 2.5 and 2.6: comments and processing instructions anywhere", weight: 2, group: "xml more",
		octets: func(out []byte) []byte {
			out = bytes.ReplaceAll(out, []byte("</"), []byte("<!-- a > b --><?note x?></"))
			return append(out, "<!-- end -->"...)
		},
	},
	"CDATA": {
		stands: "XML 1.0, 2.7: CDATA sections", weight: 2, group: "xml more", needs: declared,
		octets: inText(func(s string) string {
			if strings.Contains(s, "&") {
				return s
			}
			return "<![CDATA[" + s + "]]>"
		}),
	},
	"character references": {
		stands: "XML 1.0, 4.1: references for any character", weight: 2, group: "xml more",
		octets: inText(func(s string) string {
			if strings.Contains(s, "&") {
				return s
			}
			var b strings.Builder
			for i, r := range s {
				if i%2 == 0 {
					fmt.Fprintf(&b, "&#x%X;", r)
				} else {
					fmt.Fprintf(&b, "&#%d;", r)
				}
			}
			return b.String()
		}),
	},
	"white space": {
		stands: "XML Schema 2, 4.3.6: white space around values", weight: 2, group: "xml more",
		octets: inText(func(s string) string { return "\n\t " + s + " \r\n" }),
	},
	"headers": {
		stands: "SOAP 1.2, 5.2: a header, and attributes of other namespaces", weight: 2, group: "xml more", needs: declared,
		octets: func(out []byte) []byte {
			at := bytes.Index(out, []byte("Body"))
			start := bytes.LastIndexByte(out[:max(at, 0)], '<')
			if at < 0 || start < 0 || bytes.Contains(out[:at], []byte("Header")) {
				return out
			}
			prefix := out[start+1 : at]
			head := fmt.Sprintf(`<%[1]sHeader><x:Stamp xmlns:x="urn:example:stamp" x:role="none"><x:Body>2026</x:Body></x:Stamp></%[1]sHeader>`, prefix)
			return append(append(bytes.Clone(out[:start]), head...), out[start:]...)
		},
	},
	"extensions": {
		stands: "Core Specification, 5.3: elements of later versions, of any name", weight: 2, group: "xml more",
		shape: func(_ *Device, _ string, answer *node) {
			for _, k := range append([]*node{answer}, answer.kids...) {
				if len(k.kids) > 0 {
					k.kids = append(k.kids, el(typNS, "Extension", el("urn:example:more", "Address", "198.51.100.7"), el("urn:example:more", "Enabled", "maybe")))
				}
			}
		},
	},
	"numbers for booleans": {
		stands: "XML Schema 2, 3.2.2: 1 and 0 for booleans", weight: 2, group: "booleans",
		octets: inText(func(s string) string {
			switch s {
			case "true":
				return "1"
			case "false":
				return "0"
			}
			return s
		}),
	},
	"capital booleans": {
		stands: "seen: True and FALSE for booleans", weight: 1, group: "booleans",
		octets: inText(func(s string) string {
			switch s {
			case "true":
				return "True"
			case "false":
				return "FALSE"
			}
			return s
		}),
	},
	"faults by 200": {
		stands: "seen: faults with HTTP status 200", weight: 2, group: "faults", needs: func(m Model) bool { return !digests(m) },
		blame: func(f *fault) (*fault, *node) {
			g := *f
			g.status = http.StatusOK
			return &g, g.node()
		},
	},
	"faults in words": {
		stands: "seen: faults without subcodes", weight: 2, group: "faults",
		blame: func(f *fault) (*fault, *node) {
			return f, el(envNS, "Fault", el(envNS, "Code", qnames(envNS, "Value", [2]string{envNS, f.code})),
				el(envNS, "Reason", el(envNS, "Text", f.reason).with("xml:lang", "en")))
		},
	},
	"faults in German": {
		stands: "SOAP 1.2, 5.4.2: reasons in any language", weight: 1, group: "faults",
		blame: func(f *fault) (*fault, *node) {
			g := *f
			g.reason = "Das wird nicht unterstützt, oder es fehlt die Berechtigung"
			return f, g.node()
		},
	},
	"bare faults": {
		stands: "seen: a status, and no message", weight: 1, group: "faults", needs: func(m Model) bool { return digests(m) },
		blame: func(f *fault) (*fault, *node) { return f, nil },
	},
	"no serial": {
		stands: "seen: no serial number", weight: 2, group: "texts",
		shape: func(_ *Device, op string, answer *node) {
			if op == "GetDeviceInformation" {
				answer.each("SerialNumber", func(n *node) { n.text = "" })
			}
		},
	},
	"serial of zeros": {
		stands: "seen: the same serial number on every device", weight: 2, group: "texts",
		shape: func(_ *Device, op string, answer *node) {
			if op == "GetDeviceInformation" {
				answer.each("SerialNumber", func(n *node) { n.text = "000000000000" })
			}
		},
	},
	"no information": {
		stands: "seen: GetDeviceInformation is refused for good", weight: 1, group: "texts",
		refuse: func(_ *Device, op string, _ *element) *fault {
			if op == "GetDeviceInformation" {
				return noSuchSetting
			}
			return nil
		},
	},
}
