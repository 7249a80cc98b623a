package wire

import (
	"bytes"
	"encoding/json"
	"net"
	"net/netip"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
)

// greet listens on a socket and sends what is given to whoever comes.
func greet(t *testing.T, raw []byte) string {
	path := filepath.Join(t.TempDir(), "b.sock")
	l, err := net.Listen("unix", path)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			f := NewFrames(c, Facts{})
			if raw != nil {
				_ = f.Write(raw)
			}
			if frame, err := f.Read(); err == nil {
				_ = f.Write(frame) // an echo
			}
			c.Close()
		}
	}()
	return path
}

func TestDialBench(t *testing.T) {
	hello, err := json.Marshal(Hello{Bench: BenchVersion, Site: "x", MAC: device.MAC{2}, Addresses: []netip.Prefix{netip.MustParsePrefix("10.61.8.200/23")}})
	require.NoError(t, err)
	path := greet(t, hello)
	w, err := Open("bench:" + path)
	require.NoError(t, err)
	defer w.Close()
	assert.Equal(t, device.MAC{2}, w.Facts().MAC)
	assert.Equal(t, 1500, w.Facts().MTU)
	assert.Len(t, w.Facts().Addresses, 1)
	frame := bytes.Repeat([]byte{7}, 1514)
	require.NoError(t, w.Write(frame))
	got, err := w.Read()
	require.NoError(t, err)
	assert.Equal(t, frame, got)
	require.Error(t, w.Write(make([]byte, 1<<16)))
}

// A wire whose far end goes away is told, loses what is sent meanwhile, and goes on when
// it is back.
func TestAWireOutlivesItsLink(t *testing.T) {
	hello, err := json.Marshal(Hello{Bench: BenchVersion, Site: "x", MAC: device.MAC{2}})
	require.NoError(t, err)
	path := greet(t, hello) // hangs up after one frame, and takes the next caller
	w, err := Open("bench:" + path)
	require.NoError(t, err)
	link, ok := Under[Linked](&recorder{Wire: w})
	require.True(t, ok, "also where it is recorded")
	require.NoError(t, link.Fault())
	begun := time.Now()
	frame := bytes.Repeat([]byte{7}, 60)
	got := make(chan []byte)
	ended := make(chan error)
	go func() {
		for {
			f, err := w.Read()
			if err != nil {
				ended <- err
				return
			}
			got <- f
		}
	}()
	require.NoError(t, w.Write(frame))
	assert.Equal(t, frame, <-got)
	require.NoError(t, link.Await(t.Context(), false))
	assert.ErrorContains(t, link.Fault(), path+" is gone")
	require.NoError(t, w.Write(frame), "lost, as on a cable that is out")
	require.NoError(t, link.Await(t.Context(), true))
	assert.True(t, link.DownSince(begun))
	assert.False(t, link.DownSince(time.Now()))
	require.NoError(t, w.Write(frame))
	assert.Equal(t, frame, <-got)
	require.NoError(t, w.Close())
	assert.Error(t, <-ended, "what reads is let go")
	assert.Error(t, w.Write(frame))
}

func TestDialBenchRefusesWhatIsNoBench(t *testing.T) {
	_, err := DialBench(filepath.Join(t.TempDir(), "nobody"))
	require.ErrorIs(t, err, ErrNoAdapter)
	assert.ErrorContains(t, err, "janustat bench --socket")
	for _, raw := range [][]byte{{}, []byte("220 hello"), []byte(`{"janustat_bench":99,"mac":"02:00:00:00:00:01"}`), []byte(`{"janustat_bench":1}`)} {
		_, err := DialBench(greet(t, raw))
		assert.Error(t, err, string(raw))
	}
}

func TestOpenNamesWhatIsWrong(t *testing.T) {
	_, err := Open("no-such-adapter")
	require.ErrorIs(t, err, ErrNoAdapter)
	assert.ErrorContains(t, err, "no-such-adapter")
	_, err = Open("plain")
	require.ErrorIs(t, err, ErrNoAdapter)
}

func FuzzHello(f *testing.F) {
	f.Add([]byte(`{"janustat_bench":1,"mac":"02:00:00:00:00:01","addresses":["10.0.0.1/8"]}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		if h, err := parseHello(b); err == nil {
			require.False(t, h.MAC.IsZero())
		}
	})
}
