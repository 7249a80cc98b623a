package e2e

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
	"janustat/internal/e2e/driver"
)

// lan is a LAN of network namespaces: a bridge with a cable to each host.
type lan struct {
	t    testing.TB
	name string
}

// lans counts the LANs made, which are there beside each other.
var lans atomic.Int64

func newLAN(t testing.TB) *lan {
	driver.NeedRoot(t)
	l := &lan{t, fmt.Sprintf("jst%dn%d", os.Getpid(), lans.Add(1))}
	t.Cleanup(func() { os.RemoveAll(filepath.Join(os.TempDir(), l.name+"-state")) })
	l.add("sw")
	l.in("sw", "ip", "link", "add", "br0", "type", "bridge")
	l.in("sw", "ip", "link", "set", "br0", "up")
	return l
}

func (l *lan) ns(host string) string { return l.name + host }

// add makes a namespace, removed with everything in it when the test ends.
func (l *lan) add(host string) {
	l.must(exec.Command("ip", "netns", "add", l.ns(host)))
	l.t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", l.ns(host)).Run() })
	l.in(host, "ip", "link", "set", "lo", "up")
	l.in(host, "sysctl", "-q", "-w", "net.ipv6.conf.all.disable_ipv6=1", "net.ipv4.ip_forward=0")
}

// plug makes a host with a cable into the bridge; address may be empty.
func (l *lan) plug(host, mac, address string) {
	l.add(host)
	port := "p" + host
	l.must(exec.Command("ip", "link", "add", "eth0", "netns", l.ns(host), "type", "veth", "peer", "name", port, "netns", l.ns("sw")))
	l.in("sw", "ip", "link", "set", port, "master", "br0", "up")
	l.in(host, "ip", "link", "set", "eth0", "address", mac, "up")
	if address != "" {
		l.in(host, "ip", "addr", "add", address, "dev", "eth0")
	}
}

func (l *lan) in(host string, args ...string) string {
	return l.must(l.command(host, args...))
}

// command is a command on a host. Each LAN counts tries of passwords for itself.
func (l *lan) command(host string, args ...string) *exec.Cmd {
	c := exec.Command("ip", append([]string{"netns", "exec", l.ns(host)}, args...)...)
	c.Env = append(os.Environ(), "JANUSTAT_STATE="+filepath.Join(os.TempDir(), l.name+"-state"))
	return c
}

func (l *lan) must(c *exec.Cmd) string {
	l.t.Helper()
	var errs bytes.Buffer
	c.Stderr = &errs
	out, err := c.Output()
	require.NoError(l.t, err, "%v\n%s%s", c.Args, out, errs.String())
	return string(out)
}

// attach starts a bench on a host's adapter and waits until it is up.
func (l *lan) attach(program, host, site string) (logFile string) {
	dir := l.t.TempDir()
	file := filepath.Join(dir, "site.yaml")
	logFile = filepath.Join(dir, "bench.log")
	require.NoError(l.t, os.WriteFile(file, []byte(site), 0o600))
	ctx, cancel := context.WithCancel(context.Background())
	c := exec.CommandContext(ctx, "ip", "netns", "exec", l.ns(host), program, "bench", "--site", file, "--attach", "eth0", "--log", logFile)
	c.Cancel = func() error { return c.Process.Signal(syscall.SIGINT) }
	c.WaitDelay = 10 * time.Second
	errs, err := c.StderrPipe()
	require.NoError(l.t, err)
	require.NoError(l.t, c.Start())
	line, err := bufio.NewReader(errs).ReadString('\n')
	require.NoError(l.t, err)
	require.Contains(l.t, line, "Ctrl-C ends")
	l.t.Cleanup(func() {
		cancel()
		_ = c.Wait()
		benchtest.HoldFile(l.t, file, logFile)
	})
	return logFile
}

const onTheWire = `
site: On the wire
seed: 1
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 5, restart: 1s}
  - {id: eye, model: oakhollow-eye, mac: "02:0a:c0:00:02:01", serial: B1, restart: 1s}
  - {id: door, model: oakhollow-door, mac: "02:0a:c0:00:05:01", serial: C1, restart: 1s}
  - {id: recorder, model: brightmoor-recorder, mac: "02:b7:16:00:04:01", serial: D1, restart: 1s}
  - {id: panel, model: tallow-panel, mac: "02:7a:11:00:06:01", serial: E1, restart: 1s}
`

func TestTheWholeJobOnARealWire(t *testing.T) {
	t.Parallel()
	l := newLAN(t)
	program := driver.Built(t)
	l.plug("laptop", "02:1a:70:00:00:01", "10.61.8.200/23")
	l.plug("bench", "02:be:00:00:00:01", "")
	// Two hosts on the kernel's own stack: the gateway, and something inside the cameras' block.
	l.plug("gw", "02:5c:00:00:00:01", "10.61.8.1/23")
	l.plug("pc", "02:9d:00:00:00:31", "10.61.8.42/23")
	l.in("laptop", "ip", "route", "add", "default", "via", "10.61.8.1")
	l.in("laptop", "bash", "-c", "echo >/dev/udp/10.61.8.1/9") // so that the neighbour table holds something
	logFile := l.attach(program, "bench", onTheWire)

	state := func() string {
		return l.in("laptop", "ip", "-4", "-o", "addr") + l.in("laptop", "ip", "route") + neighbours(l.in("laptop", "ip", "-4", "neigh"))
	}
	before := state()
	job := filepath.Join(t.TempDir(), "job")
	run := func(args ...string) string {
		t.Helper()
		return l.in("laptop", append([]string{"env", "JANUSTAT_PASSPHRASE=ferry at quillmere", program, "--job", job, "--quiet"}, args...)...)
	}
	run("begin", job, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	var survey struct {
		Devices []struct{ Kind, MAC, Access, Condition string }
	}
	require.NoError(t, json.Unmarshal([]byte(run("survey", "--wire", "eth0", "--json")), &survey))
	require.Len(t, survey.Devices, 11, "nine devices and two hosts of the kernel's")
	run("take", "all", "--yes")
	allotted := run("allot")
	assert.Contains(t, allotted, "10.61.8.42 is in use by 02:9d:00:00:00:31")
	out := run("commission", "--wire", "eth0", "--yes")
	assert.Contains(t, out, "9 done, 0 need you, 0 not tried")
	assert.Contains(t, run("prove", "--wire", "eth0"), "9 of 9 devices proved")
	run("handover")
	var again struct{ Writes int }
	require.NoError(t, json.Unmarshal([]byte(run("commission", "--wire", "eth0", "--yes", "--json")), &again))
	assert.Zero(t, again.Writes)
	assert.Equal(t, before, state(), "the laptop's own settings changed")

	// The gateway reaches the cameras at their new addresses, by the kernel's own reckoning.
	l.in("gw", "bash", "-c", "exec 3<>/dev/tcp/10.61.8.41/80")
	log, err := os.ReadFile(logFile)
	require.NoError(t, err)
	for _, line := range strings.Split(strings.TrimSpace(string(log)), "\n") {
		var e bench.Event
		require.NoError(t, json.Unmarshal([]byte(line), &e))
		assert.NotEqual(t, bench.EventWrongPassword, e.What, line)
	}
}

// neighbours reduces the table to who is where: how fresh an entry is changes by itself.
func neighbours(table string) string {
	var out []string
	for _, line := range strings.Split(table, "\n") {
		if f := strings.Fields(line); len(f) >= 5 {
			out = append(out, strings.Join(f[:5], " "))
		}
	}
	return strings.Join(out, "\n")
}

func TestWithoutPermissionTheCommandIsNamed(t *testing.T) {
	t.Parallel()
	l := newLAN(t)
	program := driver.Built(t)
	l.plug("laptop", "02:1a:70:00:00:01", "10.61.8.200/23")
	require.NoError(t, os.Chmod(filepath.Dir(program), 0o755))
	job := filepath.Join(t.TempDir(), "job")
	l.in("laptop", program, "begin", job)
	var errs bytes.Buffer
	c := exec.Command("ip", "netns", "exec", l.ns("laptop"), "setpriv", "--bounding-set", "-net_raw", "--inh-caps", "-net_raw", program, "survey", "--job", job, "--wire", "eth0")
	c.Stderr = &errs
	err := c.Run()
	var exit *exec.ExitError
	require.ErrorAs(t, err, &exit)
	assert.Equal(t, 3, exit.ExitCode())
	assert.Contains(t, errs.String(), "setcap cap_net_raw+ep")
	assert.Contains(t, errs.String(), "--wire plain")
}
