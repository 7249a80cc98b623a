//go:build !linux

package kernelwire

import (
	"context"
	"net/netip"
	"os/exec"
	"time"

	"janustat/core/device"
)

// readTable asks the system's own command for its table of neighbours, which Windows and
// macOS have alike.
func readTable(string) map[netip.Addr]device.MAC {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, "arp", "-a").Output()
	if err != nil {
		return nil
	}
	return parseTable(string(out))
}
