package e2e

import (
	"encoding/json"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/e2e/driver"
)

// A device with two ports on one LAN, whose kernel answers ARP for both addresses on both, and
// which tells nobody of them without its password, is one device.
func TestTwoPortsOfOneDevice(t *testing.T) {
	t.Parallel()
	l := newLAN(t)
	device := builtStranger(t)
	program := driver.Built(t)
	l.plug("laptop", "02:1a:70:00:00:01", "10.61.8.200/23")
	l.plug("nvr", "02:5a:17:00:00:21", "")
	l.must(exec.Command("ip", "link", "add", "eth1", "netns", l.ns("nvr"), "type", "veth", "peer", "name", "pnvr2", "netns", l.ns("sw")))
	l.in("sw", "ip", "link", "set", "pnvr2", "master", "br0", "up")
	l.in("nvr", "ip", "link", "set", "eth1", "address", "02:5a:17:00:00:22", "up")
	l.in("nvr", "ip", "addr", "add", "192.168.77.21/24", "dev", "eth1")
	c := l.command("nvr", device, "eth0", "02:5a:17:00:00:21", "SN-1", "strict", "digest", "second port:02:5a:17:00:00:22 192.168.77.21")
	out := &printed{}
	c.Stdout, c.Stderr = out, out
	require.NoError(t, c.Start())
	t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
	out.await(t, "ready")
	job := filepath.Join(t.TempDir(), "job")
	run := func(args ...string) string {
		t.Helper()
		return l.in("laptop", append([]string{"env", "JANUSTAT_PASSPHRASE=ferry at quillmere", program, "--job", job, "--quiet"}, args...)...)
	}
	run("begin", job, "--subnet", "10.61.8.0/23")
	run("survey", "--wire", "eth0")
	var list []struct {
		MAC       string
		Condition string
		OtherMAC  []string `json:"other_mac"`
		Addresses []string
	}
	require.NoError(t, json.Unmarshal([]byte(run("list", "--all", "--json")), &list))
	require.Len(t, list, 1, run("list", "--all", "--json"))
	assert.NotEqual(t, "clash", list[0].Condition)
	run("take", "02:5a:17:00:00:21", // whichever it is called by
		"--kind", "camera", "--yes")
	run("allot")
	assert.Contains(t, run("commission", "--wire", "eth0", "--yes"), "1 done, 0 need you")
	assert.Contains(t, run("prove", "--wire", "eth0"), "1 of 1 devices proved")
	assert.NotContains(t, out.String(), "wrong")
}
