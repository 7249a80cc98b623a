package e2e

import (
	"encoding/json"
	"net/netip"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
)

// listed is a device in the program's --json.
type listed struct {
	Tag, Serial, MAC, Address, Condition, Access, Allotted string
}

func (w worker) list(args ...string) map[string]listed {
	w.t.Helper()
	var list []listed
	require.NoError(w.t, json.Unmarshal([]byte(w.must(append([]string{"list", "--json"}, args...)...)), &list))
	out := map[string]listed{}
	for _, d := range list {
		out[d.MAC] = d
	}
	return out
}

// TestTheAwkwardLAN does the whole job where every condition comes at once: one
// lease for the bare, one commission for all, and everything proves.
func TestTheAwkwardLAN(t *testing.T) {
	t.Parallel()
	site, err := bench.Load("awkward")
	require.NoError(t, err)
	socket, logs, b := benchtest.StartSite(t, site)
	w := worker{t, built(t), filepath.Join(t.TempDir(), "job"), "bench:" + socket}
	w.must("begin", w.job, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	w.must("survey")
	w.must("take", "all", "02:b7:16:00:00:10", "--yes")
	key := w.command("key", "set", "R01")
	key.Stdin = strings.NewReader("Harbour-Light-42\n")
	out, err := key.CombinedOutput()
	require.NoError(t, err, string(out))
	bare := []string{"02:7a:11:00:09:01", "02:7a:11:00:09:02", "02:7a:11:00:09:03", "02:7a:11:00:09:11"}
	w.must(append([]string{"take", "--kind", "camera", "--yes"}, bare...)...)
	hands := map[string]string{"02:7a:11:00:0a:01": "fog-horn", "02:7a:11:00:0a:02": "pier-horn", "02:7a:11:00:0a:03": "berth-horn"}
	for mac := range hands {
		w.must("take", mac, "--kind", "panel", "--yes")
	}
	w.must("allot")
	assert.Contains(t, w.must("lease", "--yes"), "Next: janustat commission")
	for _, mac := range bare {
		d := w.list()[mac]
		assert.Equal(t, "fresh", d.Access, mac)
		assert.Equal(t, "leased", d.Condition, mac)
		assert.Equal(t, d.Allotted, d.Address, mac)
	}

	// What a person reads off the screen and types into three devices.
	before := w.list()
	for mac, id := range hands {
		to := netip.MustParseAddr(before[mac].Allotted)
		b.Device(id).Type(netip.PrefixFrom(to, 23), netip.MustParseAddr("10.61.8.1"))
	}
	out2 := w.must("commission", "--yes", "--by-hand", "1m")
	assert.Contains(t, out2, "37 done, 0 need you, 0 not tried")
	assert.Contains(t, out2, "dhcp-host=02:7a:11:00:09:11,"+before["02:7a:11:00:09:11"].Allotted)
	assert.Contains(t, w.must("prove"), "37 of 37 devices proved")

	conditions := map[string]int{}
	for _, d := range w.list() {
		if d.Tag != "" {
			conditions[d.Condition]++
			assert.Equal(t, d.Allotted, d.Address, d.Tag)
		}
	}
	assert.Equal(t, map[string]int{"settled": 36, "leased": 1}, conditions)
	w.must("commission", "--yes") // again: nothing to write
	created := map[string]int{}
	for _, e := range logs.Events() {
		assert.NotEqual(t, bench.EventWrongPassword, e.What, "%+v", e)
		assert.NotEqual(t, bench.EventConnection, e.What, "a bystander was given a connection: %+v", e)
		if e.Op == "CreateUsers" && e.OK {
			created[e.Host]++
		}
	}
	assert.Len(t, created, 33, "the recorder and those set up by hand have no password of ours")
	for host, n := range created {
		assert.Equal(t, 1, n, host)
	}
}
