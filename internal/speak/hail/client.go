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
	"janustat/core/evidence"
	"janustat/core/secret"
	"janustat/internal/pace"
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
	// ErrNotNow means that the device takes no settings at present.
	ErrNotNow = errors.New("takes no settings now")
	// ErrTwoKeys means that two answer for one MAC, each with a key of its own.
	ErrTwoKeys = errors.New("two answer as this device, with different keys: find out which one is not yours, and ask whoever runs the network to disconnect it")
	// ErrLater means that the device speaks later versions alone.
	ErrLater = errors.New("it uses a later version of Hail than this program")
)

// twoKeysError is ErrTwoKeys with what one of the two says.
type twoKeysError struct{ told Description }

func (*twoKeysError) Error() string        { return ErrTwoKeys.Error() }
func (*twoKeysError) Is(target error) bool { return target == ErrTwoKeys }

// KeyError means that whoever answers for the MAC has another key than is on record, and
// that nobody who has it answers.
type KeyError struct{ Pin Pin }

// Error says so.
func (*KeyError) Error() string { return "it has another key than is on record" }

// Times of a question: it is sent so often, each time after twice as long, up to askMost. A
// small device takes seconds over the key of a password.
const (
	askTries = 7
	askFirst = 400 * time.Millisecond
	askMost  = 3200 * time.Millisecond
	// doubtTries is how often it is sent where only strangers answer it.
	doubtTries = 3
	// secondKey is how long another answer is waited for where no key is on record: the
	// first that comes is not simply believed.
	secondKey = 150 * time.Millisecond
	slowKey   = time.Second
	// refusalPatience is how long a better answer is waited for after a refusal in the open:
	// if the device itself takes what it was sent, somebody else refused it.
	refusalPatience = time.Second
	// keyWork is what a small device takes for the key of a password before it answers, which
	// nothing hurries.
	keyWork = 2 * time.Second
)

// Client is the controller's end of a conversation with one device. Who that is, its MAC
// and its key, is settled before the first byte of it, or by the first description that is
// heard in it, and each handshake is held to it. It is not safe for concurrent use.
type Client struct {
	link   Link
	mac    device.MAC
	pin    Pin // of the key that it is held to
	pace   pace.Pace
	heard  chan Message
	stop   func()
	random io.Reader
	second time.Duration // how long another key is waited for
	keys   *Keys

	about    Description      // as it was heard, or told under its key
	word     evidence.Witness // of what the device said last
	begun    *opening         // a claim that was begun to see whether it is fresh
	version  byte             // of the conversation
	exchange Exchange
	channel  *channel
	seq      uint32
}

// Dial meets a device by its MAC, wherever it has its address. Without a pin its key is
// the one that is heard now; with one, nobody else is listened to.
func Dial(ctx context.Context, link Link, mac device.MAC, pin Pin, p pace.Pace) (*Client, error) {
	return dial(ctx, link, mac, pin, p, secondKey)
}

// Meet hears what the device of a MAC says of itself, for a list. Its key is not on record
// yet, so that another answer is waited for longer: a stranger may be quicker than it. With
// ErrTwoKeys comes what one of the two says.
func Meet(ctx context.Context, link Link, mac device.MAC, p pace.Pace) (Description, error) {
	c, err := dial(ctx, link, mac, "", p, slowKey)
	var two *twoKeysError
	if errors.As(err, &two) {
		return two.told, err
	}
	if err != nil {
		return Description{}, err
	}
	defer c.Close()
	return c.about, nil
}

func dial(ctx context.Context, link Link, mac device.MAC, pin Pin, p pace.Pace, second time.Duration) (*Client, error) {
	c := &Client{link: link, mac: mac, pin: pin, pace: p, second: second, heard: make(chan Message, 64), random: rand.Reader, keys: &Keys{}}
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
	if err := c.look(ctx); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

// look hears what the device says of itself.
func (c *Client) look(ctx context.Context) error {
	ask := Message{Kind: Seek, Device: c.mac, Exchange: newExchange(c.random)}
	var got *Description
	var other Pin
	strangers, later, two := 0, false, false
	end := time.Time{}
	_, err := c.ask(ctx, ask, question{
		answers: func(m Message) bool {
			if m.Kind != Here || m.Exchange != ask.Exchange {
				return false
			}
			d, err := ReadDescription(m.Body)
			switch {
			case err != nil:
				return false
			case d.version() == 0 && (c.pin == "" || c.pin.SameKey(MakePin(Version2, d.Key, nil))):
				later = true
				return true
			case c.pin == "" && got == nil:
				got, end = &d, time.Now().Add(c.pace.Of(c.second))
				return false
			case c.pin == "":
				two = !bytes.Equal(got.Key, d.Key)
				return two
			case !c.pin.Fits(&d):
				other = MakePin(d.version(), d.Key, nil)
				return false
			}
			got = &d
			return true
		},
		// Another answer is waited for, and not for long.
		enough: func(tries int) (time.Time, bool) {
			if other != "" && got == nil {
				strangers = tries
			}
			return end, strangers >= doubtTries
		},
	})
	switch {
	case two:
		return &twoKeysError{*got}
	case later:
		return ErrLater
	case got != nil:
		c.about, c.version = *got, got.version()
		if c.pin == "" {
			c.pin = MakePin(c.version, got.Key, nil)
		}
		return nil
	case other != "" && ctx.Err() == nil:
		return &KeyError{other}
	}
	return err
}

// About is what the device tells of itself; by is the witness of it, none where it was
// only heard.
func (c *Client) About() (d Description, by evidence.Witness) {
	if len(c.about.Refusal) > 0 { // of an Answer, which its key is the proof of
		by = evidence.Of(evidence.ByKey)
	}
	return c.about, by
}

// Word is the witness of what the device said last in this conversation.
func (c *Client) Word() evidence.Witness { return c.word }

// Pin is what is to be kept of the device's key: nothing before it has proved to have it.
func (c *Client) Pin() Pin {
	if c.channel == nil {
		return ""
	}
	return MakePin(c.version, c.about.Key, c.about.Salt)
}

// Expected is the pin that the conversation is held to.
func (c *Client) Expected() Pin { return c.pin }

// Close ends the conversation, and says so.
func (c *Client) Close() {
	c.stop()
	c.leave()
}

// leave says that what was entered is over.
func (c *Client) leave() {
	if c.channel == nil {
		return
	}
	bye := Message{Version: c.version, Kind: Call, Device: c.mac, Exchange: c.exchange, Seq: c.seq + 1}
	if err := c.channel.seal(&bye, []byte(`{"do":"`+DoBye+`"}`)); err == nil {
		_ = c.link.Send(bye.Encode()) // lost, the device drops it by itself after a while
	}
	c.channel = nil
}

// Link and Pace are those of the conversation.
func (c *Client) Link() Link { return c.link }

// Remember has it take the keys of passwords from those that were made before, for other
// conversations.
func (c *Client) Remember(k *Keys) { c.keys = k }

// Pace is that of its times.
func (c *Client) Pace() pace.Pace { return c.pace }

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
	call := Message{Version: c.version, Kind: Call, Device: c.mac, Exchange: c.exchange, Seq: c.seq}
	if err := c.channel.seal(&call, plain); err != nil {
		return out, fmt.Errorf("hail: %w", err)
	}
	var answer []byte
	_, err = c.ask(ctx, call, question{answers: func(m Message) bool {
		if m.Kind != Reply || m.Exchange != call.Exchange || m.Seq != call.Seq || m.Version != call.Version {
			return false
		}
		opened, err := c.channel.open(&m)
		answer = opened
		return err == nil
	}})
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
	return out, fmt.Errorf("%s: %w", r.Do, &CallError{out.Error, out.Code})
}

// CallError is what a device says when it refuses a call.
type CallError struct {
	Words string
	Code  string // one of the codes, "" in version 1
}

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
