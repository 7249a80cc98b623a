package keys

import (
	"testing"

	"janustat/core/device"
	"janustat/core/secret"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAPairsSecretIsOnTheKeyring(t *testing.T) {
	k := NewRing()
	a, b := device.MAC{1}, device.MAC{2}
	assert.True(t, k.Pair(a, b).IsZero())
	p := secret.New("Quay-side-7")
	k.SetPair(a, b, p)
	assert.Equal(t, p, k.Pair(a, b))
	assert.True(t, k.Pair(b, a).IsZero())
	d, err := k.Draft()
	require.NoError(t, err)
	assert.Equal(t, p, d.Pair(a, b))
}
