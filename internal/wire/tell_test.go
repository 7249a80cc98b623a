package wire

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestFramesAreToldInWords(t *testing.T) {
	ether := []byte{2, 0, 0, 0, 0, 2, 2, 0, 0, 0, 0, 1}
	arp := append(append([]byte{}, ether...), 0x08, 0x06, 0, 1, 8, 0, 6, 4, 0, 2, 2, 0, 0, 0, 0, 1, 10, 61, 8, 41, 2, 0, 0, 0, 0, 2, 10, 61, 8, 1)
	assert.Equal(t, "02:00:00:00:00:01 ARP: 10.61.8.41 is here", summary(arp))
	arp[21] = 1
	assert.Equal(t, "02:00:00:00:00:01 ARP: who has 10.61.8.1, says 10.61.8.41", summary(arp))
	assert.True(t, isRequest(arp))
	for _, cut := range []int{0, 5, 13, 14, 20, 30} {
		assert.NotPanics(t, func() { summary(arp[:cut]) })
		assert.NotPanics(t, func() { isRequest(arp[:cut]) })
	}
}

func FuzzSummary(f *testing.F) {
	f.Add([]byte{2, 0, 0, 0, 0, 2, 2, 0, 0, 0, 0, 1, 8, 0, 0x45, 0, 0, 28, 0, 0, 0, 0, 64, 17, 0, 0, 10, 0, 0, 1, 10, 0, 0, 2, 0, 67, 0, 68, 0, 8, 0, 0})
	f.Fuzz(func(_ *testing.T, frame []byte) { _ = summary(frame) })
}
