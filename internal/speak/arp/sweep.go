package arp

import (
	"context"
	"fmt"
	"iter"
	"net/netip"
	"time"

	"janustat/core/device"
)

// DefaultRate is how many probes a sweep sends a second. Cheap switches and
// cameras survive far more; it leaves the link all but idle (1 Mbit/s).
const DefaultRate = 2000

// tick is how often a sweep sends a burst; shorter than the kernel's own timer
// would make pacing uneven.
const tick = 5 * time.Millisecond

// Sweep sends one ARP probe for each address, at most rate a second (0 is
// without limit), until all are sent or ctx ends. It tells how many it sent.
func Sweep(ctx context.Context, send func([]byte) error, own device.MAC, targets iter.Seq[netip.Addr], rate int) (int, error) {
	// One frame serves for all: only the target changes.
	frame := Probe(own, netip.IPv4Unspecified()).Frame()
	begun, sent := time.Now(), 0
	pace := time.NewTicker(tick)
	defer pace.Stop()
	for target := range targets {
		for rate > 0 && sent >= int(time.Since(begun).Seconds()*float64(rate))+1 {
			select {
			case <-pace.C:
			case <-ctx.Done():
				return sent, ctx.Err()
			}
		}
		a := target.As4()
		copy(frame[headerLen+24:], a[:])
		if err := send(frame); err != nil {
			return sent, fmt.Errorf("sweep at %s: %w", target, err)
		}
		if sent++; ctx.Err() != nil { // sending may have to wait
			return sent, ctx.Err()
		}
	}
	return sent, nil
}
