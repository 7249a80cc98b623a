package bench

import (
	"encoding/xml"
	"fmt"
	"slices"
	"strings"
)

// Namespaces as the standards name them.
const (
	envNS     = "http://www.w3.org/2003/05/soap-envelope"
	devNS     = "http://www.onvif.org/ver10/device/wsdl"
	typNS     = "http://www.onvif.org/ver10/schema"
	errNS     = "http://www.onvif.org/ver10/error"
	netNS     = "http://www.onvif.org/ver10/network/wsdl"
	wsdNS     = "http://schemas.xmlsoap.org/ws/2005/04/discovery"
	wsaNS     = "http://schemas.xmlsoap.org/ws/2004/08/addressing"
	printerNS = "http://tallow-pike.example/print"
)

// usual are the prefixes that most makers' examples use.
var usual = map[string]string{
	envNS: "SOAP-ENV", devNS: "tds", typNS: "tt", errNS: "ter", netNS: "dn", wsdNS: "wsdd", wsaNS: "wsa", printerNS: "prn", medNS: "trt", recNS: "trc", rcvNS: "trv", uplinkNS: "tup", keystoreNS: "tas", xopNS: "xop",
}

// node is an XML element to be written in some maker's manner.
type node struct {
	space, name string
	attrs       [][2]string
	kids        []*node
	text        string
	qnames      [][2]string // content that is a list of qualified names
}

// el builds an element; strings become its text, nodes its children.
func el(space, name string, content ...any) *node {
	n := &node{space: space, name: name}
	for _, c := range content {
		switch v := c.(type) {
		case *node:
			if v != nil {
				n.kids = append(n.kids, v)
			}
		case []*node:
			n.kids = append(n.kids, v...)
		default:
			n.text += fmt.Sprint(v)
		}
	}
	return n
}

func (n *node) with(name, value string) *node {
	n.attrs = append(n.attrs, [2]string{name, value})
	return n
}

func qnames(space, name string, list ...[2]string) *node {
	return &node{space: space, name: name, qnames: list}
}

// envelope wraps an answer.
func envelope(head, body *node) *node {
	if head == nil {
		return el(envNS, "Envelope", el(envNS, "Body", body))
	}
	return el(envNS, "Envelope", head, el(envNS, "Body", body))
}

// render writes a message as the dialect has it: all prefixes declared at the
// top (declared), default namespaces without prefixes (default), or each
// namespace declared anew wherever it is used, with odd prefixes, single quotes
// and line breaks (wild).
func render(dialect string, root *node) []byte {
	w := &writer{dialect: dialect}
	if dialect != "wild" {
		w.b.WriteString(`<?xml version="1.0" encoding="UTF-8"?>` + "\n")
	}
	w.node(root, "", 0)
	return []byte(w.b.String())
}

type writer struct {
	b       strings.Builder
	dialect string
	odd     int
}

func (w *writer) node(n *node, inherited string, depth int) {
	var decl [][2]string
	name := n.name
	switch {
	case w.dialect == "default":
		if n.space != inherited {
			decl = append(decl, [2]string{"xmlns", n.space})
		}
	case n.space == "": // of no namespace: no prefix can stand for that (Namespaces in XML 1.0, 2.2)
	case w.dialect == "wild":
		w.odd++
		prefix := fmt.Sprintf("e%d", w.odd)
		name = prefix + ":" + n.name
		decl = append(decl, [2]string{"xmlns:" + prefix, n.space})
	default:
		prefix, known := usual[n.space]
		if !known { // declared where it is used
			w.odd++
			prefix = fmt.Sprintf("x%d", w.odd)
			decl = append(decl, [2]string{"xmlns:" + prefix, n.space})
		}
		name = prefix + ":" + n.name
		if depth == 0 {
			for ns, p := range usual {
				decl = append(decl, [2]string{"xmlns:" + p, ns})
			}
			slices.SortFunc(decl, func(a, b [2]string) int { return strings.Compare(a[0], b[0]) })
		}
	}
	text, more := w.content(n)
	attrs := append(append(decl, more...), n.attrs...)
	if w.dialect == "wild" {
		slices.Reverse(attrs)
	}
	w.b.WriteString("<" + name)
	for _, a := range attrs {
		quote := `"`
		if w.dialect == "wild" {
			quote = "'"
		}
		w.b.WriteString(" " + a[0] + "=" + quote + escape(a[1]) + quote)
	}
	if text == "" && len(n.kids) == 0 {
		w.b.WriteString("/>")
		return
	}
	w.b.WriteString(">" + text)
	for _, k := range n.kids {
		if w.dialect == "wild" {
			w.b.WriteString("\n" + strings.Repeat("  ", depth+1))
		}
		w.node(k, n.space, depth+1)
	}
	w.b.WriteString("</" + name + ">")
}

// content gives an element's text, and the declarations its qualified names need.
func (w *writer) content(n *node) (string, [][2]string) {
	if n.qnames == nil {
		return escape(n.text), nil
	}
	var decl [][2]string
	var names []string
	for i, q := range n.qnames {
		prefix := usual[q[0]]
		if w.dialect != "declared" {
			prefix = fmt.Sprintf("t%d", i)
			decl = append(decl, [2]string{"xmlns:" + prefix, q[0]})
		}
		names = append(names, prefix+":"+q[1])
	}
	return strings.Join(names, " "), decl
}

func escape(s string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(s)) // a Builder never fails
	return b.String()
}

// element is a received XML element, taken apart without regard to prefixes.
type element struct {
	XMLName xml.Name
	Attrs   []xml.Attr `xml:",any,attr"`
	Text    string     `xml:",chardata"`
	Kids    []element  `xml:",any"`
}

// find gives the first descendant by path of local names, or an empty element.
func (e *element) find(path ...string) *element {
	if len(path) == 0 {
		return e
	}
	for i := range e.Kids {
		if e.Kids[i].XMLName.Local == path[0] {
			return e.Kids[i].find(path[1:]...)
		}
	}
	return &element{}
}

// attr gives an attribute by its local name, "" without it.
func (e *element) attr(name string) string {
	for _, a := range e.Attrs {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

func (e *element) value() string { return strings.TrimSpace(e.Text) }
