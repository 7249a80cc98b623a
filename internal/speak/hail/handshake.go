package hail

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/flynn/noise"

	"janustat/core/evidence"
	"janustat/core/secret"
)

// opening is a handshake whose Answer has come from the device itself.
type opening struct {
	pattern Pattern
	begin   Message
	hand    *noise.HandshakeState
	told    Description // in the Answer; in version 1 as it was heard
}

// Fresh reports whether the device has no password, by what it proves to say under its
// key. In version 1 it answers a claim then; that it has one is no more than heard.
func (c *Client) Fresh(ctx context.Context) (bool, error) {
	o, err := c.begin(ctx, Claim)
	var refusal *RefusalError
	switch {
	case errors.As(err, &refusal) && (refusal.Reason == NotFresh || !refusal.By.Stands()):
		return false, nil // whoever refused it, and for whatever reason: it does not take a claim
	case err != nil:
		return false, err
	}
	if c.version == Version1 || o.told.Fresh {
		c.begun = o
		c.about.Fresh = true
		return true, nil
	}
	c.about.Fresh = false
	return false, nil
}

// Claim opens a conversation with a device that has no password yet. It is encrypted, and
// a listener learns nothing of it; that the key is that of the thing on the wall, and nobody
// sits in between, is not known.
func (c *Client) Claim(ctx context.Context) error { return c.claim(ctx, false) }

// ClaimAnyway tries to claim a device that says that it has a password.
func (c *Client) ClaimAnyway(ctx context.Context) error { return c.claim(ctx, true) }

func (c *Client) claim(ctx context.Context, anyway bool) (err error) {
	o := c.begun
	if c.begun = nil; o == nil {
		if o, err = c.begin(ctx, Claim); err != nil {
			return err
		}
	}
	if c.version > Version1 && !o.told.Fresh && !anyway {
		return &RefusalError{Reason: NotFresh, By: c.word}
	}
	return c.prove(ctx, o)
}

// Enter opens a conversation by a password; false means that it does not fit, by the
// device's own word where Word stands. What goes over the wire cannot be tried against
// other passwords.
func (c *Client) Enter(ctx context.Context, user string, p secret.Password) (bool, error) {
	o, err := c.begin(ctx, Enter)
	if err != nil {
		return false, err
	}
	if c.version > Version1 {
		switch {
		case o.told.Fresh:
			return false, &RefusalError{Reason: IsFresh, By: c.word}
		case o.told.Locked > 0:
			return false, &RefusalError{Reason: Locked, Seconds: o.told.Locked, By: c.word}
		}
	}
	key, err := c.keys.make(int(c.version), user, p, o.told.Salt)
	if err != nil {
		return false, err
	}
	if err := o.hand.SetPresharedKey(key); err != nil {
		return false, fmt.Errorf("hail: %w", err)
	}
	err = c.prove(ctx, o)
	var refusal *RefusalError
	if errors.As(err, &refusal) && refusal.Reason == WrongKey {
		return false, nil
	}
	return err == nil, err
}

// PasswordKey makes the key of a password for this device; nil in version 1, in which it
// makes that by itself.
func (c *Client) PasswordKey(user string, p secret.Password) ([]byte, error) {
	if c.version == Version1 {
		return nil, nil
	}
	return c.keys.make(int(c.version), user, p, c.about.Salt)
}

// begin has the device answer a handshake, and nobody else: an Answer under another key is
// passed over, since the device's own may come yet.
func (c *Client) begin(ctx context.Context, p Pattern) (*opening, error) {
	own, err := NewKey(c.random)
	if err != nil {
		return nil, err
	}
	begin := Message{Version: c.version, Kind: Begin, Device: c.mac, Exchange: newExchange(c.random)}
	ephemeral := make([]byte, keyLen)
	if _, err := io.ReadFull(c.random, ephemeral); err != nil {
		return nil, fmt.Errorf("hail: %w", err)
	}
	// Reading an Answer uses a handshake up, a stranger's too: each is read by one of its own.
	anew := func() (*noise.HandshakeState, []byte, error) {
		h, err := handshake(true, p, own, nil, prologue(&begin, p), bytes.NewReader(ephemeral))
		if err != nil {
			return nil, nil, err
		}
		first, _, _, err := h.WriteMessage(nil, nil)
		if err != nil {
			return nil, nil, fmt.Errorf("hail: %w", err)
		}
		return h, first, nil
	}
	_, first, err := anew()
	if err != nil {
		return nil, err
	}
	begin.Body = append([]byte{byte(p)}, first...)
	o := &opening{pattern: p, begin: begin, told: c.about}
	var other Pin
	_, err = c.ask(ctx, begin, question{answers: func(m Message) bool {
		if m.Kind != Answer || m.Exchange != begin.Exchange || m.Version != begin.Version {
			return false
		}
		h, _, err := anew()
		if err != nil {
			return false
		}
		plain, _, _, err := h.ReadMessage(nil, m.Body)
		if err != nil {
			return false
		}
		key := h.PeerStatic()
		if is := MakePin(c.version, key, nil); !c.pin.SameKey(is) || !bytes.Equal(key, c.about.Key) {
			other = is
			return false
		}
		if c.version > Version1 {
			d, err := readTold(plain)
			if err != nil || len(d.Refusal) < refusalKeyLen {
				return false
			}
			d.Key = c.about.Key
			o.told = d
		}
		o.hand = h
		return true
	}})
	switch {
	case errors.Is(err, ErrNoAnswer) && other != "" && ctx.Err() == nil:
		return nil, &KeyError{other}
	case err != nil:
		return nil, err
	}
	if c.version > Version1 {
		c.about = o.told
		c.about.Speaks = []int{int(c.version)}
	}
	c.word = evidence.Of(evidence.ByKey)
	return o, nil
}

// prove sends the third message.
func (c *Client) prove(ctx context.Context, o *opening) error {
	proof := Message{Version: c.version, Kind: Proof, Device: c.mac, Exchange: o.begin.Exchange, Seq: 1}
	body, send, receive, err := o.hand.WriteMessage(nil, nil)
	if err != nil {
		return fmt.Errorf("hail: %w", err)
	}
	proof.Body = body
	ch := &channel{send, receive}
	var refusal []byte
	if c.version > Version1 {
		refusal = o.told.Refusal
	}
	_, err = c.ask(ctx, proof, question{refusal: refusal, answers: func(m Message) bool {
		if m.Kind != Reply || m.Exchange != proof.Exchange || m.Seq != proof.Seq || m.Version != proof.Version {
			return false
		}
		_, err := ch.open(&m)
		return err == nil
	}})
	if err != nil {
		return err
	}
	c.leave() // of a conversation that was entered before
	c.exchange, c.seq, c.channel = o.begin.Exchange, 1, ch
	c.word = evidence.Of(evidence.ByKey)
	return nil
}
