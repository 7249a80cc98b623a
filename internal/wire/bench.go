package wire

import (
	"bufio"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"sync"
	"time"

	"janustat/core/device"
)

// Hello is the first message on a bench's socket: what the laptop's port on
// the simulated switch looks like. Messages are a 16-bit big-endian length and
// that many bytes; the first holds this as JSON, all others one frame each, in
// both directions.
type Hello struct {
	Bench     int            `json:"janustat_bench"` // protocol version
	Site      string         `json:"site"`
	MAC       device.MAC     `json:"mac"`
	Addresses []netip.Prefix `json:"addresses"`
}

// BenchVersion is the version of the socket's protocol.
const BenchVersion = 1

const benchMTU = 1500

// Frames reads and writes length-prefixed messages on a stream.
type Frames struct {
	conn  net.Conn
	in    *bufio.Reader
	write sync.Mutex
	facts Facts
}

// NewFrames wraps a stream; facts are what Facts will tell.
func NewFrames(conn net.Conn, facts Facts) *Frames {
	return &Frames{conn: conn, in: bufio.NewReaderSize(conn, 1<<16), facts: facts}
}

// DialBench connects to a bench's Unix socket.
func DialBench(path string) (*Frames, error) {
	conn, err := net.Dial("unix", path)
	if err != nil {
		return nil, fmt.Errorf("%w: no bench listens on %s (start one: janustat bench --socket %s): %w", ErrNoAdapter, path, path, err)
	}
	f := NewFrames(conn, Facts{})
	_ = conn.SetReadDeadline(time.Now().Add(greetLimit)) // without one it would wait for ever
	first, err := f.Read()
	_ = conn.SetReadDeadline(time.Time{})
	if err != nil {
		conn.Close()
		return nil, fmt.Errorf("greeting of the bench on %s: %w", path, err)
	}
	hello, err := parseHello(first)
	if err != nil {
		conn.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	f.facts = Facts{Name: benchScheme + path, MAC: hello.MAC, MTU: benchMTU, Addresses: hello.Addresses}
	return f, nil
}

// greetLimit is how long a bench may take to greet, on a machine that has dozens of others at work.
const greetLimit = 10 * time.Second

func parseHello(b []byte) (Hello, error) {
	var h Hello
	if err := json.Unmarshal(b, &h); err != nil || h.Bench != BenchVersion || h.MAC.IsZero() {
		return Hello{}, errors.New("what listens there is not a bench of this version")
	}
	return h, nil
}

// Read gives the next message.
func (f *Frames) Read() ([]byte, error) {
	var size [2]byte
	if _, err := io.ReadFull(f.in, size[:]); err != nil {
		return nil, err
	}
	b := make([]byte, binary.BigEndian.Uint16(size[:]))
	_, err := io.ReadFull(f.in, b)
	return b, err
}

// Write sends one message.
func (f *Frames) Write(b []byte) error {
	if len(b) > 0xffff {
		return fmt.Errorf("frame of %d bytes is too long", len(b))
	}
	buf := binary.BigEndian.AppendUint16(make([]byte, 0, 2+len(b)), uint16(len(b)))
	f.write.Lock()
	defer f.write.Unlock()
	_, err := f.conn.Write(append(buf, b...))
	return err
}

// Close ends the connection.
func (f *Frames) Close() error { return f.conn.Close() }

// Facts gives what the greeting said.
func (f *Frames) Facts() Facts { return f.facts }
