package field

import (
	"net/netip"
	"time"

	"janustat/core/device"
)

// happening is something heard of a MAC, for those who watch.
type happening struct {
	mac      device.MAC
	at       time.Time
	address  netip.Addr
	started  bool   // it says hello, as after a start
	left     bool   // it says goodbye
	instance uint64 // grows with each start
}
