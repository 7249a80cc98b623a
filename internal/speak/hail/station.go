package hail

import (
	"bytes"
	"encoding/json"
	"io"
	"sync"
	"time"

	"github.com/flynn/noise"

	"janustat/core/device"
)

// Owner is the device behind a Station: it knows what it is, and does what it is asked.
type Owner interface {
	// Describe tells what everyone may know. The station adds its key.
	Describe() Description
	// PasswordKey is the key of its password (PasswordKey), nil where it has none.
	PasswordKey() []byte
	// Carry carries out a call of somebody who may ask for it. then, if not nil, is done
	// once the answer has left.
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

	mu        sync.Mutex
	exchanges map[Exchange]*exchange
}

// exchange is one conversation as the device has it.
type exchange struct {
	used    time.Time
	pattern Pattern
	begin   []byte // that it was begun by
	hand    *noise.HandshakeState
	answer  []byte // to that
	psk     []byte // that it was begun with: another password ends it
	proof   []byte
	channel *channel
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
	d.Key = s.own.Public
	body, err := json.Marshal(d)
	if err != nil || len(body) > MaxMessage-HeaderLen {
		return // a description of its own that it cannot tell
	}
	m := Message{Kind: Here, Device: s.mac, Exchange: x, Body: body}
	s.send(m.Encode())
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
		s.here(m.Exchange)
	case Begin:
		s.begin(&m)
	case Proof:
		s.prove(&m)
	case Call:
		s.call(&m)
	}
}

func (s *Station) refuse(m *Message, r Reason, wait time.Duration) {
	out := Message{Kind: Refusal, Device: s.mac, Exchange: m.Exchange, Seq: m.Seq, Body: refusalBody(r, uint32(wait/time.Second))}
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
	if len(m.Body) < 1 {
		return
	}
	p, psk := Pattern(m.Body[0]), s.owner.PasswordKey()
	switch wait := s.owner.Shut(); {
	case p != Claim && p != Enter:
		return
	case p == Claim && psk != nil:
		s.refuse(m, NotFresh, 0)
		return
	case p == Enter && psk == nil:
		s.refuse(m, IsFresh, 0)
		return
	case wait > 0:
		s.refuse(m, Locked, wait)
		return
	}
	s.room()
	h, err := handshake(false, p, s.own, psk, prologue(m, p), s.rand)
	if err != nil {
		return
	}
	if _, _, _, err := h.ReadMessage(nil, m.Body[1:]); err != nil {
		return
	}
	body, _, _, err := h.WriteMessage(nil, nil)
	if err != nil {
		return
	}
	answer := Message{Kind: Answer, Device: s.mac, Exchange: m.Exchange, Body: body}
	s.exchanges[m.Exchange] = &exchange{used: s.now(), pattern: p, begin: bytes.Clone(m.Body), hand: h, answer: answer.Encode(), psk: psk}
	s.send(answer.Encode())
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

// prove takes the third message: the handshake holds, or it is over.
func (s *Station) prove(m *Message) {
	x := s.exchanges[m.Exchange]
	switch {
	case x == nil:
		s.refuse(m, NoSuch, 0)
		return
	case x.channel != nil:
		if bytes.Equal(x.proof, m.Body) && x.seq == 1 {
			s.send(x.reply)
		}
		return
	}
	if wait := s.owner.Shut(); wait > 0 {
		delete(s.exchanges, m.Exchange)
		s.refuse(m, Locked, wait)
		return
	}
	_, receive, send, err := x.hand.ReadMessage(nil, m.Body)
	if err != nil || receive == nil {
		delete(s.exchanges, m.Exchange) // one guess for each handshake
		if x.pattern == Enter {
			s.owner.Wrong()
		}
		s.refuse(m, WrongKey, 0)
		return
	}
	if x.pattern == Enter {
		s.owner.Fits()
	}
	x.channel, x.proof, x.seq, x.used = &channel{send, receive}, bytes.Clone(m.Body), 1, s.now()
	s.reply(x, m, Response{OK: true})
}

func (s *Station) reply(x *exchange, m *Message, r Response) {
	plain, err := json.Marshal(r)
	if err != nil {
		return
	}
	out := Message{Kind: Reply, Device: s.mac, Exchange: m.Exchange, Seq: m.Seq}
	if err := x.channel.seal(&out, plain); err != nil {
		return
	}
	x.reply = out.Encode()
	s.send(x.reply)
}

// call takes a request: the next one is carried out, the last one again is answered as it
// was, and nothing else is anything.
func (s *Station) call(m *Message) {
	x := s.exchanges[m.Exchange]
	if x == nil || x.channel == nil {
		s.refuse(m, NoSuch, 0)
		return
	}
	if m.Seq == x.seq && bytes.Equal(m.Body, x.call) {
		s.send(x.reply)
		return
	}
	if m.Seq != x.seq+1 {
		return
	}
	plain, err := x.channel.open(m)
	if err != nil {
		return // forged, or altered on its way
	}
	x.seq, x.used, x.call = m.Seq, s.now(), bytes.Clone(m.Body)
	var r Request
	if err := json.Unmarshal(plain, &r); err != nil {
		s.reply(x, m, Response{Error: "it cannot be read"})
		return
	}
	// A device that somebody else has claimed meanwhile is not claimed again, nor is one
	// entered by a password that is another by now.
	if !bytes.Equal(x.psk, s.owner.PasswordKey()) {
		s.reply(x, m, Response{Error: "it has another password by now"})
		delete(s.exchanges, m.Exchange)
		return
	}
	if (x.pattern == Claim) != (r.Do == DoClaim) && r.Do != DoRead && r.Do != DoWink && r.Do != DoBye {
		s.reply(x, m, Response{Error: "not in this conversation"})
		return
	}
	if r.Do == DoBye {
		delete(s.exchanges, m.Exchange)
		return
	}
	answer, then := s.owner.Carry(r)
	s.reply(x, m, answer)
	if answer.OK && (r.Do == DoPassword || r.Do == DoClaim) {
		// What was begun by the old password ends with it; this conversation, whose answer
		// may be asked for again, when its next call comes.
		for id := range s.exchanges {
			if id != m.Exchange {
				delete(s.exchanges, id)
			}
		}
	}
	if then != nil {
		then()
	}
}
