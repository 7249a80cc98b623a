package kernelwire

import (
	"bufio"
	"net/netip"
	"os"
	"strconv"
	"strings"

	"janustat/core/device"
)

const complete = 0x02 // ATF_COM (arp(7))

// readTable reads the kernel's table of neighbours on an adapter (proc_net(5)).
func readTable(adapter string) map[netip.Addr]device.MAC {
	f, err := os.Open("/proc/net/arp")
	if err != nil {
		return nil
	}
	defer f.Close()
	out := map[netip.Addr]device.MAC{}
	for lines := bufio.NewScanner(f); lines.Scan(); {
		// Address, hardware type, flags, MAC, mask, adapter.
		w := strings.Fields(lines.Text())
		const words = 6
		if len(w) != words || w[5] != adapter {
			continue
		}
		a, aerr := netip.ParseAddr(w[0])
		flags, ferr := strconv.ParseUint(strings.TrimPrefix(w[2], "0x"), 16, 16)
		mac, merr := device.ParseMAC(w[3])
		if aerr == nil && ferr == nil && merr == nil && flags&complete != 0 && !mac.IsZero() {
			out[a] = mac
		}
	}
	return out
}
