// Package reachtest plugs tests into a bench site.
package reachtest

import (
	"log/slog"
	"net/netip"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
	"janustat/internal/reach"
	"janustat/internal/wire"
)

// Villain is the MAC of a host that means harm.
var Villain = device.MAC{2, 0x66, 0, 0, 0, 1}

// Quiet is a log that nobody reads.
func Quiet() *slog.Logger { return slog.New(slog.DiscardHandler) }

// Site brings a site up and gives a Net on it, at the pace that its hosts keep up with.
func Site(t testing.TB, text string) (*reach.Net, *bench.Log) {
	n, logs, _ := WithSocket(t, text)
	return n, logs
}

// WithSocket does so, and tells where others plug in.
func WithSocket(t testing.TB, text string) (*reach.Net, *bench.Log, string) {
	n, _, logs, path := plugged(t, text, "")
	return n, logs, path
}

// Plugged does so, gives the hosts, and keeps the Net's frames in a file if one is named.
func Plugged(t testing.TB, text, capture string) (*reach.Net, *bench.Bench, *bench.Log) {
	n, b, logs, _ := plugged(t, text, capture)
	return n, b, logs
}

func plugged(t testing.TB, text, capture string) (*reach.Net, *bench.Bench, *bench.Log, string) {
	t.Helper()
	site, err := bench.Parse([]byte(text))
	require.NoError(t, err)
	hurried := benchtest.Hurry(site)
	path, logs, b := benchtest.StartSite(t, site)
	var w wire.Wire
	w, err = wire.DialBench(path)
	require.NoError(t, err)
	if capture != "" {
		w, err = wire.Record(w, capture, false, nil)
		require.NoError(t, err)
	}
	n := reach.New(w)
	n.Pace = hurried
	t.Cleanup(func() { n.Close() })
	return n, b, logs, path
}

// PlugIn plugs a host in that is no more than what it does at each frame.
func PlugIn(t testing.TB, socket string, react func(w *wire.Frames, frame []byte)) *wire.Frames {
	t.Helper()
	w, err := wire.DialBench(socket)
	require.NoError(t, err)
	var reading sync.WaitGroup
	reading.Go(func() {
		for {
			f, err := w.Read()
			if err != nil {
				return
			}
			if react != nil {
				react(w, f)
			}
		}
	})
	t.Cleanup(func() { w.Close(); reading.Wait() })
	return w
}

// UDP is a frame with a datagram, whoever it says it is from; its ports and addresses as in 10.61.8.9:68.
func UDP(from, to device.MAC, src, dst string, payload []byte) []byte {
	s, d := netip.MustParseAddrPort(src), netip.MustParseAddrPort(dst)
	total := 28 + len(payload)
	f := append(append(append([]byte{}, to[:]...), from[:]...), 8, 0)
	f = append(f, 0x45, 0, byte(total>>8), byte(total), 0, 0, 0, 0, 64, 17, 0, 0)
	f = append(append(f, s.Addr().AsSlice()...), d.Addr().AsSlice()...)
	f = append(f, byte(s.Port()>>8), byte(s.Port()), byte(d.Port()>>8), byte(d.Port()), byte((total-20)>>8), byte(total-20), 0, 0)
	return append(f, payload...)
}
