package kernelwire

import (
	"encoding/binary"
	"net/netip"

	"janustat/core/device"
)

// The layout of MIB_IPNET_TABLE2 and MIB_IPNET_ROW2 (netioapi.h), which Windows tells its neighbours
// in: offsets and sizes in octets.
const (
	rowsAt     = 8 // behind NumEntries, as the 64 bits of NET_LUID are aligned
	rowSize    = 88
	rowAddress = 4  // of IPv4, in SOCKADDR_INET
	rowIndex   = 28 // of the adapter
	rowMAC     = 40
	rowLength  = 72 // of the MAC
	rowState   = 76

	familyInet  = 2 // AF_INET (ws2def.h)
	stateProbe  = 2 // NlnsProbe (nldef.h): from here on a neighbour has answered at some time
	maxTableLen = 1 << 16
)

// parseRows reads such a table, of one adapter.
func parseRows(b []byte, adapter uint32) map[netip.Addr]device.MAC {
	out := map[netip.Addr]device.MAC{}
	if len(b) < rowsAt {
		return out
	}
	n := min(binary.LittleEndian.Uint32(b), maxTableLen)
	for b = b[rowsAt:]; n > 0 && len(b) >= rowSize; n, b = n-1, b[rowSize:] {
		row := b[:rowSize]
		if binary.LittleEndian.Uint16(row) != familyInet || binary.LittleEndian.Uint32(row[rowIndex:]) != adapter ||
			binary.LittleEndian.Uint32(row[rowLength:]) != uint32(len(device.MAC{})) || binary.LittleEndian.Uint32(row[rowState:]) < stateProbe {
			continue
		}
		mac := device.MACFrom(row[rowMAC : rowMAC+len(device.MAC{})])
		if !mac.IsZero() && !mac.IsGroup() {
			out[netip.AddrFrom4([4]byte(row[rowAddress:]))] = mac
		}
	}
	return out
}
