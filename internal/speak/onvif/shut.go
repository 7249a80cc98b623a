package onvif

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// ErrShut means that the device refuses the password that has opened it in this conversation:
// somebody else answers there by now, or it has another password. It was sent twice at most
// since, and is not sent again.
var ErrShut = errors.New("it refuses the password that opened it a moment ago")

// The operations by which a password is offered: the second where the first is open to
// everyone.
const (
	opening    = "GetUsers"
	openingToo = "GetNetworkInterfaces"
)

// leap is by how much a clock has moved that was set meanwhile.
const leap = 5 * time.Second

// refusedLater judges a refusal by a device that the password has opened: its login went
// stale, or it does not let this user do that, or it knows the password no more. Which of
// these, the operation shows that opened it. again is for a login that was stale.
func (c *Client) refusedLater(ctx context.Context, operation string, refused error) (again bool, err error) {
	switch {
	case operation == c.openedBy:
		return false, c.shutBy(refused)
	case c.closedTo[operation], c.judging: // its clock, in this very judgement
		return false, refused
	}
	c.judging = true
	defer func() { c.judging = false }()
	if again, err = c.renew(ctx); err != nil {
		return false, err
	}
	if c.openedBy == opening {
		_, err = c.listUsers(ctx)
	} else {
		err = c.interfaces(ctx)
	}
	switch {
	case errors.Is(err, ErrShut):
		return false, err
	case err == nil && again:
		return true, nil
	}
	if c.closedTo == nil {
		c.closedTo = map[string]bool{}
	}
	c.closedTo[operation] = true
	return false, refused
}

// shutBy has no password sent any more in this conversation.
func (c *Client) shutBy(refused error) error {
	c.shut, c.proven = fmt.Errorf("%w: %s", ErrShut, refused.Error()), false
	return c.shut
}

// renew makes the login anew, and reports whether it was stale for all that is known: a
// nonce may have been used up, a clock been set by somebody.
func (c *Client) renew(ctx context.Context) (stale bool, err error) {
	if c.scheme == byDigest {
		return c.digest.asksAnew(), nil
	}
	was := c.offset
	c.clockKnown = false
	if err := c.syncClock(ctx); err != nil {
		return false, err
	}
	return (c.offset - was).Abs() > leap, c.mayLogin()
}
