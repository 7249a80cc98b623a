package hail

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"time"

	"janustat/core/evidence"
	"janustat/internal/trace"
)

// NewExchange draws one.
func NewExchange() Exchange { return newExchange(rand.Reader) }

func newExchange(random io.Reader) (x Exchange) {
	_, _ = io.ReadFull(random, x[:]) // never fails (crypto/rand)
	return x
}

// question is how the answers to a message are known.
type question struct {
	answers func(Message) bool
	// refusal is the key of its Refusals, nil where there is none: then a Refusal is one that
	// anybody may have sent.
	refusal []byte
	// enough gives when no answer is waited for any more, and whether it is not to be sent
	// again after so many times; it may be nil.
	enough func(tries int) (until time.Time, over bool)
}

// ask sends a message until one that answers it is heard, or the device has refused it. A
// refusal in the open is believed only where nothing better comes.
func (c *Client) ask(ctx context.Context, m Message, q question) (answer Message, err error) {
	told := trace.Begin(ctx, "Hail", fmt.Sprintf("kind %d", m.Kind), m.Device.String())
	defer func() {
		if err != nil {
			told(err)
		} else {
			told(fmt.Sprintf("kind %d, %d octets", answer.Kind, len(answer.Body)))
		}
	}()
	payload := m.Encode()
	var open *RefusalError // refused, in the open
	var until time.Time    // when no better answer is waited for
	for try := range askTries {
		if err := c.link.Send(payload); err != nil {
			return Message{}, err
		}
		t := time.NewTimer(c.pace.Of(min(askFirst<<try, askMost)))
		over := false
	listen:
		for {
			if q.enough != nil {
				var at time.Time
				if at, over = q.enough(try + 1); !at.IsZero() {
					until = at
				}
			}
			var ended <-chan time.Time
			if !until.IsZero() {
				ended = time.After(time.Until(until))
			}
			select {
			case h := <-c.heard:
				switch {
				case h.Kind != Refusal && q.answers(h):
					t.Stop()
					return h, nil
				case h.Kind == Refusal && h.Exchange == m.Exchange && h.Seq == m.Seq && m.Kind != Seek:
					r := readRefusal(&h, q.refusal)
					if r.By.Stands() {
						t.Stop()
						c.word = r.By
						return Message{}, r
					}
					if open == nil {
						open, until = r, time.Now().Add(c.pace.Of(refusalPatience)+keyWork)
					}
				}
			case <-ended:
				t.Stop()
				if open != nil {
					c.word = evidence.Witness{}
					return Message{}, open
				}
				return Message{}, ErrNoAnswer
			case <-t.C:
				break listen
			case <-ctx.Done():
				t.Stop()
				return Message{}, fmt.Errorf("%w: %w", ErrNoAnswer, context.Cause(ctx))
			}
		}
		if over {
			break
		}
	}
	if open != nil {
		c.word = evidence.Witness{}
		return Message{}, open
	}
	return Message{}, ErrNoAnswer
}
