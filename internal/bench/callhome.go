package bench

import (
	"bufio"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"

	"janustat/internal/nic"
)

// How often a device that is not connected to its server tries, and how often one that is
// says that it is there.
const (
	homeAgain = 1500 * time.Millisecond
	homeBeat  = 5 * time.Second
)

// callHome has a device that was told of a server connect to it. The lock is held.
func (d *Device) callHome() {
	s := d.state.hail.server
	if s == nil || !s.Auto {
		return
	}
	if d.homeless != nil {
		close(d.homeless)
	}
	over := make(chan struct{})
	d.homeless = over
	down := make(chan struct{})
	d.host.onDown(func() { close(down) })
	to, serial := netip.AddrPortFrom(s.Address, s.Port), d.unit.Serial
	note := func(connected bool, why string) bool {
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.homeless != over || d.state.hail.server == nil {
			return false
		}
		d.state.hail.server.Connected, d.state.hail.server.Why = connected, why
		return true
	}
	ended := func(wait time.Duration) bool {
		select {
		case <-over:
			return true
		case <-down:
			return true
		case <-d.ctx.Done():
			return true
		case <-time.After(wait):
			return false
		}
	}
	go func() {
		for {
			err := d.report(to, serial, func() bool { return note(true, "") }, ended)
			if err == nil || !note(false, err.Error()) || ended(homeAgain) {
				return
			}
		}
	}()
}

// report stays connected to the server until that ends.
func (d *Device) report(to netip.AddrPort, serial string, connected func() bool, ended func(time.Duration) bool) error {
	c, err := d.host.dial(to)
	if err != nil {
		return fmt.Errorf("no answer from %s", to)
	}
	defer c.Close()
	r := bufio.NewReader(c)
	for {
		_ = c.SetDeadline(time.Now().Add(homeBeat))
		if _, err := fmt.Fprintf(c, "here %s\r\n", serial); err != nil {
			return fmt.Errorf("%s hung up", to)
		}
		if line, err := r.ReadString('\n'); err != nil || !strings.HasPrefix(line, "welcome") {
			return fmt.Errorf("%s does not take it", to)
		}
		if !connected() || ended(homeBeat) {
			return nil
		}
	}
}

// serveHome is the stand-in server that devices report to: it welcomes each.
func (h *host) serveHome(port uint16, came func(serial, from string)) error {
	l, err := gonet.ListenTCP(h.stack, nic.Full(netip.AddrPortFrom(h.address(), port)), ipv4.ProtocolNumber)
	if err != nil {
		return fmt.Errorf("%s: listen on port %d: %w", h.id, port, err)
	}
	h.onDown(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go takeReports(c, came)
		}
	}()
	return nil
}

func takeReports(c net.Conn, came func(serial, from string)) {
	defer c.Close()
	r := bufio.NewReader(c)
	for {
		_ = c.SetDeadline(time.Now().Add(4 * homeBeat))
		line, err := r.ReadString('\n')
		serial, ok := strings.CutPrefix(strings.TrimSpace(line), "here ")
		if err != nil || !ok {
			return
		}
		came(serial, peer(c))
		if _, err := fmt.Fprintf(c, "welcome %s\r\n", serial); err != nil {
			return
		}
	}
}
