package work

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPlacesGoByTheProcessor(t *testing.T) {
	for _, x := range []struct {
		what          string
		size, waiting int
		share         float64
		want          int
	}{
		{"nobody waits", 32, 0, 0.1, 32},
		{"some wait, and it has time", 32, 9, 0.1, 48},
		{"it has little time", 64, 9, 0.7, 64},
		{"it has none", 64, 9, 0.95, 48},
		{"never fewer than a few", 32, 0, 1, 32},
		{"nor more than many", 128, 500, 0.1, 128},
	} {
		assert.Equal(t, x.want, resized(x.size, x.waiting, x.share), x.what)
	}
	assert.Positive(t, processorTime())
}

// Places come up while others wait for answers, which cost no processor.
func TestPlacesComeUp(t *testing.T) {
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	p := places(ctx, 0)
	for range 2 * fewPlaces { // more than there are at first: all come
		if err := p.Take(ctx); err != nil {
			require.NoError(t, err)
		}
	}
	size, _ := p.Load()
	assert.GreaterOrEqual(t, size, 2*fewPlaces)
	fixed := places(ctx, 3)
	size, _ = fixed.Load()
	assert.Equal(t, 3, size)
}
