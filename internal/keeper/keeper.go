// Package keeper has a secret remembered for a while by the system, in its memory alone: it
// is never written to a disk, is for this login alone, and is gone when its time is over.
package keeper

import (
	"errors"
	"time"
)

// ErrNone is returned where the system has no keeper, or lets nobody use it.
var ErrNone = errors.New("this system keeps no secrets for a while")

// Most is the longest that a secret is kept.
const Most = 12 * time.Hour

// Keep has a secret kept under a name for a time, in the place of an earlier one.
func Keep(name, secret string, d time.Duration) error { return keep(prefix+name, secret, min(d, Most)) }

// Get gives the secret of a name; ok is false where none is kept any more.
func Get(name string) (secret string, ok bool) { return get(prefix + name) }

// Drop forgets the secret of a name at once.
func Drop(name string) error { return drop(prefix + name) }

const prefix = "janustat:"
