package oui

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"janustat/core/device"
)

func TestHolder(t *testing.T) {
	assert.Greater(t, len(table()), 30_000)
	counts := map[int]int{}
	for prefix, holder := range table() {
		counts[len(prefix)]++
		assert.NotEmpty(t, holder)
	}
	assert.Len(t, counts, 3, "blocks of three sizes: %v", counts)
	// A small block inside a large one belongs to its own holder.
	for prefix, holder := range table() {
		if len(prefix) != 9 {
			continue
		}
		mac, err := device.ParseMACPrefix(prefix)
		assert.NoError(t, err)
		assert.Equal(t, holder, Holder(mac.MAC))
		break
	}
	assert.Empty(t, Holder(device.MAC{2, 0xe4, 0x42, 0, 1, 1}), "locally administered")
	assert.Empty(t, Holder(device.MAC{}))
	assert.Empty(t, Holder(device.Broadcast))
}

func BenchmarkHolder(b *testing.B) {
	for b.Loop() {
		Holder(device.MAC{0, 0x22, 0x72, 0, 0, 1})
	}
}
