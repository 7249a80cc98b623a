package kernelwire

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"janustat/core/device"
)

func TestTheTableOfNeighboursIsRead(t *testing.T) {
	windows := "\r\nInterface: 10.61.8.200 --- 0x5\r\n  Internet Address      Physical Address      Type\r\n" +
		"  10.61.8.1             02-5c-00-00-00-01     dynamic   \r\n  10.61.9.255           ff-ff-ff-ff-ff-ff     static    \r\n  224.0.0.22            01-00-5e-00-00-16     static    \r\n"
	macOS := "? (10.61.8.1) at 2:5c:0:0:0:1 on en5 ifscope [ethernet]\n? (10.61.8.9) at (incomplete) on en5 ifscope [ethernet]\ncam (10.61.8.41) at 2:e4:42:0:1:a on en5 [ethernet]\n"
	assert.Equal(t, map[netip.Addr]device.MAC{netip.MustParseAddr("10.61.8.1"): {2, 0x5c, 0, 0, 0, 1}}, parseTable(windows))
	assert.Equal(t, map[netip.Addr]device.MAC{
		netip.MustParseAddr("10.61.8.1"): {2, 0x5c, 0, 0, 0, 1}, netip.MustParseAddr("10.61.8.41"): {2, 0xe4, 0x42, 0, 1, 0x0a},
	}, parseTable(macOS))
}

func FuzzTable(f *testing.F) {
	f.Add("? (10.61.8.1) at 2:5c:0:0:0:1 on en5 ifscope [ethernet]\n")
	f.Fuzz(func(t *testing.T, text string) {
		for a, mac := range parseTable(text) {
			assert.True(t, a.Is4())
			assert.False(t, mac.IsZero() || mac.IsGroup())
		}
	})
}

func TestGroupsHaveTheirMACs(t *testing.T) {
	assert.Equal(t, device.MAC{0x01, 0x00, 0x5e, 0x7f, 0xff, 0xfa}, groupMAC(netip.MustParseAddr("239.255.255.250")))
	assert.Equal(t, device.MAC{0x01, 0x00, 0x5e, 0x00, 0x00, 0xfb}, groupMAC(netip.MustParseAddr("224.0.0.251")))
}

func TestSpecsOfPlainWires(t *testing.T) {
	for spec, want := range map[string]bool{"plain": true, "plain:eth0": true, "plainly": false, "eth0": false, "": false, "bench:plain": false} {
		assert.Equal(t, want, Is(spec), spec)
	}
	_, err := Open("plain:nosuch0")
	assert.ErrorContains(t, err, "nosuch0 is not there, or down")
}
