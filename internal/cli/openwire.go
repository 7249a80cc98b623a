package cli

import (
	"janustat/internal/kernelwire"
	"janustat/internal/wire"
)

// openWire opens what --wire names.
func openWire(spec string) (wire.Wire, error) {
	if kernelwire.Is(spec) {
		return kernelwire.Open(spec)
	}
	return wire.Open(spec)
}
