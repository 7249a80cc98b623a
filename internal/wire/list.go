package wire

import (
	"fmt"
	"net"
	"net/netip"

	"janustat/core/device"
	"janustat/core/lan"
)

// Adapters lists the laptop's Ethernet adapters, up or not, in the system's order.
func Adapters() ([]lan.Adapter, error) {
	all, err := net.Interfaces()
	if err != nil {
		return nil, fmt.Errorf("list adapters: %w", err)
	}
	var out []lan.Adapter
	for _, i := range all {
		if i.Flags&net.FlagLoopback != 0 || len(i.HardwareAddr) != 6 {
			continue
		}
		a := lan.Adapter{
			Name: i.Name, MAC: device.MACFrom(i.HardwareAddr), Up: i.Flags&net.FlagUp != 0, Link: i.Flags&net.FlagRunning != 0,
			Addresses: []netip.Prefix{},
		}
		if own, err := addresses(&i); err == nil {
			a.Addresses = append(a.Addresses, own...)
		}
		more(&a)
		out = append(out, a)
	}
	return out, nil
}
