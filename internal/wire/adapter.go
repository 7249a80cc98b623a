package wire

import (
	"fmt"
	"net"
	"net/netip"
	"strings"
)

// usable lists the adapters that are up and carry Ethernet.
func usable() ([]net.Interface, error) {
	all, err := net.Interfaces()
	if err != nil {
		return nil, fmt.Errorf("list adapters: %w", err)
	}
	var out []net.Interface
	for _, i := range all {
		if i.Flags&net.FlagUp != 0 && i.Flags&net.FlagLoopback == 0 && len(i.HardwareAddr) == 6 {
			out = append(out, i)
		}
	}
	return out, nil
}

func onlyAdapter() (string, error) {
	list, err := usable()
	if err != nil {
		return "", err
	}
	switch len(list) {
	case 0:
		return "", fmt.Errorf("%w is up: plug the cable in, or name one with --wire", ErrNoAdapter)
	case 1:
		return list[0].Name, nil
	}
	names := make([]string, len(list))
	for i, a := range list {
		names[i] = a.Name
	}
	return "", fmt.Errorf("%w named and %d are up: choose with --wire %s", ErrNoAdapter, len(list), strings.Join(names, " or --wire "))
}

// addresses gives an adapter's own IPv4 addresses with their prefix lengths.
func addresses(ifi *net.Interface) ([]netip.Prefix, error) {
	list, err := ifi.Addrs()
	if err != nil {
		return nil, fmt.Errorf("addresses of %s: %w", ifi.Name, err)
	}
	var out []netip.Prefix
	for _, a := range list {
		p, err := netip.ParsePrefix(a.String())
		if err == nil && p.Addr().Is4() {
			out = append(out, p)
		}
	}
	return out, nil
}
