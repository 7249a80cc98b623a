// Package wsd codes WS-Discovery messages (2005/04 and the OASIS 1.1 wording of
// the same): Probe and Resolve out; Hello, Bye and matches in. It touches bytes only.
package wsd

import (
	"crypto/rand"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"janustat/internal/speak/soap"
)

// Port and Group are where WS-Discovery is spoken (2005/04, 2.4).
const Port = 3702

// ClientPort is the UDP port that our questions come from and answers go to.
const ClientPort = 41702

// Group is the IPv4 multicast group of WS-Discovery.
var Group = netip.AddrFrom4([4]byte{239, 255, 255, 250})

// Group6 is the link-local IPv6 multicast group of WS-Discovery.
var Group6 = netip.MustParseAddr("ff02::c")

// Namespaces.
const (
	discoveryNS  = "http://schemas.xmlsoap.org/ws/2005/04/discovery"
	addressingNS = "http://schemas.xmlsoap.org/ws/2004/08/addressing"
	// NetworkNS and DeviceNS hold the types that standard devices announce.
	NetworkNS = "http://www.onvif.org/ver10/network/wsdl"
	DeviceNS  = "http://www.onvif.org/ver10/device/wsdl"
	profileNS = "http://schemas.xmlsoap.org/ws/2006/02/devprof"

	toDiscovery = "urn:schemas-xmlsoap-org:ws:2005:04:discovery"
)

// ErrNotDiscovery is returned for a message that is not one of WS-Discovery's.
var ErrNotDiscovery = errors.New("not a WS-Discovery message")

// Type is a qualified type name.
type Type struct{ Space, Local string }

// The types probed for. An empty probe is sent too, but many devices answer
// only a probe for their own type.
var (
	Transmitter = Type{NetworkNS, "NetworkVideoTransmitter"}
	AnyDevice   = Type{DeviceNS, "Device"}
	// WebDevice is the type of everything that follows the Devices Profile for Web
	// Services: computers and printers, for the most part.
	WebDevice = Type{profileNS, "Device"}
)

// prefixOf are the prefixes that everyone's examples use. XML leaves them free,
// but some hosts compare types as text.
var prefixOf = map[string]string{NetworkNS: "dn", DeviceNS: "tds", profileNS: "wsdp"}

// Probe builds a probe for types; none asks everything. The message id must be a fresh urn:uuid.
func Probe(id string, types ...Type) []byte {
	inner, decl := "", ""
	if len(types) > 0 {
		names := make([]string, len(types))
		for i, t := range types {
			prefix := prefixOf[t.Space]
			if prefix == "" {
				prefix = fmt.Sprintf("q%d", i)
			}
			decl += fmt.Sprintf(` xmlns:%s="%s"`, prefix, t.Space)
			names[i] = prefix + ":" + t.Local
		}
		inner = "<d:Types>" + strings.Join(names, " ") + "</d:Types>"
	}
	return message(id, "Probe", decl, "<d:Probe>"+inner+"</d:Probe>")
}

// Resolve asks where the service of an endpoint is.
func Resolve(id, endpoint string) []byte {
	return message(id, "Resolve", "", "<d:Resolve><a:EndpointReference><a:Address>"+soap.Text(endpoint)+
		"</a:Address></a:EndpointReference></d:Resolve>")
}

func message(id, action, decl, body string) []byte {
	head := fmt.Sprintf(`<a:Action s:mustUnderstand="1">%s/%s</a:Action><a:MessageID>%s</a:MessageID>`+
		`<a:ReplyTo><a:Address>%s/role/anonymous</a:Address></a:ReplyTo><a:To s:mustUnderstand="1">%s</a:To>`,
		discoveryNS, action, soap.Text(id), addressingNS, toDiscovery)
	prefixes := `xmlns:a="` + addressingNS + `" xmlns:d="` + discoveryNS + `"` + decl
	return soap.Envelope(prefixes, head, body)
}

// Kind is what a message says.
type Kind string

// The kinds of messages that concern a client.
const (
	Hello          Kind = "Hello"
	Bye            Kind = "Bye"
	ProbeMatches   Kind = "ProbeMatches"
	ResolveMatches Kind = "ResolveMatches"
)

// Message is a message from a device.
type Message struct {
	Kind     Kind
	Matches  []Match // one for Hello and Bye
	Instance uint64  // grows with each start of the sender; 0 when not said (2005/04, appendix II)
}

// Match is one target service.
type Match struct {
	Endpoint string
	Types    []Type
	Scopes   []string
	XAddrs   []string
}

// With gives the match with what an earlier one said and this one leaves out:
// announcements are often shorter than answers. Earlier may be nil.
func (m Match) With(earlier *Match) Match {
	if earlier == nil || earlier.Endpoint != m.Endpoint {
		return m
	}
	if len(m.Types) == 0 {
		m.Types = earlier.Types
	}
	if len(m.Scopes) == 0 {
		m.Scopes = earlier.Scopes
	}
	if len(m.XAddrs) == 0 {
		m.XAddrs = earlier.XAddrs
	}
	return m
}

// Says reports whether two matches say the same.
func (m Match) Says(o Match) bool {
	return m.Endpoint == o.Endpoint && slices.Equal(m.Types, o.Types) && slices.Equal(m.Scopes, o.Scopes) && slices.Equal(m.XAddrs, o.XAddrs)
}

// maxMatches bounds the matches of one message: a device answers for itself.
const maxMatches = 64

// Parse reads a message. Prefixes in Types are resolved by the declarations in
// force where they stand, since no two makers use the same.
func Parse(data []byte) (Message, error) {
	if len(data) > soap.MaxMessage {
		return Message{}, soap.ErrTooLong
	}
	p := parser{d: soap.NewDecoder(data)}
	err := p.run()
	// A match without an endpoint names nobody. What was whole before an error is good.
	p.msg.Matches = slices.DeleteFunc(p.msg.Matches[:p.whole], func(m Match) bool { return m.Endpoint == "" })
	if err != nil && len(p.msg.Matches) == 0 {
		return Message{}, err
	}
	if p.msg.Kind == "" {
		return Message{}, ErrNotDiscovery
	}
	return p.msg, nil
}

type parser struct {
	d     *xml.Decoder
	path  []string
	scope []map[string]string // namespace prefixes declared by each open element
	text  strings.Builder
	msg   Message

	whole  int  // matches that were read to their end
	closed bool // so was the envelope
}

const maxPath = 64

func (p *parser) run() error {
	for {
		t, err := p.d.Token()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return fmt.Errorf("%w: %w", ErrNotDiscovery, err)
		}
		switch el := t.(type) {
		case xml.StartElement:
			if len(p.path) >= maxPath {
				return fmt.Errorf("%w: nested too deeply", ErrNotDiscovery)
			}
			p.start(el)
		case xml.CharData:
			p.text.Write(el)
		case xml.EndElement:
			p.end(el.Name.Local)
			if p.closed {
				return nil // whatever comes after the envelope
			}
		}
	}
}

func (p *parser) start(el xml.StartElement) {
	declared := map[string]string{}
	for _, a := range el.Attr {
		switch {
		case a.Name.Space == "xmlns":
			declared[a.Name.Local] = a.Value
		case a.Name.Space == "" && a.Name.Local == "xmlns":
			declared[""] = a.Value
		}
	}
	p.path, p.scope = append(p.path, el.Name.Local), append(p.scope, declared)
	p.text.Reset()
	if el.Name.Local == "AppSequence" {
		for _, a := range el.Attr {
			if n, err := strconv.ParseUint(a.Value, 10, 64); err == nil && a.Name.Local == "InstanceId" {
				p.msg.Instance = n
			}
		}
	}
	switch name := Kind(el.Name.Local); name {
	case Hello, Bye:
		if p.msg.Kind == "" && p.inBody() {
			p.msg.Kind = name
			p.msg.Matches = append(p.msg.Matches, Match{})
		}
	case ProbeMatches, ResolveMatches:
		if p.msg.Kind == "" && p.inBody() {
			p.msg.Kind = name
		}
	case "ProbeMatch", "ResolveMatch":
		if p.msg.Kind != "" && len(p.msg.Matches) < maxMatches {
			p.msg.Matches = append(p.msg.Matches, Match{})
		}
	}
}

// inBody reports whether the element just opened stands right inside the body.
func (p *parser) inBody() bool { return len(p.path) >= 2 && p.path[len(p.path)-2] == "Body" }

func (p *parser) end(name string) {
	text := strings.TrimSpace(p.text.String())
	if n := len(p.msg.Matches); n > 0 {
		m := &p.msg.Matches[n-1]
		switch name {
		case "Address":
			if len(p.path) >= 2 && p.path[len(p.path)-2] == "EndpointReference" {
				m.Endpoint = text
			}
		case "Types":
			m.Types = p.types(text)
		case "Scopes":
			m.Scopes = strings.Fields(text)
		case "XAddrs":
			m.XAddrs = strings.Fields(text)
		case string(Hello), string(Bye), "ProbeMatch", "ResolveMatch":
			p.whole = n
		}
	}
	p.path, p.scope = p.path[:len(p.path)-1], p.scope[:len(p.scope)-1]
	p.closed = len(p.path) == 0
	p.text.Reset()
}

func (p *parser) types(text string) []Type {
	var out []Type
	for _, q := range strings.Fields(text) {
		prefix, local, ok := strings.Cut(q, ":")
		if !ok {
			prefix, local = "", q
		}
		out = append(out, Type{p.lookup(prefix), local})
	}
	return out
}

func (p *parser) lookup(prefix string) string {
	for i := len(p.scope) - 1; i >= 0; i-- {
		if ns, ok := p.scope[i][prefix]; ok {
			return ns
		}
	}
	return ""
}

// NewID gives a random UUID as a URN (RFC 4122, 4.4): that of a message.
func NewID() string {
	var b [16]byte
	_, _ = rand.Read(b[:]) // never fails (crypto/rand)
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
	return fmt.Sprintf("urn:uuid:%x-%x-%x-%x-%x", b[0:4], b[4:6], b[6:8], b[8:10], b[10:])
}
