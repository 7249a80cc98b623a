package e2e

import (
	"encoding/json"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
	"janustat/internal/e2e/driver"
	"janustat/internal/speak/arp"
	"janustat/internal/wire"
)

const crowded = `
site: Crowded
seed: 3
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 3, restart: 1s}
  - {id: door, model: oakhollow-door, mac: "02:0a:c0:00:05:01", serial: OPS-1, restart: 1s}
others:
  - {id: printer, role: printer, mac: "02:5c:00:00:00:09", address: 10.61.8.41/23}
`

// crowd is how many strangers there are.
const crowd = 50_000

// A survey beside fifty thousand strangers lists the honest devices, keeps to its time and to
// little memory and disk, and nothing that was only announced is kept from being allotted.
func TestFiftyThousandStrangers(t *testing.T) {
	site, err := bench.Parse([]byte(crowded))
	require.NoError(t, err)
	socket, _, b := benchtest.StartSite(t, site)
	w := driver.Worker{T: t, Program: driver.Built(t), Job: filepath.Join(t.TempDir(), "job"), Wire: "bench:" + socket}
	w.Must("begin", w.Job, "--subnet", "10.61.8.0/23")

	r, err := b.Rival("door", bench.Rivalry{After: true, Sealed: true})
	require.NoError(t, err)
	rogue, err := wire.DialBench(socket)
	require.NoError(t, err)
	defer rogue.Close()
	go func() {
		for {
			if _, err := rogue.Read(); err != nil {
				return
			}
		}
	}()
	var sent atomic.Int64
	stop, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		for i := 0; ; i = (i + 1) % crowd {
			select {
			case <-stop:
				return
			default:
			}
			at := netip.AddrFrom4([4]byte{10, 61, 8 + byte(i>>8)%2, byte(i)})
			if i%3 == 0 {
				at = netip.AddrFrom4([4]byte{192, 168, byte(i >> 8), byte(i)})
			}
			if rogue.Write(arp.Announce(device.MAC{2, 0x66, 0, byte(i >> 16), byte(i >> 8), byte(i)}, at).Frame()) != nil {
				return
			}
			if i%5 == 0 {
				r.Phantom(i)
			}
			if sent.Add(1)%64 == 0 {
				time.Sleep(2 * time.Millisecond) // a flood, and not more than the switch carries
			}
		}
	}()
	begun := time.Now()
	c := w.Command("survey", "--quiet")
	c.Env = append(c.Env, "GOGC=100") // as a person's
	out, err := c.CombinedOutput()
	took := time.Since(begun)
	close(stop)
	<-ended
	assert.NoError(t, err, "%s", out)
	used, ok := c.ProcessState.SysUsage().(*syscall.Rusage)
	require.True(t, ok)
	t.Logf("survey beside %d strangers, %d announcements: %s, %d MB, job folder %d kB", crowd, sent.Load(), took.Round(100*time.Millisecond), used.Maxrss/1024, sizeOf(t, w.Job)/1024)
	assert.Less(t, used.Maxrss, int64(300<<10), "in kB")
	assert.Less(t, sizeOf(t, w.Job), int64(4<<20))

	var all []struct{ MAC, Model string }
	require.NoError(t, json.Unmarshal([]byte(w.Must("list", "--all", "--json")), &all))
	honest, strangers := 0, 0
	for _, d := range all {
		switch {
		case strings.HasPrefix(d.MAC, "02:66:") || strings.HasPrefix(d.MAC, "02:ba:d0:"):
			strangers++
		case d.Model != "":
			honest++
		}
	}
	assert.Equal(t, 4, honest, "%s", out)
	assert.Zero(t, strangers, "none of them has answered a question")
	w.Must("take", "all", "--yes")
	assert.Contains(t, w.Must("allot"), "10.61.8.42", "the printer's address is reserved, and no stranger's")
	assert.NotContains(t, w.Must("list"), "66:")
}

// sizeOf gives how many bytes the files of a folder have.
func sizeOf(t testing.TB, dir string) (n int64) {
	require.NoError(t, filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		i, err := os.Stat(path)
		if err == nil {
			n += i.Size()
		}
		return err
	}))
	return n
}
