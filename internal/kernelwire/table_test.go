package kernelwire

import (
	"bytes"
	"encoding/binary"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"janustat/core/device"
)

// netRow is a row of the table of neighbours of Windows.
func netRow(at string, mac device.MAC, adapter, state, length uint32) []byte {
	row := make([]byte, rowSize)
	binary.LittleEndian.PutUint16(row, familyInet)
	copy(row[rowAddress:], netip.MustParseAddr(at).AsSlice())
	binary.LittleEndian.PutUint32(row[rowIndex:], adapter)
	copy(row[rowMAC:], mac[:])
	binary.LittleEndian.PutUint32(row[rowLength:], length)
	binary.LittleEndian.PutUint32(row[rowState:], state)
	return row
}

func netTable(rows ...[]byte) []byte {
	head := make([]byte, rowsAt)
	binary.LittleEndian.PutUint32(head, uint32(len(rows)))
	return append(head, bytes.Join(rows, nil)...)
}

func TestTheTableOfNeighboursIsRead(t *testing.T) {
	mac := device.MAC{2, 0x5c, 0, 0, 0, 1}
	table := netTable(
		netRow("10.61.8.1", mac, 5, 5, 6),
		netRow("10.61.8.2", mac, 6, 5, 6),                                    // on another adapter
		netRow("10.61.8.3", mac, 5, 1, 6),                                    // has not answered
		netRow("10.61.8.4", mac, 5, 5, 8),                                    // no Ethernet
		netRow("10.61.9.255", device.Broadcast, 5, 6, 6),                     // everyone
		netRow("224.0.0.22", device.MAC{1, 0, 0x5e, 0, 0, 0x16}, 5, 6, 6),    // a group
		netRow("10.61.8.41", device.MAC{2, 0xe4, 0x42, 0, 1, 0x0a}, 5, 4, 6), // not asked lately
	)
	assert.Equal(t, map[netip.Addr]device.MAC{netip.MustParseAddr("10.61.8.1"): mac, netip.MustParseAddr("10.61.8.41"): {2, 0xe4, 0x42, 0, 1, 0x0a}}, parseRows(table, 5))
	assert.Len(t, parseRows(table[:rowsAt+rowSize+3], 5), 1, "cut off")
	assert.Empty(t, parseRows(nil, 5))
}

func FuzzTable(f *testing.F) {
	f.Add(netTable(netRow("10.61.8.1", device.MAC{2, 0x5c, 0, 0, 0, 1}, 5, 5, 6)))
	f.Fuzz(func(t *testing.T, table []byte) {
		for a, mac := range parseRows(table, 5) {
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
