package cli

import (
	"runtime"
	"strings"

	"janustat/internal/kernelwire"
	"janustat/internal/wire"
)

// openWire opens what --wire names. Where the system has no raw frames, an adapter is used
// by the kernel's own sockets.
func openWire(spec string) (wire.Wire, error) {
	if runtime.GOOS != "linux" && !strings.HasPrefix(spec, "bench:") && !kernelwire.Is(spec) {
		spec = strings.TrimSuffix(kernelwire.Scheme+":"+spec, ":")
	}
	if kernelwire.Is(spec) {
		return kernelwire.Open(spec)
	}
	return wire.Open(spec)
}
