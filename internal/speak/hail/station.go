package hail

import (
	"bytes"
	crand "crypto/rand"
	"encoding/json"
	"io"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"github.com/flynn/noise"

	"janustat/core/device"
)

// Owner is the device behind a Station: it knows what it is, and does what it is asked.
type Owner interface {
	// Describe tells what everyone may know, with the salt of its password and the versions
	// it speaks. The station adds its key, and tells in each message what belongs there.
	Describe() Description
	// PasswordKey is the key of its password for a version (PasswordKey), nil where it has none.
	PasswordKey(version int) []byte
	// Carry carries out a call of somebody who may ask for it. then, if not nil, is done
	// once the answer has left.
	// Of pairs all are given: the station tells as many as go into a message.
	Carry(r Request) (answer Response, then func())
	// Wrong is told of a password that does not fit, and Fits of one that does. Shut tells
	// how long no password is looked at.
	Wrong()
	Fits()
	Shut() time.Duration
}

// Limits of a station, so that strangers cost it little.
const (
	maxExchanges = 8
	exchangeIdle = 60 * time.Second
)

// Station is the device's end.
type Station struct {
	mac   device.MAC
	own   noise.DHKey
	owner Owner
	send  func(payload []byte)
	now   func() time.Time
	rand  io.Reader
	// Spread is how long an answer to a Seek for everyone waits at most, at random, so that
	// a hundred devices do not answer at once. It is set before the first message.
	Spread time.Duration

	mu        sync.Mutex
	exchanges map[Exchange]*exchange
}

// exchange is one conversation as the device has it.
type exchange struct {
	used    time.Time
	version byte
	refusal []byte // key of its Refusals, from version 2 on
	pattern Pattern
	begin   []byte // that it was begun by
	hand    *noise.HandshakeState
	answer  []byte // to that
	psk     []byte // that it was begun with: another password ends it
	proof   []byte
	channel *channel
	refused []byte // what its Proof was refused with
	seq     uint32 // of the last call
	call    []byte
	reply   []byte // to that
}

// NewStation makes the end of a device with its static key.
func NewStation(mac device.MAC, own noise.DHKey, owner Owner, random io.Reader, now func() time.Time) *Station {
	return &Station{mac: mac, own: own, owner: owner, now: now, rand: random, exchanges: map[Exchange]*exchange{}}
}

// Announce tells everyone that the device is there, by way of send.
func (s *Station) Announce(send func([]byte)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.send = send
	s.here(Exchange{})
}

func (s *Station) here(x Exchange) {
	d := s.owner.Describe()
	d.Key, d.Rules = s.own.Public, nil
	if d.version() != Version1 && !slices.Contains(d.Speaks, Version1) {
		d.Salt = nil // told in the Answer
	}
	body, err := json.Marshal(d)
	if err != nil || len(body) > MaxMessage-HeaderLen {
		return // a description of its own that it cannot tell
	}
	m := Message{Kind: Here, Device: s.mac, Exchange: x, Body: body}
	s.send(m.Encode())
}

// hereToAll answers a Seek for everyone after a random wait.
func (s *Station) hereToAll(x Exchange) {
	if s.Spread <= 0 {
		s.here(x)
		return
	}
	time.AfterFunc(rand.N(s.Spread), func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.here(x)
	})
}

// Take takes a datagram from the group; what answers it goes by way of send.
func (s *Station) Take(payload []byte, send func([]byte)) {
	m, err := Parse(payload)
	if err != nil || m.Device != s.mac && (m.Kind != Seek || m.Device != Everyone) {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.send = send
	switch m.Kind {
	case Seek:
		if m.Device == Everyone {
			s.hereToAll(m.Exchange)
			return
		}
		s.here(m.Exchange)
	case Begin:
		s.begin(&m)
	case Proof:
		s.prove(&m)
	case Call:
		s.call(&m)
	}
}

// refuse says why there is no answer: in version 1 in the open, from then on marked by the
// key that the exchange has for it, where there is one.
func (s *Station) refuse(m *Message, r Reason, wait time.Duration, key []byte) {
	out := Message{Version: m.Version, Kind: Refusal, Device: s.mac, Exchange: m.Exchange, Seq: m.Seq, Body: refusalBody(r, uint32(wait/time.Second))}
	if len(key) > 0 {
		sealRefusal(&out, key)
	}
	s.send(out.Encode())
}

// begin takes the first message of a handshake.
func (s *Station) begin(m *Message) {
	if x := s.exchanges[m.Exchange]; x != nil {
		if bytes.Equal(x.begin, m.Body) {
			s.send(x.answer) // it was lost on its way
		}
		return
	}
	d := s.owner.Describe()
	speaks := d.Speaks
	if len(speaks) == 0 {
		speaks = []int{Version1}
	}
	if len(m.Body) < 1 || !slices.Contains(speaks, int(m.Version)) {
		return
	}
	p, psk, wait := Pattern(m.Body[0]), s.owner.PasswordKey(int(m.Version)), s.owner.Shut()
	if p != Claim && p != Enter {
		return
	}
	x := &exchange{used: s.now(), version: m.Version, pattern: p, begin: bytes.Clone(m.Body), psk: psk}
	var told []byte
	if m.Version == Version1 {
		switch {
		case p == Claim && psk != nil:
			s.refuse(m, NotFresh, 0, nil)
			return
		case p == Enter && psk == nil:
			s.refuse(m, IsFresh, 0, nil)
			return
		case wait > 0:
			s.refuse(m, Locked, wait, nil)
			return
		}
	} else {
		// How it stands is told under its key, so a Begin is always answered.
		x.refusal = make([]byte, refusalKeyLen)
		if _, err := io.ReadFull(s.random(), x.refusal); err != nil {
			return
		}
		d.Key, d.Speaks, d.Locked, d.Refusal = nil, nil, seconds(wait), x.refusal
		var err error
		if told, err = json.Marshal(d); err != nil {
			return
		}
	}
	s.room()
	if p == Enter && psk == nil {
		psk = make([]byte, keyLen) // nobody enters by it: it is refused before that
	}
	h, err := handshake(false, p, s.own, psk, prologue(m, p), s.rand)
	if err != nil {
		return
	}
	if _, _, _, err := h.ReadMessage(nil, m.Body[1:]); err != nil {
		return
	}
	body, _, _, err := h.WriteMessage(nil, told)
	if err != nil || len(body) > MaxMessage-HeaderLen {
		return
	}
	answer := Message{Version: m.Version, Kind: Answer, Device: s.mac, Exchange: m.Exchange, Body: body}
	x.hand, x.answer = h, answer.Encode()
	s.exchanges[m.Exchange] = x
	s.send(x.answer)
}

// refusalKeyLen is that of the key of an exchange's Refusals, in bytes.
const refusalKeyLen = 16

func (s *Station) random() io.Reader {
	if s.rand != nil {
		return s.rand
	}
	return crand.Reader
}

// seconds gives a wait as it is told: what is left of a second is one.
func seconds(wait time.Duration) uint32 {
	return uint32((max(wait, 0) + time.Second - 1) / time.Second)
}

// room makes room for another exchange: those that nobody went on with are dropped; then
// of those that were never proved, and then of all, that which was used least recently. A
// stranger proves none, so cannot push out one that is.
func (s *Station) room() {
	var first *Exchange
	for id, x := range s.exchanges {
		if s.now().Sub(x.used) > exchangeIdle {
			delete(s.exchanges, id)
			continue
		}
		if first == nil {
			first = &id
			continue
		}
		y := s.exchanges[*first]
		if open, other := x.channel != nil, y.channel != nil; open != other && other || open == other && x.used.Before(y.used) {
			first = &id
		}
	}
	if len(s.exchanges) >= maxExchanges {
		delete(s.exchanges, *first)
	}
}

// from leaves out of an answer with all pairs those before one.
func from(answer Response, first int) Response {
	first = min(max(first, 0), len(answer.Pairs))
	answer.Pairs = answer.Pairs[first:]
	// fitted counts on from here; with the last one nothing is left to be asked for.
	answer.Next = first
	if plain, err := json.Marshal(answer); err == nil && len(plain) <= maxPlain {
		answer.Next = 0
	}
	return answer
}
