// Package soap codes SOAP 1.2 messages: envelopes, faults, and the WS-Security
// UsernameToken. It touches bytes only.
package soap

import (
	"bytes"
	"crypto/sha1" //nolint:gosec // the UsernameToken profile demands SHA-1
	"encoding/base64"
	"encoding/binary"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf16"
	"unicode/utf8"

	"janustat/core/secret"
)

// Namespaces of the standards spoken.
const (
	EnvelopeNS = "http://www.w3.org/2003/05/soap-envelope"
	wsseNS     = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"
	wsuNS      = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"
	digestType = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0#PasswordDigest"
	nonceType  = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-soap-message-security-1.0#Base64Binary"
)

// MaxMessage bounds a message from the wire, in bytes. Real ones are a few
// kilobytes; a recorder's list of 256 channels stays below a megabyte.
const MaxMessage = 1 << 20

// maxDepth bounds the nesting of elements in a message from the wire.
const maxDepth = 64

// Errors of Decode.
var (
	ErrTooLong = errors.New("message is too long")
	ErrNoSOAP  = errors.New("not a SOAP message")
)

// Envelope wraps header and body, which are XML already, into a message.
// prefixes declares further namespaces, as in `xmlns:tds="…"`.
func Envelope(prefixes, head, body string) []byte {
	var b bytes.Buffer
	b.WriteString(xml.Header)
	fmt.Fprintf(&b, `<s:Envelope xmlns:s="%s"%s>`, EnvelopeNS, space(prefixes))
	if head != "" {
		b.WriteString("<s:Header>" + head + "</s:Header>")
	}
	b.WriteString("<s:Body>" + body + "</s:Body></s:Envelope>")
	return b.Bytes()
}

func space(s string) string {
	if s == "" {
		return ""
	}
	return " " + s
}

// Text escapes text for XML content or an attribute.
func Text(s string) string {
	var b strings.Builder
	// EscapeText fails only when the writer does.
	_ = xml.EscapeText(&b, []byte(s))
	return b.String()
}

// UsernameToken gives the Security header of the WSS UsernameToken Profile 1.0
// with a password digest: Base64(SHA-1(nonce + created + password)). created is
// by the device's own clock, or it refuses the token as stale.
func UsernameToken(user string, p secret.Password, created time.Time, random io.Reader) (string, error) {
	nonce := make([]byte, 16)
	if _, err := io.ReadFull(random, nonce); err != nil {
		return "", fmt.Errorf("draw nonce: %w", err)
	}
	when := created.UTC().Format("2006-01-02T15:04:05.000Z")
	return fmt.Sprintf(`<wsse:Security s:mustUnderstand="1" xmlns:wsse="%s" xmlns:wsu="%s"><wsse:UsernameToken>`+
		`<wsse:Username>%s</wsse:Username><wsse:Password Type="%s">%s</wsse:Password>`+
		`<wsse:Nonce EncodingType="%s">%s</wsse:Nonce><wsu:Created>%s</wsu:Created></wsse:UsernameToken></wsse:Security>`,
		wsseNS, wsuNS, Text(user), digestType, PasswordDigest(nonce, when, p.Reveal()),
		nonceType, base64.StdEncoding.EncodeToString(nonce), when), nil
}

// PasswordDigest computes the digest of the UsernameToken Profile 1.0, 3.1.
func PasswordDigest(nonce []byte, created, password string) string {
	h := sha1.New() //nolint:gosec // as above
	h.Write(nonce)
	io.WriteString(h, created)
	io.WriteString(h, password)
	return base64.StdEncoding.EncodeToString(h.Sum(nil))
}

// Fault is a SOAP fault, or an HTTP refusal without one.
type Fault struct {
	Status   int      // HTTP status, 0 if none
	Code     string   // Sender, Receiver …
	Subcodes []string // local names, outermost first, such as NotAuthorized
	Reason   string
}

// Error gives what the device said.
func (f *Fault) Error() string {
	text := strings.TrimSpace(strings.Join(append([]string{f.Code}, f.Subcodes...), "/"))
	text = strings.Trim(text, "/")
	if f.Reason != "" {
		text = strings.TrimSpace(text + " " + fmt.Sprintf("%q", f.Reason))
	}
	if text == "" {
		return fmt.Sprintf("the device refused with HTTP status %d", f.Status)
	}
	return "the device refused: " + text
}

// Has reports whether a subcode of this name was given.
func (f *Fault) Has(sub string) bool {
	for _, s := range f.Subcodes {
		if s == sub {
			return true
		}
	}
	return false
}

// refusals are the subcodes by which access is refused: the device standard's, and those
// of WS-Security (SOAP Message Security 1.0, 12).
var refusals = []string{
	"NotAuthorized", "SenderNotAuthorized", "FailedAuthentication", "InvalidSecurityToken", "InvalidSecurity",
	"SecurityTokenUnavailable", "FailedCheck", "UnsupportedSecurityToken", "MessageExpired",
}

// refusedWords are how devices say it that have no subcode for it.
var refusedWords = []string{"not authorized", "notauthorized", "unauthorized", "not authorised", "authentication", "authorization", "access denied", "permission denied", "login required"}

// RefusesAccess reports whether a fault says that a password is wanted, or another one.
func (f *Fault) RefusesAccess() bool {
	if f.Status == 401 || f.Status == 403 || slices.ContainsFunc(f.Subcodes, func(s string) bool { return slices.Contains(refusals, s) }) {
		return true
	}
	// Words count where the device names no other reason.
	low := strings.ToLower(f.Reason)
	return (len(f.Subcodes) == 0 || f.Last("InvalidArgVal") || f.Last("Action")) &&
		slices.ContainsFunc(refusedWords, func(w string) bool { return strings.Contains(low, w) })
}

// Last reports whether the innermost subcode has this name: nothing more exact
// was said.
func (f *Fault) Last(sub string) bool {
	return len(f.Subcodes) > 0 && f.Subcodes[len(f.Subcodes)-1] == sub
}

type codeXML struct {
	Value   string   `xml:"Value"`
	Subcode *codeXML `xml:"Subcode"`
}

type faultXML struct {
	Code   codeXML `xml:"Code"`
	Reason struct {
		Text []string `xml:"Text"`
	} `xml:"Reason"`
	// SOAP 1.1 names, which some devices answer with whatever they are asked in.
	OldCode   string `xml:"faultcode"`
	OldReason string `xml:"faultstring"`
}

func (f *faultXML) fault() *Fault {
	out := &Fault{Code: local(f.Code.Value), Reason: f.OldReason}
	if out.Code == "" {
		out.Code = local(f.OldCode)
	}
	for s := f.Code.Subcode; s != nil; s = s.Subcode {
		if v := local(s.Value); v != "" {
			out.Subcodes = append(out.Subcodes, v)
		}
	}
	if len(f.Reason.Text) > 0 {
		out.Reason = strings.TrimSpace(f.Reason.Text[0])
	}
	// SOAP 1.1 has no subcodes: what is exact stands in the code itself, or after a dot
	// (SOAP 1.1, 4.4.1).
	if f.OldCode != "" {
		parts := strings.Split(out.Code, ".")
		switch parts[0] {
		case "Client", "Server", "MustUnderstand", "VersionMismatch":
			out.Code, parts = parts[0], parts[1:]
		}
		out.Subcodes = append(out.Subcodes, parts...)
	}
	return out
}

func local(qname string) string {
	qname = strings.TrimSpace(qname)
	if i := strings.LastIndexByte(qname, ':'); i >= 0 {
		return qname[i+1:]
	}
	return qname
}

// Decode reads a message and unmarshals the first element of its body into
// out, which may be nil. Elements are matched by local name, since devices
// differ in namespaces more than in names. A fault is returned as *Fault.
func Decode(r io.Reader, out any) error {
	data, err := io.ReadAll(io.LimitReader(r, MaxMessage+1))
	if err != nil {
		return err
	}
	if len(data) > MaxMessage {
		return ErrTooLong
	}
	if err := CheckDepth(data); err != nil {
		return err
	}
	d := NewDecoder(data)
	inBody := false
	for {
		t, err := d.Token()
		if err != nil {
			return fmt.Errorf("%w: %w", ErrNoSOAP, err)
		}
		el, ok := t.(xml.StartElement)
		switch {
		case !ok:
			if end, isEnd := t.(xml.EndElement); isEnd && inBody && end.Name.Local == "Body" {
				return nil // an empty body: some answers have nothing to say
			}
		case !inBody:
			switch el.Name.Local {
			case "Envelope":
			case "Body":
				inBody = true
			case "Header":
				if err := d.Skip(); err != nil {
					return fmt.Errorf("%w: %w", ErrNoSOAP, err)
				}
			default:
				return ErrNoSOAP
			}
		case el.Name.Local == "Fault":
			var f faultXML
			if err := d.DecodeElement(&f, &el); err != nil {
				return fmt.Errorf("%w: %w", ErrNoSOAP, err)
			}
			return f.fault()
		case out == nil:
			return nil
		default:
			if err := d.DecodeElement(out, &el); err != nil {
				return fmt.Errorf("answer %s: %w", el.Name.Local, err)
			}
			return nil
		}
	}
}

// Names gives the local name of the first element in the body of a message, "" where there
// is none.
func Names(data []byte) string {
	if len(data) > MaxMessage || CheckDepth(data) != nil {
		return ""
	}
	d := NewDecoder(data)
	for inBody := false; ; {
		t, err := d.Token()
		if err != nil {
			return ""
		}
		el, ok := t.(xml.StartElement)
		switch {
		case !ok:
		case inBody:
			return el.Name.Local
		case el.Name.Local == "Body":
			inBody = true
		case el.Name.Local == "Header":
			if d.Skip() != nil {
				return ""
			}
		case el.Name.Local != "Envelope":
			return ""
		}
	}
}

// NewDecoder gives a decoder that takes XML as devices write it: in Latin-1, declared or
// not, with control characters or a bare ampersand in it, and with octets before or after
// the document. It never expands entities of the message's own.
func NewDecoder(data []byte) *xml.Decoder {
	d := xml.NewDecoder(bytes.NewReader(plain(data)))
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	return d
}

// plain makes UTF-8 of a document, without what XML forbids. One that declares UTF-8 and
// is none is taken for Latin-1, as one that declares that is (ISO 8859-1).
func plain(data []byte) []byte {
	data = bytes.TrimPrefix(narrow(data), []byte("\xef\xbb\xbf"))
	if latin(data) {
		wide := make([]byte, 0, len(data)+len(data)/4)
		for _, c := range data {
			wide = utf8.AppendRune(wide, rune(c))
		}
		data = wide
	}
	bad := func(r rune) bool { return r < ' ' && r != '\t' && r != '\n' && r != '\r' || r == 0xfffe || r == 0xffff }
	if bytes.ContainsFunc(data, bad) {
		data = bytes.Map(func(r rune) rune {
			if bad(r) {
				return -1
			}
			return r
		}, data)
	}
	// A bare ampersand stands for itself; where a message has entities of its own, it does not.
	if bytes.IndexByte(data, '&') >= 0 && !declaration.Match(data) {
		data = ampersand.ReplaceAllFunc(data, func(m []byte) []byte {
			if len(m) > 1 {
				return m
			}
			return []byte("&amp;")
		})
	}
	return data
}

// declaration matches what begins entities of a message's own (XML 1.0, 2.8).
var declaration = regexp.MustCompile(`<!(?:DOCTYPE|ENTITY)`)

// ampersand matches a reference that XML knows (XML 1.0, 4.1 and 4.6), or else a bare ampersand.
var ampersand = regexp.MustCompile(`&(?:amp|lt|gt|quot|apos|#[0-9]{1,7}|#x[0-9A-Fa-f]{1,6});|&`)

// declaredLatin are the labels of one octet a character.
var declaredLatin = []string{"iso-8859-1", "iso8859-1", "iso_8859-1", "iso-8859-15", "latin1", "latin-1", "windows-1252", "cp1252"}

// narrow makes UTF-8 of UTF-16, which a byte-order mark tells (XML 1.0, 4.3.3).
func narrow(data []byte) []byte {
	var order binary.ByteOrder
	switch {
	case bytes.HasPrefix(data, []byte{0xfe, 0xff}):
		order = binary.BigEndian
	case bytes.HasPrefix(data, []byte{0xff, 0xfe}):
		order = binary.LittleEndian
	default:
		return data
	}
	var units []uint16
	for data = data[2:]; len(data) > 1; data = data[2:] {
		units = append(units, order.Uint16(data))
	}
	return []byte(string(utf16.Decode(units)))
}

// latin reports whether a document is in Latin-1, by its declaration or by what it is.
func latin(data []byte) bool {
	if !utf8.Valid(data) {
		return true
	}
	head := strings.ToLower(string(data[:min(len(data), 100)]))
	_, after, declared := strings.Cut(head, "encoding=")
	if !strings.HasPrefix(strings.TrimSpace(head), "<?xml") || !declared || len(after) < 2 {
		return false
	}
	label, _, _ := strings.Cut(after[1:], after[:1])
	return slices.Contains(declaredLatin, strings.TrimSpace(label))
}

// CheckDepth refuses messages nested deeper than any honest one.
func CheckDepth(data []byte) error {
	d, depth := NewDecoder(data), 0
	for {
		t, err := d.RawToken()
		if err != nil {
			return nil // the real decoder will say what is wrong
		}
		switch t.(type) {
		case xml.StartElement:
			if depth++; depth > maxDepth {
				return fmt.Errorf("%w: nested too deeply", ErrNoSOAP)
			}
		case xml.EndElement:
			depth--
		}
	}
}
