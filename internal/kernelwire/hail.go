package kernelwire

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"slices"

	"golang.org/x/net/ipv4"

	"janustat/internal/speak/hail"
)

// hailGroup is where everything of Hail goes, to devices and from them.
var hailGroup = netip.AddrPortFrom(hail.Group, hail.Port)

// listenHail takes in what devices say by Hail. Its port is one that systems may keep to
// themselves (under 1024); then such devices are not met, and Limits says so.
func (w *Wire) listenHail() {
	socket, err := net.ListenMulticastUDP("udp4", &w.iface, net.UDPAddrFromAddrPort(hailGroup))
	if err != nil {
		w.noHail = err
		return
	}
	p := ipv4.NewPacketConn(socket)
	_ = p.SetMulticastInterface(&w.iface) // else the system's choice
	_ = p.SetMulticastTTL(1)
	_ = p.SetMulticastLoopback(false)
	w.hail = socket
	w.work.Go(func() { w.hailed(socket) })
}

// hailed gives on what comes to the group. A device may have no address, or one that the
// kernel does not reach: its MAC is what the message says, as in a frame that is heard.
func (w *Wire) hailed(socket *net.UDPConn) {
	stop := context.AfterFunc(w.ctx, func() { socket.Close() })
	defer stop()
	defer socket.Close()
	buf := make([]byte, largest)
	for {
		n, from, err := socket.ReadFromUDPAddrPort(buf)
		if err != nil {
			return
		}
		m, err := hail.Parse(buf[:n])
		later := errors.Is(err, hail.ErrVersion) // it is named as such
		said := m.Kind == hail.Here || m.Kind == hail.Answer || m.Kind == hail.Reply || m.Kind == hail.Refusal
		if err != nil && !later || !said || m.Device.IsZero() || m.Device.IsGroup() {
			continue // what controllers say, ourselves too, is for devices
		}
		w.heard(udpFrame(m.Device, groupMAC(hail.Group), netip.AddrPortFrom(from.Addr().Unmap(), from.Port()), hailGroup, buf[:n]))
	}
}

// Limits are what cannot be done on this wire, in words.
func (w *Wire) Limits() []string {
	out := slices.Clone(limits)
	if w.noHail != nil {
		out = append(out, "panels and intercoms that use Hail are not found: the system keeps its port, 1021, from ordinary users ("+reason(w.noHail)+")")
	}
	return out
}

// reason is the last part of a chain of errors of the net package: what the system says.
func reason(err error) string {
	for {
		u, ok := err.(interface{ Unwrap() error })
		if !ok {
			return err.Error()
		}
		err = u.Unwrap()
	}
}

// Limited is a wire that cannot do all that raw frames can.
type Limited interface{ Limits() []string }
