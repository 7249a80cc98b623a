package work

import (
	"context"
	"runtime"
	"time"

	"janustat/core/commission"
)

// How many conversations are held at once goes by what this computer bears: it begins with a few,
// has more of them while others wait and the processor has time, and fewer where it has none.
const (
	fewPlaces   = 32
	manyPlaces  = 128
	placesStep  = 16
	placesEvery = 200 * time.Millisecond
	busyShare   = 0.85 // of all processors, above which more at once are no faster
	idleShare   = 0.60
)

// places makes places for conversations: so many, or 0 for what this computer bears, until ctx ends.
func places(ctx context.Context, size int) *commission.Places {
	if size > 0 {
		return commission.NewPlaces(size)
	}
	p := commission.NewPlaces(fewPlaces)
	go func() {
		again := time.NewTicker(placesEvery)
		defer again.Stop()
		used, at := processorTime(), time.Now()
		for {
			select {
			case <-ctx.Done():
				return
			case <-again.C:
			}
			u, now := processorTime(), time.Now()
			share := (u - used).Seconds() / now.Sub(at).Seconds() / float64(runtime.GOMAXPROCS(0))
			used, at = u, now
			size, waiting := p.Load()
			if next := resized(size, waiting, share); next != size {
				p.Resize(next)
			}
		}
	}()
	return p
}

// resized gives how many places there are to be, where so many wait and this share of the
// processors is used.
func resized(size, waiting int, share float64) int {
	switch {
	case share > busyShare:
		return max(fewPlaces, size-placesStep)
	case share < idleShare && waiting > 0:
		return min(manyPlaces, size+placesStep)
	}
	return size
}
