package keeper

import (
	"errors"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestASecretIsKeptForAWhile(t *testing.T) {
	const name = "test of the keeper"
	err := Keep(name, "ferry at quillmere", time.Minute)
	if errors.Is(err, ErrNone) && os.Getenv("CI") == "" {
		t.Skipf("no key retention here: %v", err)
	}
	require.NoError(t, err)
	secret, ok := Get(name)
	assert.True(t, ok)
	assert.Equal(t, "ferry at quillmere", secret)

	require.NoError(t, Keep(name, "another", time.Second))
	secret, _ = Get(name)
	assert.Equal(t, "another", secret)
	assert.Eventually(t, func() bool { _, ok := Get(name); return !ok }, 5*time.Second, 50*time.Millisecond, "its time is over")

	require.NoError(t, Keep(name, "a third", time.Minute))
	require.NoError(t, Drop(name))
	_, ok = Get(name)
	assert.False(t, ok)
	require.NoError(t, Drop(name), "what is not there needs no forgetting")
}
