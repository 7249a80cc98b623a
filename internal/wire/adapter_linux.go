package wire

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"sync"
	"syscall"

	"github.com/mdlayher/packet"
	"golang.org/x/sys/unix"

	"janustat/core/device"
)

// adapter is a packet(7) socket on one adapter. It sees every frame for the
// adapter's MAC, broadcast, and every group; the kernel sees them too.
type adapter struct {
	conn  *packet.Conn
	raw   syscall.RawConn
	facts Facts
	index int
	buf   []byte // of the one reader
	aux   []byte

	mu      sync.Mutex
	dropped uint64
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
	raw, err := conn.SyscallConn()
	if err == nil {
		err = hearAll(raw, ifi.Index)
	}
	if err != nil {
		conn.Close()
		return nil, fmt.Errorf("open %s: %w", name, err)
	}
	own, err := addresses(ifi)
	if err != nil {
		conn.Close()
		return nil, err
	}
	enlarge(raw)
	return &adapter{conn: conn, raw: raw, index: ifi.Index, buf: make([]byte, maxFrame), aux: make([]byte, auxSpace), facts: Facts{
		Name: name, MAC: device.MACFrom(ifi.HardwareAddr), MTU: ifi.MTU,
		Addresses: own, Forwards: kernelForwards(),
	}}, nil
}

// receiveBuffer holds some ten thousand frames of a burst, in bytes.
const receiveBuffer = 16 << 20

// enlarge asks for a larger receive buffer, past the system's limit where that is
// permitted (socket(7), SO_RCVBUFFORCE). A smaller one works too.
func enlarge(raw syscall.RawConn) {
	_ = raw.Control(func(fd uintptr) {
		if unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, receiveBuffer) != nil {
			_ = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RCVBUF, receiveBuffer)
		}
	})
}

// Link tells what is wrong with the adapter's own link, or nil.
func (a *adapter) Link() error {
	ifi, err := net.InterfaceByName(a.facts.Name)
	switch {
	case err != nil:
		return fmt.Errorf("the adapter %s is gone", a.facts.Name)
	case ifi.Index != a.index:
		return fmt.Errorf("%s %w", a.facts.Name, errReplaced)
	case ifi.Flags&net.FlagUp == 0:
		return fmt.Errorf("the adapter %s is switched off", a.facts.Name)
	case ifi.Flags&net.FlagRunning == 0:
		return fmt.Errorf("the cable is out of %s (no link)", a.facts.Name)
	}
	return nil
}

// Dropped counts the frames that the kernel had no room for (packet(7), PACKET_STATISTICS).
func (a *adapter) Dropped() uint64 {
	a.mu.Lock()
	defer a.mu.Unlock()
	if s, err := a.conn.Stats(); err == nil { // reading it sets it back
		a.dropped += uint64(s.Drops)
	}
	return a.dropped
}

// Filter keeps out what nobody here reads.
func (a *adapter) Filter() error {
	code, err := keepOut(a.facts.MAC)
	if err != nil {
		return err
	}
	return a.conn.SetBPF(code)
}

// gone reports whether an error of the system means that the link is not there.
func gone(err error) bool {
	return errors.Is(err, unix.ENETDOWN) || errors.Is(err, unix.ENXIO) || errors.Is(err, unix.ENODEV) || errors.Is(err, unix.ENOBUFS) || errors.Is(err, net.ErrClosed)
}

// hearAll asks for the frames of every group, since a NIC drops groups nobody
// joined and devices announce themselves on many, and for what the kernel strips
// off tagged frames (packet(7), PACKET_MR_ALLMULTI and PACKET_AUXDATA).
func hearAll(raw syscall.RawConn, index int) error {
	var err error
	cerr := raw.Control(func(fd uintptr) {
		err = unix.SetsockoptPacketMreq(int(fd), unix.SOL_PACKET, unix.PACKET_ADD_MEMBERSHIP,
			&unix.PacketMreq{Ifindex: int32(index), Type: unix.PACKET_MR_ALLMULTI})
		if err == nil {
			err = unix.SetsockoptInt(int(fd), unix.SOL_PACKET, unix.PACKET_AUXDATA, 1)
		}
	})
	return errors.Join(cerr, err)
}

func listen(ifi *net.Interface) (*packet.Conn, error) {
	conn, err := packet.Listen(ifi, packet.Raw, unix.ETH_P_ALL, nil)
	switch {
	case errors.Is(err, os.ErrPermission):
		return nil, &PermissionError{ifi.Name, permissionHint()}
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

// auxSpace holds the control message of one frame: struct tpacket_auxdata.
var auxSpace = unix.CmsgSpace(auxLen)

const (
	auxLen           = 20
	auxVLANValid     = 1 << 4 // TP_STATUS_VLAN_VALID
	auxVLANTypeValid = 1 << 6 // TP_STATUS_VLAN_TPID_VALID
)

func (a *adapter) Read() ([]byte, error) {
	var n, auxN int
	var err error
	rerr := a.raw.Read(func(fd uintptr) bool {
		n, auxN, _, _, err = unix.Recvmsg(int(fd), a.buf, a.aux, 0)
		return !errors.Is(err, unix.EAGAIN) && !errors.Is(err, unix.EINTR)
	})
	if err := cmp.Or(rerr, err); errors.Is(err, unix.ENETDOWN) {
		// Told once when the adapter goes down; the socket goes on when it is up again.
		return a.Read()
	} else if err != nil {
		return nil, fmt.Errorf("read %s: %w", a.facts.Name, err)
	}
	return restoreTag(bytes.Clone(a.buf[:n]), a.aux[:auxN]), nil
}

// restoreTag puts a VLAN tag back that the kernel took off before we saw the
// frame: without it a frame of another VLAN would pass for one of ours.
func restoreTag(frame, aux []byte) []byte {
	messages, err := unix.ParseSocketControlMessage(aux)
	if err != nil || len(frame) < 14 {
		return frame
	}
	for _, m := range messages {
		if m.Header.Level != unix.SOL_PACKET || m.Header.Type != unix.PACKET_AUXDATA || len(m.Data) < auxLen {
			continue
		}
		status := binary.NativeEndian.Uint32(m.Data)
		if status&auxVLANValid == 0 {
			continue
		}
		tag := []byte{0x81, 0x00, 0, 0}
		if status&auxVLANTypeValid != 0 {
			binary.BigEndian.PutUint16(tag, binary.NativeEndian.Uint16(m.Data[18:]))
		}
		binary.BigEndian.PutUint16(tag[2:], binary.NativeEndian.Uint16(m.Data[16:]))
		return slices.Insert(frame, 12, tag...)
	}
	return frame
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
