package pace

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestPace(t *testing.T) {
	assert.Equal(t, time.Second, Pace(0).Of(time.Second), "as usual")
	assert.Equal(t, time.Second, Pace(1).Of(time.Second))
	assert.Equal(t, 250*time.Millisecond, Pace(4).Of(time.Second))
	begun := time.Now().Add(-time.Second)
	assert.InDelta(t, 4, Pace(4).Since(begun).Seconds(), 0.5)
	assert.InDelta(t, 1, Pace(0).Since(begun).Seconds(), 0.2)
}
