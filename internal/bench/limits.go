package bench

import (
	"bytes"
	"net"
	"sync/atomic"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip/checksum"
	"gvisor.dev/gvisor/pkg/tcpip/header"
)

// limits are what a host's web server makes of connections.
type limits struct {
	keepsOpen bool          // after an answer
	idle      time.Duration // how long; 0 is as long as a client likes
	one       bool          // at a time
	oldHTTP   bool          // it speaks HTTP/1.0
	resets    bool          // it ends connections by a reset
}

// on has a listener keep to the limits.
func (l limits) on(of net.Listener) net.Listener {
	if l.one {
		of = &lone{Listener: of}
	}
	if l.oldHTTP {
		of = older{of}
	}
	return of
}

// lone takes one connection at a time, and hangs up on others.
type lone struct {
	net.Listener
	open atomic.Int64
}

func (l *lone) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if l.open.Add(1) == 1 {
			return &loneConn{Conn: c, of: l}, nil
		}
		l.open.Add(-1)
		_ = c.Close()
	}
}

type loneConn struct {
	net.Conn
	of     *lone
	closed atomic.Bool
}

func (c *loneConn) Close() error {
	if !c.closed.Swap(true) {
		c.of.open.Add(-1)
	}
	return c.Conn.Close()
}

// older says HTTP/1.0 (RFC 1945) at the beginning of each answer.
type older struct{ net.Listener }

func (l older) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return olderConn{c}, nil
}

type olderConn struct{ net.Conn }

func (c olderConn) Write(b []byte) (int, error) {
	if bytes.HasPrefix(b, []byte("HTTP/1.1 ")) {
		b = bytes.Clone(b)
		b[7] = '0'
	}
	return c.Conn.Write(b)
}

// out gives how the stack sends frames.
func (h *host) out() func([]byte) {
	if !h.limits.resets {
		return h.send
	}
	return func(frame []byte) { h.send(reset(frame)) }
}

// reset makes a reset of a segment that ends a connection of the web server (RFC 9293, 3.5.2).
func reset(frame []byte) []byte {
	const eth, ip = header.EthernetMinimumSize, header.IPv4MinimumSize
	if len(frame) < eth+ip+header.TCPMinimumSize || header.Ethernet(frame).Type() != header.IPv4ProtocolNumber {
		return frame
	}
	frame = bytes.Clone(frame)
	packet := header.IPv4(frame[eth:])
	if packet.TransportProtocol() != header.TCPProtocolNumber || packet.HeaderLength() != ip {
		return frame
	}
	segment := header.TCP(frame[eth+ip : eth+int(packet.TotalLength())])
	if segment.SourcePort() != 80 || !segment.Flags().Contains(header.TCPFlagFin) {
		return frame
	}
	segment.SetFlags(uint8(header.TCPFlagRst | header.TCPFlagAck))
	segment.SetChecksum(0)
	sum := header.PseudoHeaderChecksum(header.TCPProtocolNumber, packet.SourceAddress(), packet.DestinationAddress(), uint16(len(segment)))
	segment.SetChecksum(^checksum.Checksum(segment, sum))
	return frame
}
