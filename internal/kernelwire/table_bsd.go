//go:build darwin || dragonfly || freebsd || netbsd || openbsd

package kernelwire

import (
	"net"
	"net/netip"
	"syscall"

	"golang.org/x/net/route"

	"janustat/core/device"
)

// What sysctl(3) calls routes with some flags, and those of neighbours (sys/socket.h, net/route.h).
const (
	routesByFlags = 2     // NET_RT_FLAGS
	flagNeighbour = 0x400 // RTF_LLINFO
)

// readTable reads the kernel's table of neighbours on an adapter (route(4), arp(4)).
func readTable(adapter string) map[netip.Addr]device.MAC {
	i, err := net.InterfaceByName(adapter)
	if err != nil {
		return nil
	}
	table, err := route.FetchRIB(syscall.AF_INET, routesByFlags, flagNeighbour)
	if err != nil {
		return nil
	}
	messages, err := route.ParseRIB(routesByFlags, table)
	if err != nil {
		return nil
	}
	out := map[netip.Addr]device.MAC{}
	for _, m := range messages {
		r, ok := m.(*route.RouteMessage)
		if !ok || r.Index != i.Index || len(r.Addrs) <= syscall.RTAX_GATEWAY {
			continue
		}
		at, isIP := r.Addrs[syscall.RTAX_DST].(*route.Inet4Addr)
		link, isLink := r.Addrs[syscall.RTAX_GATEWAY].(*route.LinkAddr)
		if !isIP || !isLink || len(link.Addr) != len(device.MAC{}) {
			continue // incomplete
		}
		if mac := device.MACFrom(link.Addr); !mac.IsZero() && !mac.IsGroup() {
			out[netip.AddrFrom4(at.IP)] = mac
		}
	}
	return out
}
