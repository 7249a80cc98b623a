package hail

import (
	"bytes"
	"encoding/json"
	"time"
)

// prove takes the third message: the handshake holds, or it is over.
func (s *Station) prove(m *Message) {
	x := s.exchanges[m.Exchange]
	switch {
	case x == nil || x.version != m.Version:
		s.refuse(m, NoSuch, 0, nil)
		return
	case x.channel != nil:
		if bytes.Equal(x.proof, m.Body) && x.seq == 1 {
			s.send(x.reply)
		}
		return
	case x.refused != nil: // over, and said again as it was
		if bytes.Equal(x.proof, m.Body) {
			s.send(x.refused)
		}
		return
	}
	over := func(r Reason, wait time.Duration) {
		out := Message{Version: m.Version, Kind: Refusal, Device: s.mac, Exchange: m.Exchange, Seq: m.Seq, Body: refusalBody(r, seconds(wait))}
		if x.refusal != nil {
			sealRefusal(&out, x.refusal)
		}
		x.proof, x.refused, x.used = bytes.Clone(m.Body), out.Encode(), s.now()
		s.send(x.refused)
	}
	has := s.owner.PasswordKey(int(m.Version)) != nil
	switch wait := s.owner.Shut(); {
	case x.pattern == Claim && has:
		over(NotFresh, 0)
		return
	case x.pattern == Enter && !has:
		over(IsFresh, 0)
		return
	case wait > 0:
		over(Locked, wait)
		return
	}
	_, receive, send, err := x.hand.ReadMessage(nil, m.Body)
	if err != nil || receive == nil { // one guess for each handshake
		if x.pattern == Enter {
			s.owner.Wrong()
			over(WrongKey, 0)
		} else {
			over(NoSuch, 0)
		}
		return
	}
	if x.pattern == Enter {
		s.owner.Fits()
	}
	x.channel, x.proof, x.seq, x.used = &channel{send, receive}, bytes.Clone(m.Body), 1, s.now()
	s.reply(x, m, Response{OK: true})
}

func (s *Station) reply(x *exchange, m *Message, r Response) {
	plain, err := fitted(r)
	if err != nil {
		return
	}
	out := Message{Version: m.Version, Kind: Reply, Device: s.mac, Exchange: m.Exchange, Seq: m.Seq}
	if err := x.channel.seal(&out, plain); err != nil {
		return
	}
	x.reply = out.Encode()
	s.send(x.reply)
}

// maxPlain is how much goes into an encrypted body, in bytes: the tag takes the rest.
const maxPlain = MaxMessage - HeaderLen - 16

// fitted gives an answer as it goes into one message: of pairs as many as fit. What does
// not fit at all is an error that does.
func fitted(r Response) ([]byte, error) {
	first := r.Next
	for {
		plain, err := json.Marshal(r)
		if err != nil || len(plain) <= maxPlain {
			return plain, err
		}
		if len(r.Pairs) < 2 {
			return json.Marshal(Response{Error: "its answer is too long for a message", Code: CodeLong})
		}
		r.Pairs = r.Pairs[:len(r.Pairs)-1]
		r.Next = first + len(r.Pairs)
	}
}

// call takes a request: the next one is carried out, the last one again is answered as it
// was, and nothing else is anything.
func (s *Station) call(m *Message) {
	x := s.exchanges[m.Exchange]
	if x == nil || x.channel == nil || x.version != m.Version {
		s.refuse(m, NoSuch, 0, nil)
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
		s.reply(x, m, Response{Error: "it cannot be read", Code: CodeValue})
		return
	}
	// A device that somebody else has claimed meanwhile is not claimed again, nor is one
	// entered by a password that is another by now.
	if !bytes.Equal(x.psk, s.owner.PasswordKey(int(x.version))) {
		s.reply(x, m, Response{Error: "it has another password now", Code: CodeHere})
		delete(s.exchanges, m.Exchange)
		return
	}
	if (x.pattern == Claim) != (r.Do == DoClaim) && r.Do != DoRead && r.Do != DoWink && r.Do != DoBye {
		s.reply(x, m, Response{Error: "not in this conversation", Code: CodeHere})
		return
	}
	if r.Do == DoBye {
		delete(s.exchanges, m.Exchange)
		return
	}
	answer, then := s.owner.Carry(r)
	if r.Do == DoPairs {
		answer = from(answer, r.From)
	}
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
