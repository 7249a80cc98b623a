package wire

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"os"

	"github.com/mdlayher/packet"
	"golang.org/x/sys/unix"

	"janustat/core/device"
)

// adapter is a packet(7) socket on one adapter. It sees every frame for the
// adapter's MAC, broadcast, and the groups joined; the kernel sees them too.
type adapter struct {
	conn  *packet.Conn
	facts Facts
}

// groups are the Ethernet groups of the multicast addresses that devices
// announce themselves on (RFC 1112, 6.4): a NIC drops groups nobody joined.
var groups = []net.HardwareAddr{
	{0x01, 0x00, 0x5e, 0x7f, 0xff, 0xfa}, // 239.255.255.250, WS-Discovery and SSDP
	{0x01, 0x00, 0x5e, 0x00, 0x00, 0xfb}, // 224.0.0.251, mDNS
}

func openAdapter(name string) (Wire, error) {
	ifi, err := net.InterfaceByName(name)
	if err != nil {
		return nil, fmt.Errorf("%w %q here: `ip link` lists them", ErrNoAdapter, name)
	}
	conn, err := listen(ifi)
	if err != nil {
		return nil, err
	}
	for _, g := range groups {
		if err := conn.JoinGroup(g); err != nil {
			conn.Close()
			return nil, fmt.Errorf("join group %s on %s: %w", g, name, err)
		}
	}
	own, err := addresses(ifi)
	if err != nil {
		conn.Close()
		return nil, err
	}
	return &adapter{conn: conn, facts: Facts{
		Name: name, MAC: device.MACFrom(ifi.HardwareAddr), MTU: ifi.MTU,
		Addresses: own, Forwards: kernelForwards(),
	}}, nil
}

func listen(ifi *net.Interface) (*packet.Conn, error) {
	conn, err := packet.Listen(ifi, packet.Raw, unix.ETH_P_ALL, nil)
	switch {
	case errors.Is(err, os.ErrPermission):
		return nil, fmt.Errorf("%w on %s: %s", ErrPermission, ifi.Name, permissionHint())
	case err != nil:
		return nil, fmt.Errorf("open %s: %w", ifi.Name, err)
	}
	return conn, nil
}

// kernelForwards reads whether IPv4 forwarding is on: the kernel then answers
// and re-sends frames that are for visitors, since they carry its own MAC.
func kernelForwards() bool {
	b, err := os.ReadFile("/proc/sys/net/ipv4/ip_forward")
	return err == nil && bytes.HasPrefix(b, []byte("1"))
}

// maxFrame holds the largest frame a NIC hands up, jumbo and merged ones included.
const maxFrame = 1 << 16

func (a *adapter) Read() ([]byte, error) {
	buf := make([]byte, maxFrame)
	n, _, err := a.conn.ReadFrom(buf)
	if err != nil {
		return nil, err
	}
	return bytes.Clone(buf[:n]), nil
}

func (a *adapter) Write(frame []byte) error {
	if len(frame) < 14 {
		return fmt.Errorf("frame of %d bytes has no Ethernet header", len(frame))
	}
	_, err := a.conn.WriteTo(frame, &packet.Addr{HardwareAddr: frame[0:6]})
	return err
}

func (a *adapter) Close() error { return a.conn.Close() }

func (a *adapter) Facts() Facts { return a.facts }

// OpenBridge opens an adapter so that hosts with MACs of their own can stand
// behind it: every frame is received, whoever it is for.
func OpenBridge(name string) (Wire, error) {
	w, err := openAdapter(name)
	if err != nil {
		return nil, err
	}
	if err := w.(*adapter).conn.SetPromiscuous(true); err != nil {
		w.Close()
		return nil, fmt.Errorf("receive every frame on %s: %w", name, err)
	}
	return w, nil
}
