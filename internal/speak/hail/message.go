// Package hail speaks Hail, the open protocol by which devices that have no standard for
// it are set up over the LAN. Both ends are here: the controller's, and the device's. The
// specification is docs/hail.md.
package hail

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"net/netip"

	"janustat/core/device"
)

// Where Hail is spoken: the port and the groups that RFC 4727 (sections 6 and 2.4.2; and
// section 3 for IPv6) keeps for experiments, on the link only.
const Port = 1021

// The groups, of IPv4 and IPv6.
var (
	Group  = netip.MustParseAddr("224.0.0.254")
	Group6 = netip.MustParseAddr("ff02::114")
)

// Version is that of the protocol spoken here.
const Version = 1

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
	Kind     Kind
	Device   device.MAC // spoken to, or speaking
	Exchange Exchange
	Seq      uint32 // of a call, from 1; a reply has that of its call
	Body     []byte
}

// Errors of reading a message.
var (
	ErrNotHail = errors.New("no Hail message")
	ErrVersion = errors.New("another version of Hail")
)

var magic = [4]byte{'H', 'A', 'I', 'L'}

// Header gives the header, which encrypted bodies are bound to.
func (m *Message) Header() []byte {
	b := make([]byte, 0, HeaderLen+len(m.Body))
	b = append(b, magic[:]...)
	b = append(b, Version, byte(m.Kind))
	b = append(b, m.Device[:]...)
	b = append(b, m.Exchange[:]...)
	return binary.BigEndian.AppendUint32(b, m.Seq)
}

// Encode gives the bytes of a message.
func (m *Message) Encode() []byte { return append(m.Header(), m.Body...) }

// Parse reads a message. The body is part of b.
func Parse(b []byte) (Message, error) {
	if len(b) < HeaderLen || len(b) > MaxMessage || [4]byte(b[:4]) != magic {
		return Message{}, ErrNotHail
	}
	if b[4] != Version {
		return Message{}, ErrVersion
	}
	m := Message{Kind: Kind(b[5]), Device: device.MACFrom(b[6:12]), Exchange: Exchange(b[12:20]), Seq: binary.BigEndian.Uint32(b[20:24]), Body: b[24:]}
	if m.Kind < Seek || m.Kind > Refusal {
		return Message{}, ErrNotHail
	}
	return m, nil
}

// Description is what a device tells everyone of itself: the body of a Here.
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
	Salt     []byte       `json:"salt,omitempty"` // of its password
	Key      []byte       `json:"key"`            // its static public key (X25519)
	Does     []string     `json:"does,omitempty"` // the calls it takes
}

// ReadDescription reads the body of a Here.
func ReadDescription(body []byte) (Description, error) {
	var d Description
	if err := json.Unmarshal(body, &d); err != nil || len(d.Key) != keyLen {
		return Description{}, ErrNotHail
	}
	return d, nil
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

func refusalBody(r Reason, seconds uint32) []byte {
	return binary.BigEndian.AppendUint32([]byte{byte(r)}, seconds)
}

func readRefusal(b []byte) *RefusalError {
	if len(b) != 5 {
		return &RefusalError{Reason: NoSuch}
	}
	return &RefusalError{Reason(b[0]), binary.BigEndian.Uint32(b[1:])}
}
