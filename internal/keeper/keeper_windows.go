package keeper

import (
	"errors"
	"fmt"
	"time"

	"github.com/danieljoos/wincred"
)

// The credential manager keeps what is of the logon session in memory alone
// (CRED_PERSIST_SESSION). It knows no end of time, so the moment is kept with it.

func keep(name, secret string, d time.Duration) error {
	c := wincred.NewGenericCredential(name)
	c.CredentialBlob, c.Persist = []byte(secret), wincred.PersistSession
	c.Attributes = []wincred.CredentialAttribute{{Keyword: "until", Value: []byte(time.Now().Add(d).UTC().Format(time.RFC3339))}}
	if err := c.Write(); err != nil {
		return fmt.Errorf("%w: %w", ErrNone, err)
	}
	return nil
}

func get(name string) (string, bool) {
	c, err := wincred.GetGenericCredential(name)
	if err != nil {
		return "", false
	}
	for _, a := range c.Attributes {
		until, err := time.Parse(time.RFC3339, string(a.Value))
		if a.Keyword == "until" && err == nil && time.Now().Before(until) {
			return string(c.CredentialBlob), true
		}
	}
	_ = c.Delete() // its time is over; if it stays, it is not given out all the same
	return "", false
}

func drop(name string) error {
	c, err := wincred.GetGenericCredential(name)
	if errors.Is(err, wincred.ErrElementNotFound) {
		return nil
	}
	if err == nil {
		err = c.Delete()
	}
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNone, err)
	}
	return nil
}
