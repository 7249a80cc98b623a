package wire

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"janustat/core/lan"
)

const sysNet = "/sys/class/net"

// more adds what sysfs and the routing table know (sysfs-class-net, route(8)).
func more(a *lan.Adapter) {
	dir := filepath.Join(sysNet, a.Name)
	// Reading fails on an adapter that is down, which then has no speed either.
	if b, err := os.ReadFile(filepath.Join(dir, "speed")); err == nil {
		if n, err := strconv.Atoi(strings.TrimSpace(string(b))); err == nil && n > 0 {
			a.Speed = n
		}
	}
	if _, err := os.Stat(filepath.Join(dir, "wireless")); err == nil {
		a.Wireless = true
	}
	if real, err := filepath.EvalSymlinks(dir); err == nil {
		a.Virtual = strings.Contains(real, "/devices/virtual/")
	}
	if b, err := os.ReadFile("/proc/net/route"); err == nil {
		a.Gateway = defaultGateway(b, a.Name)
	}
}

// defaultGateway reads the table in /proc/net/route: name, destination and
// gateway in hexadecimal, the latter two in the machine's own byte order.
func defaultGateway(table []byte, name string) netip.Addr {
	lines := bufio.NewScanner(bytes.NewReader(table))
	for lines.Scan() {
		f := strings.Fields(lines.Text())
		if len(f) < 3 || f[0] != name || f[1] != "00000000" {
			continue
		}
		b, err := hex.DecodeString(f[2])
		if err != nil || len(b) != 4 {
			continue
		}
		if a := netip.AddrFrom4([4]byte{b[3], b[2], b[1], b[0]}); !a.IsUnspecified() {
			return a
		}
	}
	return netip.Addr{}
}
