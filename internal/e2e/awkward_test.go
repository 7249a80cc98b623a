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
	"janustat/internal/e2e/driver"
)

// listed is a device in the program's --json.
type listed struct {
	Tag, Serial, MAC, Address, Condition, Access, Allotted string
}

func list(w driver.Worker, args ...string) map[string]listed {
	w.T.Helper()
	var found []listed
	require.NoError(w.T, json.Unmarshal([]byte(w.Must(append([]string{"list", "--json"}, args...)...)), &found))
	out := map[string]listed{}
	for _, d := range found {
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
	w := driver.Worker{T: t, Program: driver.Built(t), Job: filepath.Join(t.TempDir(), "job"), Wire: "bench:" + socket}
	w.Must("begin", w.Job, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	w.Must("survey")
	w.Must("take", "all", "02:b7:16:00:00:10", "--yes")
	key := w.Command("key", "set", "R01")
	key.Stdin = strings.NewReader("Harbour-Light-42\n")
	out, err := key.CombinedOutput()
	require.NoError(t, err, string(out))
	bare := []string{"02:7a:11:00:09:01", "02:7a:11:00:09:02", "02:7a:11:00:09:03", "02:7a:11:00:09:11"}
	w.Must(append([]string{"take", "--kind", "camera", "--yes"}, bare...)...)
	hands := map[string]string{"02:7a:11:00:0a:01": "fog-horn", "02:7a:11:00:0a:02": "pier-horn", "02:7a:11:00:0a:03": "berth-horn"}
	for mac := range hands {
		w.Must("take", mac, "--kind", "panel", "--yes")
	}
	w.Must("allot")
	assert.Contains(t, w.Must("lease", "--yes"), "Next: janustat commission")
	for _, mac := range bare {
		d := list(w)[mac]
		assert.Equal(t, "fresh", d.Access, mac)
		assert.Equal(t, "leased", d.Condition, mac)
		assert.Equal(t, d.Allotted, d.Address, mac)
	}

	// What a person reads off the screen and types into three devices.
	before := list(w)
	for mac, id := range hands {
		to := netip.MustParseAddr(before[mac].Allotted)
		b.Device(id).Type(netip.PrefixFrom(to, 23), netip.MustParseAddr("10.61.8.1"))
	}
	out2 := w.Must("commission", "--yes", "--by-hand", "1m")
	assert.Contains(t, out2, "37 done, 0 need you, 0 not tried")
	assert.Contains(t, out2, "reserve "+before["02:7a:11:00:09:11"].Allotted+" for 02:7a:11:00:09:11")
	assert.Contains(t, w.Must("prove"), "37 of 37 devices proved")

	conditions := map[string]int{}
	for _, d := range list(w) {
		if d.Tag != "" {
			conditions[d.Condition]++
			assert.Equal(t, d.Allotted, d.Address, d.Tag)
		}
	}
	assert.Equal(t, map[string]int{"settled": 36, "leased": 1}, conditions)
	w.Must("commission", "--yes") // again: nothing to write
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
