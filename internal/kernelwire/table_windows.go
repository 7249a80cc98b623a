package kernelwire

import (
	"net"
	"net/netip"
	"unsafe"

	"golang.org/x/sys/windows"

	"janustat/core/device"
)

var (
	ipHelper    = windows.NewLazySystemDLL("iphlpapi.dll")
	getNetTable = ipHelper.NewProc("GetIpNetTable2")
	freeTable   = ipHelper.NewProc("FreeMibTable")
)

// readTable reads the system's table of neighbours on an adapter (GetIpNetTable2).
func readTable(adapter string) map[netip.Addr]device.MAC {
	i, err := net.InterfaceByName(adapter)
	if err != nil || getNetTable.Find() != nil || freeTable.Find() != nil {
		return nil
	}
	var table *byte
	if status, _, _ := getNetTable.Call(familyInet, uintptr(unsafe.Pointer(&table))); status != 0 || table == nil {
		return nil
	}
	defer freeTable.Call(uintptr(unsafe.Pointer(table))) //nolint:errcheck // it returns nothing
	n := min(*(*uint32)(unsafe.Pointer(table)), maxTableLen)
	return parseRows(unsafe.Slice(table, rowsAt+int(n)*rowSize), uint32(i.Index))
}
