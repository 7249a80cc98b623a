package wire

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
)

// loop is a wire that gives the frames written to it back.
type loop struct {
	frames chan []byte
	facts  Facts
}

func (l *loop) Read() ([]byte, error) {
	f, ok := <-l.frames
	if !ok {
		return nil, io.EOF
	}
	return f, nil
}
func (l *loop) Write(f []byte) error { l.frames <- bytes.Clone(f); return nil }
func (l *loop) Close() error         { close(l.frames); return nil }
func (l *loop) Facts() Facts         { return l.facts }

func TestACaptureHoldsEveryFrameBothWays(t *testing.T) {
	facts := Facts{Name: "eth0", MAC: device.MAC{2, 1}, MTU: 1500, Addresses: []netip.Prefix{netip.MustParsePrefix("10.61.8.200/23")}}
	path := filepath.Join(t.TempDir(), "f.pcapng")
	w, err := Record(&loop{make(chan []byte, 9), facts}, path, false, nil)
	require.NoError(t, err)
	frame := bytes.Repeat([]byte{7}, 60)
	require.NoError(t, w.Write(frame))
	got, err := w.Read()
	require.NoError(t, err)
	require.Equal(t, frame, got)
	require.NoError(t, w.Close())

	var frames [][]byte
	read, err := ReadCapture(path, func(c Captured) error { frames = append(frames, bytes.Clone(c.Frame)); return nil })
	require.NoError(t, err)
	assert.Equal(t, [][]byte{frame, frame}, frames)
	assert.Equal(t, facts, read)

	_, err = Record(&loop{facts: facts}, path, false, nil)
	assert.ErrorIs(t, err, os.ErrExist, "an earlier capture is not written over")
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	frames = nil
	_, err = readCapture(bytes.NewReader(whole[:len(whole)-9]), func(c Captured) error { frames = append(frames, c.Frame); return nil })
	assert.NoError(t, err, "cut short, it is read up to there")
	assert.Len(t, frames, 1)
	_, err = readCapture(bytes.NewReader([]byte("janustat")), nil)
	assert.ErrorIs(t, err, ErrCapture)
}

// tcpFrame makes a frame of TCP without options, by IPv4 or IPv6.
func tcpFrame(from, to netip.AddrPort, content string) []byte {
	f := make([]byte, 12)
	if from.Addr().Is4() {
		f = append(f, 0x08, 0x00, 0x45, 0, 0, 0, 0, 0, 0, 0, 64, 6, 0, 0)
	} else {
		f = append(f, 0x86, 0xdd, 0x60, 0, 0, 0, 0, 0, 6, 64)
	}
	f = append(append(f, from.Addr().AsSlice()...), to.Addr().AsSlice()...)
	f = binary.BigEndian.AppendUint16(f, from.Port())
	f = binary.BigEndian.AppendUint16(f, to.Port())
	f = append(f, 0, 0, 0, 0, 0, 0, 0, 0, 0x50, 0x18, 0, 0, 0, 0, 0, 0)
	return append(f, content...)
}

func TestWhatIsConfidentialIsBlank(t *testing.T) {
	at := netip.MustParseAddrPort
	for _, c := range []struct {
		everything bool
		local      string
		remote     string
		want       string
	}{
		{false, "10.61.8.9:4000", "10.61.8.42:80", "\x00\x00\x00\x00\x00\x00"},
		{false, "[fe80::1]:4000", "[fe80::2]:80", "\x00\x00\x00\x00\x00\x00"},
		{true, "10.61.8.9:4000", "10.61.8.42:80", "secret"},
	} {
		path := filepath.Join(t.TempDir(), "f.pcapng")
		wireEnd := &loop{make(chan []byte, 9), Facts{}}
		w, err := Record(wireEnd, path, c.everything, nil)
		require.NoError(t, err)
		w.(Blanker).Blank(at(c.local), at(c.remote))
		secret := tcpFrame(at(c.local), at(c.remote), "secret")
		require.NoError(t, w.Write(secret))
		assert.Equal(t, secret, <-wireEnd.frames, "it is sent as it is")
		other := tcpFrame(netip.AddrPortFrom(at(c.local).Addr(), 4001), at(c.remote), "public")
		require.NoError(t, w.Write(other))
		require.NoError(t, w.Write(secret[:30]))
		require.NoError(t, w.Close())
		var frames [][]byte
		_, err = ReadCapture(path, func(c Captured) error { frames = append(frames, bytes.Clone(c.Frame)); return nil })
		require.NoError(t, err)
		require.Len(t, frames, 3)
		assert.Equal(t, len(secret), len(frames[0]))
		assert.Equal(t, c.want, string(frames[0][len(secret)-6:]))
		assert.Equal(t, other, frames[1])
	}
}

func FuzzTCPContent(f *testing.F) {
	at := netip.MustParseAddrPort
	f.Add(tcpFrame(at("10.61.8.9:4000"), at("10.61.8.42:80"), "secret"))
	f.Add(tcpFrame(at("[fe80::1]:4000"), at("[fe80::2]:80"), ""))
	f.Add(make([]byte, ethernetHeader))
	f.Fuzz(func(t *testing.T, frame []byte) {
		if len(frame) < ethernetHeader {
			return
		}
		if at, _, ok := tcpContent(frame); ok {
			assert.LessOrEqual(t, at, len(frame))
			assert.Greater(t, at, ethernetHeader)
		}
	})
}

func FuzzReadCapture(f *testing.F) {
	path := filepath.Join(f.TempDir(), "f.pcapng")
	w, err := Record(&loop{make(chan []byte, 9), Facts{Name: "eth0", MAC: device.MAC{2, 1}}}, path, false, nil)
	require.NoError(f, err)
	require.NoError(f, w.Write(make([]byte, 60)))
	require.NoError(f, w.Close())
	whole, err := os.ReadFile(path)
	require.NoError(f, err)
	f.Add(whole)
	f.Add(whole[:40])
	f.Fuzz(func(t *testing.T, data []byte) {
		n := 0
		_, err := readCapture(bytes.NewReader(data), func(c Captured) error {
			if n++; len(c.Frame) > len(data) {
				return errors.New("longer than the file")
			}
			return nil
		})
		if err != nil {
			require.ErrorIs(t, err, ErrCapture)
		}
	})
}
