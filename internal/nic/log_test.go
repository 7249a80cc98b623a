package nic

import (
	"io"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gvisor.dev/gvisor/pkg/log"
)

// The stack says nothing to the person.
func TestTheStackIsSilent(t *testing.T) {
	r, w, err := os.Pipe()
	require.NoError(t, err)
	stderr := os.Stderr
	os.Stderr = w
	log.Warningf("failed for packet")
	os.Stderr = stderr
	require.NoError(t, w.Close())
	said, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.Empty(t, said)
	assert.Equal(t, log.Emitter(silent{}), log.Log().Emitter)
}
