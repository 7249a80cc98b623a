package wire

import (
	"bytes"
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
	w, err := Record(&loop{make(chan []byte, 9), facts}, path)
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

	_, err = Record(&loop{facts: facts}, path)
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

func FuzzReadCapture(f *testing.F) {
	path := filepath.Join(f.TempDir(), "f.pcapng")
	w, err := Record(&loop{make(chan []byte, 9), Facts{Name: "eth0", MAC: device.MAC{2, 1}}}, path)
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
