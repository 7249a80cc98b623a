package e2e

import (
	"encoding/json"
	"net/netip"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netns"

	"janustat/internal/e2e/driver"
	"janustat/internal/speak/arp"
	"janustat/internal/wire"
)

// enter puts this test's thread into a namespace of the LAN until it ends.
func (l *lan) enter(host string) {
	runtime.LockOSThread()
	was, err := netns.Get()
	require.NoError(l.t, err)
	to, err := netns.GetFromName(l.ns(host))
	require.NoError(l.t, err)
	require.NoError(l.t, netns.Set(to))
	l.t.Cleanup(func() {
		require.NoError(l.t, netns.Set(was))
		to.Close()
		was.Close()
		runtime.UnlockOSThread()
	})
}

// BenchmarkSweep compares an ARP sweep without a rate limit with a loop that
// only sends, both on a veth. An operation is one frame.
func BenchmarkSweep(b *testing.B) {
	l := newLAN(b)
	l.plug("laptop", "02:1a:70:00:00:01", "10.61.8.200/23")
	l.enter("laptop")
	w, err := wire.Open("eth0")
	require.NoError(b, err)
	defer w.Close()
	own := w.Facts().MAC
	targets := make([]netip.Addr, 510)
	a := netip.MustParseAddr("10.61.8.1")
	for i := range targets {
		targets[i] = a
		a = a.Next()
	}
	b.Run("bare", func(b *testing.B) {
		frame := arp.Probe(own, targets[0]).Frame()
		for b.Loop() {
			if err := w.Write(frame); err != nil {
				b.Fatal(err)
			}
		}
		b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "frames/s")
	})
	b.Run("sweep", func(b *testing.B) {
		sent := 0
		for sent < b.N {
			n, err := arp.Sweep(b.Context(), w.Write, own, slices.Values(targets[:min(len(targets), b.N-sent)]), 0)
			if err != nil {
				b.Fatal(err)
			}
			sent += n
		}
		b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "frames/s")
	})
}

// fortySlow are 40 devices on five factory subnets that take 10 s to restart.
const fortySlow = `
site: Forty
seed: 3
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: a, model: verrine-bullet, mac: "02:e4:41:00:01:01", serial: A, count: 8, restart: 10s, clock: 90s}
  - {id: b, model: oakhollow-eye, mac: "02:0a:c0:00:02:01", serial: B, count: 8, restart: 10s, clock: 90s}
  - {id: c, model: verrine-bullet, mac: "02:e4:41:00:03:01", serial: C, count: 8, restart: 10s, clock: 90s, address: 10.10.10.10/24}
  - {id: d, model: brightmoor-recorder, mac: "02:b7:16:00:04:01", serial: D, count: 8, restart: 10s}
  - {id: e, model: tallow-panel, mac: "02:7a:11:00:05:01", serial: E, count: 8, restart: 10s}
others:
  - {id: router, role: router, mac: "02:5c:00:00:00:01", address: 10.61.8.1/23}
`

// BenchmarkCommission40 commissions 40 devices that each take 10 s to restart,
// by the built program. Run it with -benchtime=1x.
func BenchmarkCommission40(b *testing.B) {
	l := newLAN(b)
	program := driver.Built(b)
	l.plug("laptop", "02:1a:70:00:00:01", "10.61.8.200/23")
	l.plug("bench", "02:be:00:00:00:01", "")
	l.attach(program, "bench", fortySlow)
	job := filepath.Join(b.TempDir(), "job")
	run := func(args ...string) string {
		return l.in("laptop", append([]string{"env", "JANUSTAT_PASSPHRASE=ferry at quillmere", program, "--job", job, "--quiet"}, args...)...)
	}
	run("begin", job, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	begun := time.Now()
	run("survey", "--wire", "eth0")
	surveyed := time.Since(begun)
	run("take", "all", "--yes")
	run("allot")
	for b.Loop() {
		begun = time.Now()
		out := run("commission", "--wire", "eth0", "--yes", "--json")
		b.ReportMetric(time.Since(begun).Seconds(), "commission-s")
		var result struct {
			Results []struct{ Status string }
		}
		require.NoError(b, json.Unmarshal([]byte(out), &result))
		require.Len(b, result.Results, 40)
		for _, r := range result.Results {
			require.Equal(b, "done", r.Status)
		}
	}
	b.ReportMetric(surveyed.Seconds(), "survey-s")
}

// BenchmarkWide sweeps a /16 by the built program at the default rate, beside a
// survey without it, and tells the most memory each took. Run it with -benchtime=1x.
func BenchmarkWide(b *testing.B) {
	l := newLAN(b)
	program := driver.Built(b)
	l.plug("laptop", "02:1a:70:00:00:01", "10.61.8.200/23")
	l.plug("gw", "02:5c:00:00:00:01", "10.61.8.1/23")
	job := filepath.Join(b.TempDir(), "job")
	l.in("laptop", program, "begin", job, "--subnet", "10.61.8.0/23", "--quiet")
	for _, args := range [][]string{nil, {"--wide", "10.61.0.0/16"}} {
		name := "plain"
		if args != nil {
			name = "wide"
		}
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				c := exec.Command("ip", append([]string{"netns", "exec", l.ns("laptop"), program, "--job", job, "survey", "--wire", "eth0"}, args...)...)
				out, err := c.CombinedOutput()
				require.NoError(b, err, string(out))
				usage := c.ProcessState.SysUsage().(*syscall.Rusage)
				b.ReportMetric(float64(usage.Maxrss)/1024, "MB-at-most")
				for _, line := range strings.Split(string(out), "\n") {
					if strings.Contains(line, "frames a second") {
						b.Log(strings.TrimSpace(line))
					}
				}
			}
		})
	}
}
