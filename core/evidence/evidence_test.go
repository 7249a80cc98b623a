package evidence

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestOnlyAWitnessProves(t *testing.T) {
	p, ok := Prove(Witness{}, time.Hour)
	assert.False(t, ok, "nobody proved anything")
	assert.False(t, p.Stands())
	assert.Zero(t, p.Is())

	p, ok = Prove(Of(ByKey), time.Hour)
	assert.True(t, ok)
	assert.True(t, p.Stands())
	assert.Equal(t, time.Hour, p.Is())
	assert.Equal(t, ByKey, p.By())

	assert.Equal(t, "locked", Say("locked").Said())
}
