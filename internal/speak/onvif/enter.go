package onvif

import (
	"context"
	"errors"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"janustat/core/device"
	"janustat/core/secret"
	"janustat/internal/speak/soap"
)

// User is an account on the device.
type User struct {
	Name  string `xml:"Username"`
	Level string `xml:"UserLevel"`
}

// Users gives the accounts (GetUsers).
func (c *Client) Users(ctx context.Context) ([]User, error) { return c.users(ctx, c.recall) }

// listUsers reads them, whatever was told before: what opens a device shows by that.
func (c *Client) listUsers(ctx context.Context) ([]User, error) { return c.users(ctx, c.keep) }

func (c *Client) users(ctx context.Context, ask func(ctx context.Context, operation, inner string, out any) error) ([]User, error) {
	var a struct{ User []User }
	err := ask(ctx, "GetUsers", "", &a)
	a.User = a.User[:min(len(a.User), maxUsers)]
	for i := range a.User {
		a.User[i] = User{c.said(a.User[i].Name), c.said(a.User[i].Level)}
	}
	return a.User, err
}

// maxUsers bounds the accounts that are kept of a device.
const maxUsers = 256

// Access tells a fresh device from one with a password, offering none: a
// device without an administrator lets everyone list its users.
func (c *Client) Access(ctx context.Context) (device.Access, error) {
	c.logout()
	users, err := c.listUsers(ctx)
	switch {
	case errors.Is(err, ErrRefused):
		c.closed, c.openedBy, c.looked = true, opening, c.now()
		return device.Sealed, nil
	case err != nil:
		return "", err
	}
	c.closed = false
	for _, u := range users {
		if strings.EqualFold(u.Level, "Administrator") {
			c.openList = true
			return device.Sealed, nil
		}
	}
	return device.Fresh, nil
}

// lookedFor is how long it counts that a device was seen to be closed: within a breath, since whoever
// answers may be another by then, or be reset.
const lookedFor = 2 * time.Second

// Enter offers a password once and uses it from then on; false means refused.
func (c *Client) Enter(ctx context.Context, user string, p secret.Password) (bool, error) {
	if err := c.syncClock(ctx); err != nil {
		return false, err
	}
	just := c.now().Sub(c.looked) < lookedFor
	if c.looked = (time.Time{}); just { // that it is closed, and what it asks for, was seen just now
		c.logout()
	} else if !c.challenged || c.openList {
		// Which scheme the device wants is in its refusal of an anonymous request.
		c.logout()
		if err := c.lookClosed(ctx); err != nil {
			return false, err
		}
	}
	if err := c.mayLogin(); err != nil {
		return false, err
	}
	c.login(user, p)
	if c.scheme == byDigest && c.chal != nil && c.now().Sub(c.chalAt) < lookedFor {
		c.digest.keep(c.chal) // it need not be asked for once more
	}
	c.chal = nil // a nonce is answered to once by a password that may be wrong
	// On a connection that is about to go, the password would be lost: that is a try, of which
	// nothing is learnt.
	c.Close()
	users, err := c.listUsers(ctx)
	// A device without any administrator answers whoever asks: only one that knows this user
	// has been opened, or one that was closed to everyone a moment ago. Some leave their
	// administrators out of the list.
	known := c.closed && c.openedBy == opening || slices.ContainsFunc(users, func(u User) bool { return strings.EqualFold(u.Name, user) })
	if err == nil && known && c.openedBy != opening {
		err = c.interfaces(ctx)
	}
	if errors.Is(err, ErrRefused) || err == nil && !known {
		c.logout()
		return false, nil
	}
	if c.proven = err == nil; c.proven && c.scheme == byDigest {
		c.digest.fits()
	}
	return c.proven, err
}

// lookClosed finds an operation that the device closes to those without a password, by which
// one can be offered: most list their users to administrators alone, some to everyone.
func (c *Client) lookClosed(ctx context.Context) error {
	c.openedBy = opening
	_, err := c.listUsers(ctx)
	if c.closed = errors.Is(err, ErrRefused); c.closed {
		return nil
	}
	if err != nil {
		return err
	}
	err = c.interfaces(ctx)
	var locked *LockedError
	switch {
	case errors.Is(err, ErrRefused):
		c.openedBy = openingToo
	case errors.Is(err, ErrUnreachable), errors.Is(err, ErrNoReply), errors.As(err, &locked):
		return err
	}
	return nil // else it is open to everyone, as far as can be seen
}

// Opens reports whether a password opens the device for a user of any level, all of
// whom may read the network settings (Core Specification, access class
// READ_SYSTEM). It is offered once; the client goes on with its own.
func (c *Client) Opens(ctx context.Context, user string, p secret.Password) (bool, error) {
	c.Close() // offered on a connection that turns out to be gone, it would be a try for nothing
	other := c.like()
	if err := other.mayLogin(); err != nil {
		return false, err
	}
	other.login(user, p)
	_, _, err := other.Network(ctx, netip.Addr{}, device.MAC{})
	var fault *soap.Fault
	if errors.As(err, &fault) && fault.Status == http.StatusForbidden && other.scheme == byDigest {
		return true, nil // known to it, and not allowed even this (RFC 9110, 15.5.4); a wrong password gets 401
	}
	if errors.Is(err, ErrRefused) {
		return false, nil
	}
	return err == nil, err
}

// RefusesAnonymous reports whether the network settings are closed to those without a password.
func (c *Client) RefusesAnonymous(ctx context.Context) (bool, error) {
	_, _, err := c.like().Network(ctx, netip.Addr{}, device.MAC{})
	if errors.Is(err, ErrRefused) {
		return true, nil
	}
	return false, err
}
