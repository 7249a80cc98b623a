// Package hail speaks Hail, the open protocol by which devices that have no standard for
// it are set up over the LAN. Both ends are here: the controller's, and the device's. The
// specification is docs/hail.md.
package hail

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"net/netip"
	"slices"
	"strings"

	"janustat/core/device"
	"janustat/core/evidence"
)

// Where Hail is spoken: the port and the groups that RFC 4727 (sections 6 and 2.4.2; and
// section 3 for IPv6) keeps for experiments, on the link only.
const Port = 1021

// The groups, of IPv4 and IPv6.
var (
	Group  = netip.MustParseAddr("224.0.0.254")
	Group6 = netip.MustParseAddr("ff02::114")
)

// The versions of conversations spoken here. Seek and Here are the same in every version,
// and carry Meeting in their headers, so that each finds each.
const (
	Version1 = 1
	Version2 = 2
	Meeting  = Version1
)

// Speaks are the versions spoken here, the newest first.
var Speaks = []int{Version2, Version1}

// Kind is what a message is.
type Kind byte

// The kinds.
const (
	Seek    Kind = 1 // who is there? To everyone, or to one device
	Here    Kind = 2 // what a device is, to everyone
	Begin   Kind = 3 // first message of a handshake, with the pattern
	Answer  Kind = 4 // second
	Proof   Kind = 5 // third
	Call    Kind = 6 // encrypted request
	Reply   Kind = 7 // encrypted answer
	Refusal Kind = 8 // why there is none
)

// Everyone is the address of a Seek that all answer.
var Everyone = device.MAC{0xff, 0xff, 0xff, 0xff, 0xff, 0xff}

// Sizes, in bytes.
const (
	HeaderLen  = 24
	MaxMessage = 1400 // fits a frame
)

// Exchange tells the messages of one conversation; the controller draws it at random.
type Exchange [8]byte

// Message is one datagram.
type Message struct {
	Version  byte // of the conversation; 0 is Meeting
	Kind     Kind
	Device   device.MAC // spoken to, or speaking
	Exchange Exchange
	Seq      uint32 // of a call, from 1; a reply has that of its call
	Body     []byte
}

// Errors of reading a message.
var (
	ErrNotHail = errors.New("no Hail message")
	ErrVersion = errors.New("a later version of Hail")
)

var magic = [4]byte{'H', 'A', 'I', 'L'}

// Header gives the header, which encrypted bodies are bound to.
func (m *Message) Header() []byte {
	b := make([]byte, 0, HeaderLen+len(m.Body))
	b = append(b, magic[:]...)
	b = append(b, max(m.Version, Meeting), byte(m.Kind))
	b = append(b, m.Device[:]...)
	b = append(b, m.Exchange[:]...)
	return binary.BigEndian.AppendUint32(b, m.Seq)
}

// Encode gives the bytes of a message.
func (m *Message) Encode() []byte { return append(m.Header(), m.Body...) }

// Parse reads a message. The body is part of b. Of a later version, ErrVersion, the header
// is given: its MAC and kind are where they always are.
func Parse(b []byte) (Message, error) {
	if len(b) < HeaderLen || len(b) > MaxMessage || [4]byte(b[:4]) != magic || b[4] == 0 {
		return Message{}, ErrNotHail
	}
	m := Message{Version: b[4], Kind: Kind(b[5]), Device: device.MACFrom(b[6:12]), Exchange: Exchange(b[12:20]), Seq: binary.BigEndian.Uint32(b[20:24]), Body: b[24:]}
	if m.Version > Version2 {
		m.Body = nil
		return m, ErrVersion
	}
	if m.Kind < Seek || m.Kind > Refusal {
		return Message{}, ErrNotHail
	}
	return m, nil
}

// MaxText bounds each text of a description, in octets of UTF-8; Kind is bounded as well.
const MaxText = 64

// Description is what a device tells of itself: to everyone in the body of a Here, where
// nothing of it is proved, and from version 2 on in its Answer, under its own key.
type Description struct {
	Make     string       `json:"make"`
	Model    string       `json:"model"`
	Serial   string       `json:"serial"`
	Firmware string       `json:"firmware,omitempty"`
	Kind     string       `json:"kind"` // panel, door station, indoor station, audio unit, …
	Name     string       `json:"name,omitempty"`
	Fresh    bool         `json:"fresh"` // has no password yet
	Address  netip.Prefix `json:"address,omitzero"`
	Gateway  netip.Addr   `json:"gateway,omitzero"`
	DHCP     bool         `json:"dhcp,omitempty"`
	Salt     []byte       `json:"salt,omitempty"`   // of its password; in version 2 in the Answer alone
	Key      []byte       `json:"key,omitempty"`    // its static public key (X25519); in a Here
	Does     []string     `json:"does,omitempty"`   // the calls it takes
	Speaks   []int        `json:"speaks,omitempty"` // versions of conversations; none is version 1

	// In an Answer only.
	Rules   *Rules `json:"rules,omitempty"`   // what it demands of a password
	Locked  uint32 `json:"locked,omitempty"`  // for so many seconds yet it looks at no password
	Refusal []byte `json:"refusal,omitempty"` // key of this exchange, by which its Refusals are known
}

// Rules are what a device demands of a password.
type Rules struct {
	Min     int    `json:"min,omitempty"` // characters
	Max     int    `json:"max,omitempty"`
	Upper   int    `json:"upper,omitempty"` // at least so many of each
	Lower   int    `json:"lower,omitempty"`
	Digits  int    `json:"digits,omitempty"`
	Special int    `json:"special,omitempty"`
	Plain   bool   `json:"plain,omitempty"`    // letters and digits only
	NotUser bool   `json:"not_user,omitempty"` // without the user name and its reverse
	Words   string `json:"words,omitempty"`    // what the rest cannot say
}

// version gives the newest version of conversations that both ends speak; 0 without one.
func (d *Description) version() byte {
	if len(d.Speaks) == 0 {
		return Version1
	}
	for _, v := range Speaks {
		if slices.Contains(d.Speaks, v) {
			return byte(v)
		}
	}
	return 0
}

// Pin gives the version that a device is met in, 0 where there is none, and the pin of the
// key that it says it has.
func (d *Description) Pin() (version int, pin Pin) {
	v := d.version()
	return int(v), MakePin(v, d.Key, nil)
}

// ReadDescription reads the body of a Here.
func ReadDescription(body []byte) (Description, error) {
	d, err := readTold(body)
	if err != nil || len(d.Key) != keyLen {
		return Description{}, ErrNotHail
	}
	return d, nil
}

// readTold reads what a device tells of itself, in a Here or an Answer.
func readTold(body []byte) (Description, error) {
	var d Description
	if err := json.Unmarshal(body, &d); err != nil || len(d.Salt) > 2*SaltLen || len(d.Does) > maxCalls || len(d.Speaks) > maxVersions {
		return Description{}, ErrNotHail
	}
	for _, t := range []*string{&d.Make, &d.Model, &d.Serial, &d.Firmware, &d.Kind, &d.Name} {
		*t = cut(*t)
	}
	return d, nil
}

// Bounds of lists in a description.
const (
	maxCalls    = 32
	maxVersions = 16
)

// cut bounds a text, at a letter's end.
func cut(s string) string {
	// Devices of version 1 were told no bound: what fits a message was taken.
	const most = 2 * MaxText
	if len(s) <= most {
		return s
	}
	return strings.ToValidUTF8(s[:most], "")
}

// Reason is why something is refused.
type Reason byte

// The reasons.
const (
	NotFresh Reason = 1 // it has a password: it is entered by that
	IsFresh  Reason = 2 // it has none: it is claimed
	WrongKey Reason = 3 // the password does not fit
	Locked   Reason = 4 // too many did not; the seconds tell how long
	NoSuch   Reason = 5 // exchange, which has ended or was never there
)

// RefusalError is what a device says when it refuses a handshake.
type RefusalError struct {
	Reason  Reason
	Seconds uint32
	// By is the witness of it, none for a Refusal in the open: anybody may have sent that.
	By evidence.Witness
}

// Error says so.
func (e *RefusalError) Error() string {
	switch e.Reason {
	case NotFresh:
		return "it has a password already"
	case IsFresh:
		return "it has no password yet"
	case WrongKey:
		return "the password does not fit"
	case Locked:
		return "it is locked after too many wrong passwords"
	}
	return "it does not know this conversation any more"
}

// refusalLen is that of a Refusal's body: reason and seconds. From version 2 on a mark
// follows, markLen bytes of HMAC-SHA-256 over header, reason and seconds, by the key that
// the Answer of the exchange told under encryption.
const (
	refusalLen = 5
	markLen    = 16
)

func refusalBody(r Reason, seconds uint32) []byte {
	return binary.BigEndian.AppendUint32([]byte{byte(r)}, seconds)
}

// sealRefusal puts the mark of version 2 to a Refusal.
func sealRefusal(m *Message, key []byte) {
	m.Body = append(m.Body[:refusalLen:refusalLen], refusalMark(m, key)...)
}

func refusalMark(m *Message, key []byte) []byte {
	h := hmac.New(sha256.New, key)
	h.Write(m.Header())
	h.Write(m.Body[:refusalLen])
	return h.Sum(nil)[:markLen]
}

// readRefusal reads the body of one. key is that of the exchange, nil where there is none.
func readRefusal(m *Message, key []byte) *RefusalError {
	if len(m.Body) < refusalLen {
		return &RefusalError{Reason: NoSuch}
	}
	r := &RefusalError{Reason: Reason(m.Body[0]), Seconds: binary.BigEndian.Uint32(m.Body[1:])}
	if len(key) > 0 && len(m.Body) == refusalLen+markLen && hmac.Equal(m.Body[refusalLen:], refusalMark(m, key)) {
		r.By = evidence.Of(evidence.ByKey)
	}
	return r
}
