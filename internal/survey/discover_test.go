package survey

import (
	"log/slog"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"janustat/core/device"
)

// Who is heard when the rounds of its subnet are over is asked as often as others were, and
// nobody is asked for ever.
func TestNobodyIsABystanderBeforeItWasAskedEnough(t *testing.T) {
	t.Parallel()
	r := newRun(t.Context(), Survey{Subnets: &Subnets{}, Log: slog.New(slog.DiscardHandler)})
	early := hearing{device.MAC{2, 0, 0, 0, 0, 1}, netip.MustParseAddr("10.61.8.9")}
	late := hearing{device.MAC{2, 0, 0, 0, 0, 2}, netip.MustParseAddr("10.61.8.10")}
	subnet := r.Subnets.Of(early.addr)
	hear := func(h hearing) {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.hears(h)
	}
	hear(early)
	for n := range askedEnough {
		assert.Equal(t, []hearing{early}, r.due(subnet), "asked %d times", n)
		assert.True(t, r.rounds[subnet])
		r.asked[early]++
	}
	assert.Empty(t, r.due(subnet))
	assert.False(t, r.rounds[subnet], "the rounds are over, and begin again for others")
	hear(late)
	assert.Equal(t, []hearing{late}, r.due(subnet), "without those that were asked")
}
