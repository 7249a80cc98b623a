// Package pace lets the times of protocols run faster than on a LAN: a test whose
// simulated hosts answer as much sooner does not wait out what the standards demand.
// Limits, which bound what may go wrong, are no such times and are not changed by it.
package pace

import "time"

// Pace is how many times faster than usual time runs. Zero is as usual.
type Pace int

func (p Pace) times() time.Duration { return time.Duration(max(p, 1)) }

// Of gives how long a time of a protocol takes at this pace.
func (p Pace) Of(d time.Duration) time.Duration { return d / p.times() }

// Since gives how much of a protocol's time has gone by since t.
func (p Pace) Since(t time.Time) time.Duration { return time.Since(t) * p.times() }
