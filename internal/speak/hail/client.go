package hail

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"janustat/core/device"
	"janustat/core/secret"
	"janustat/internal/pace"
	"janustat/internal/trace"
)

// Link carries messages on one LAN: to the group, and from it.
type Link interface {
	Send(payload []byte) error
	// Hear has f called with the messages of one device until stop is called. f must not
	// block or keep the payload.
	Hear(of device.MAC, f func(payload []byte)) (stop func())
}

// Errors of a conversation.
var (
	// ErrNoAnswer means that nothing came back: whether a call was carried out is unknown.
	ErrNoAnswer = errors.New("no answer by Hail")
	// ErrKey means that the device has another key than it says, or than is on record.
	ErrKey = errors.New("it does not have the key that it says it has")
	// ErrNotNow means that the device takes no settings at present.
	ErrNotNow = errors.New("takes no settings now")
)

// Times of a question: it is sent so often, each time after twice as long, up to askMost. A
// small device takes seconds over the key of a password.
const (
	askTries = 7
	askFirst = 400 * time.Millisecond
	askMost  = 3200 * time.Millisecond
)

// Client is the controller's end of a conversation with one device. It is not safe for
// concurrent use.
type Client struct {
	link   Link
	mac    device.MAC
	pace   pace.Pace
	heard  chan Message
	stop   func()
	random io.Reader

	About    Description // as the device told it last
	exchange Exchange
	channel  *channel
	seq      uint32
}

// Dial meets a device by its MAC, wherever it has its address, and hears what it is.
func Dial(ctx context.Context, link Link, mac device.MAC, p pace.Pace) (*Client, error) {
	c := &Client{link: link, mac: mac, pace: p, heard: make(chan Message, 16), random: rand.Reader}
	c.stop = link.Hear(mac, func(payload []byte) {
		m, err := Parse(payload)
		if err != nil || m.Device != mac {
			return
		}
		m.Body = bytes.Clone(m.Body)
		select {
		case c.heard <- m:
		default: // more than anybody asked for
		}
	})
	if err := c.Look(ctx); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

// Look hears again what the device is.
func (c *Client) Look(ctx context.Context) error {
	ask := Message{Kind: Seek, Device: c.mac, Exchange: newExchange(c.random)}
	m, err := c.ask(ctx, ask, func(m Message) bool { return m.Kind == Here && m.Exchange == ask.Exchange })
	if err != nil {
		return err
	}
	c.About, err = ReadDescription(m.Body)
	return err
}

// Close ends the conversation, and says so.
func (c *Client) Close() {
	c.stop()
	if c.channel == nil {
		return
	}
	bye := Message{Kind: Call, Device: c.mac, Exchange: c.exchange, Seq: c.seq + 1}
	if err := c.channel.seal(&bye, []byte(`{"do":"`+DoBye+`"}`)); err == nil {
		_ = c.link.Send(bye.Encode()) // lost, the device drops it by itself after a while
	}
	c.channel = nil
}

// Link and Pace are those of the conversation.
func (c *Client) Link() Link { return c.link }

// Pace is that of its times.
func (c *Client) Pace() pace.Pace { return c.pace }

// NewExchange draws one.
func NewExchange() Exchange { return newExchange(rand.Reader) }

func newExchange(random io.Reader) (x Exchange) {
	_, _ = random.Read(x[:]) // never fails (crypto/rand)
	return x
}

// ask sends a message until one that answers it is heard.
func (c *Client) ask(ctx context.Context, m Message, answers func(Message) bool) (answer Message, err error) {
	told := trace.Begin(ctx, "Hail", fmt.Sprintf("kind %d", m.Kind), m.Device.String())
	defer func() {
		if err != nil {
			told(err)
		} else {
			told(fmt.Sprintf("kind %d, %d octets", answer.Kind, len(answer.Body)))
		}
	}()
	payload := m.Encode()
	for try := range askTries {
		if err := c.link.Send(payload); err != nil {
			return Message{}, err
		}
		t := time.NewTimer(c.pace.Of(min(askFirst<<try, askMost)))
	listen:
		for {
			select {
			case h := <-c.heard:
				switch {
				case answers(h):
					t.Stop()
					return h, nil
				case h.Kind == Refusal && h.Exchange == m.Exchange && h.Seq == m.Seq && m.Kind != Seek:
					t.Stop()
					return Message{}, readRefusal(h.Body)
				}
			case <-t.C:
				break listen
			case <-ctx.Done():
				t.Stop()
				return Message{}, fmt.Errorf("%w: %w", ErrNoAnswer, context.Cause(ctx))
			}
		}
	}
	return Message{}, ErrNoAnswer
}

// Claim opens a conversation with a device that has no password yet. It is encrypted, and
// a listener learns nothing of it; that nobody sits in between is not known.
func (c *Client) Claim(ctx context.Context) error { return c.open(ctx, Claim, nil) }

// Enter opens a conversation by a password; false means that it does not fit. What goes
// over the wire cannot be tried against other passwords.
func (c *Client) Enter(ctx context.Context, user string, p secret.Password) (bool, error) {
	key, err := PasswordKey(user, p, c.About.Salt)
	if err != nil {
		return false, err
	}
	err = c.open(ctx, Enter, key)
	var refusal *RefusalError
	if errors.As(err, &refusal) && refusal.Reason == WrongKey {
		return false, nil
	}
	return err == nil, err
}

func (c *Client) open(ctx context.Context, p Pattern, psk []byte) error {
	own, err := NewKey(c.random)
	if err != nil {
		return err
	}
	begin := Message{Kind: Begin, Device: c.mac, Exchange: newExchange(c.random)}
	h, err := handshake(true, p, own, psk, prologue(&begin, p), c.random)
	if err != nil {
		return err
	}
	first, _, _, err := h.WriteMessage(nil, nil)
	if err != nil {
		return fmt.Errorf("hail: %w", err)
	}
	begin.Body = append([]byte{byte(p)}, first...)
	var readErr error
	_, err = c.ask(ctx, begin, func(m Message) bool {
		if m.Kind != Answer || m.Exchange != begin.Exchange {
			return false
		}
		_, _, _, readErr = h.ReadMessage(nil, m.Body)
		return readErr == nil // one that was forged is not the device's: its own may come yet
	})
	if err != nil {
		return err
	}
	// Before anything of the password goes out: is it the device that it says it is?
	if !bytes.Equal(h.PeerStatic(), c.About.Key) {
		return ErrKey
	}
	proof := Message{Kind: Proof, Device: c.mac, Exchange: begin.Exchange, Seq: 1}
	body, send, receive, err := h.WriteMessage(nil, nil)
	if err != nil {
		return fmt.Errorf("hail: %w", err)
	}
	proof.Body = body
	c.exchange, c.seq = begin.Exchange, 1
	ch := &channel{send, receive}
	_, err = c.ask(ctx, proof, func(m Message) bool {
		if m.Kind != Reply || m.Exchange != proof.Exchange || m.Seq != proof.Seq {
			return false
		}
		_, err := ch.open(&m)
		return err == nil
	})
	if err != nil {
		return err
	}
	c.channel = ch
	return nil
}

// Call carries out one call. ErrNoAnswer leaves unknown whether it was.
func (c *Client) Call(ctx context.Context, r Request) (Response, error) {
	var out Response
	if c.channel == nil {
		return out, errors.New("hail: not entered")
	}
	plain, err := json.Marshal(r)
	if err != nil {
		return out, fmt.Errorf("hail: %w", err)
	}
	c.seq++
	call := Message{Kind: Call, Device: c.mac, Exchange: c.exchange, Seq: c.seq}
	if err := c.channel.seal(&call, plain); err != nil {
		return out, fmt.Errorf("hail: %w", err)
	}
	var answer []byte
	_, err = c.ask(ctx, call, func(m Message) bool {
		if m.Kind != Reply || m.Exchange != call.Exchange || m.Seq != call.Seq {
			return false
		}
		opened, err := c.channel.open(&m)
		answer = opened
		return err == nil
	})
	if err != nil {
		c.channel = nil
		return out, fmt.Errorf("%s: %w", r.Do, err)
	}
	if err := json.Unmarshal(answer, &out); err != nil {
		return out, fmt.Errorf("%s: its answer cannot be read", r.Do)
	}
	switch {
	case out.OK:
		return out, nil
	case out.Now:
		return out, fmt.Errorf("%s: %w: %s", r.Do, ErrNotNow, out.Error)
	}
	return out, fmt.Errorf("%s: %w", r.Do, &CallError{out.Error})
}

// CallError is what a device says when it refuses a call.
type CallError struct{ Words string }

// Error gives its words.
func (e *CallError) Error() string { return "refused: " + e.Words }

// Entered reports whether a conversation is open.
func (c *Client) Entered() bool { return c.channel != nil }

// SecretMark tells a pair's secret to those who know it, without giving it away to those
// who have a device's answer alone: the secrets are drawn at random.
func SecretMark(s secret.Password) string {
	h := sha256.Sum256([]byte("hail pair " + s.Reveal()))
	return hex.EncodeToString(h[:8])
}
