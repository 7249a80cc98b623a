package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/e2e/driver"
)

const onThePlainWire = `
site: Plain
seed: 4
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A1, restart: 1s, address: 10.61.8.101/23}
  - {id: bullet, model: verrine-bullet, mac: "02:e4:41:00:02:01", serial: B1, restart: 1s, address: 10.61.8.102/23}
  - {id: eye, model: oakhollow-eye, mac: "02:0a:c0:00:02:01", serial: C1, restart: 1s, address: 10.61.8.103/23}
  - {id: panel, model: tallow-gate, mac: "02:7a:11:00:06:01", serial: GH1, restart: 1s}
  - {id: stray, model: verrine-dome, mac: "02:e4:42:00:01:09", serial: A9, restart: 1s}
others:
  - {id: router, role: router, mac: "02:5c:00:00:00:01", address: 10.61.8.1/23}
  - {id: printer, role: printer, mac: "02:9d:00:00:00:30", address: 10.61.8.41/23}
`

// The plain wire does a job without raw frames, as an ordinary user with no capability at all:
// what the laptop's own address reaches is found, set up and proved, and the limits are told.
func TestTheJobWithoutRawFrames(t *testing.T) {
	t.Parallel()
	l := newLAN(t)
	program := driver.Built(t)
	l.plug("laptop", "02:1a:70:00:00:01", "10.61.8.200/23")
	l.plug("bench", "02:be:00:00:00:01", "")
	l.attach(program, "bench", onThePlainWire)
	// The program and the job have to be an ordinary user's.
	home, err := os.MkdirTemp("", "plain")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(home) })
	mine := filepath.Join(home, "janustat")
	data, err := os.ReadFile(program)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(mine, data, 0o755))
	require.NoError(t, os.Chmod(home, 0o777))
	job := filepath.Join(home, "job")
	run := func(want int, args ...string) string {
		t.Helper()
		c := l.command("laptop", append([]string{"setpriv", "--reuid", "65534", "--regid", "65534", "--clear-groups", "--bounding-set", "-all", "--inh-caps", "-all", mine}, args...)...)
		c.Env = append(c.Env, "JANUSTAT_STATE="+filepath.Join(home, "state"), "JANUSTAT_PASSPHRASE=ferry at quillmere", "HOME="+home)
		c.Args = append(c.Args, "--job", job, "--wire", "plain:eth0")
		out, err := c.CombinedOutput()
		if want == 0 {
			require.NoError(t, err, "%v\n%s", args, out)
		}
		require.Equal(t, want, c.ProcessState.ExitCode(), "%v\n%s", args, out)
		return string(out)
	}
	run(0, "begin", job, "--subnet", "10.61.8.0/23")
	told := run(1, "wire")
	assert.Contains(t, told, "plain")
	assert.Contains(t, told, "devices on other subnets than the laptop's own are not reached")
	assert.Contains(t, told, "that use Hail are not found", "its port is kept from ordinary users")
	found := run(0, "survey")
	assert.Contains(t, found, "1 device ready to be taken", "the one on another subnet is heard, and not reached; the two that say that their address is a fixed one are set apart")
	assert.Contains(t, found, "10.61.8.103")
	assert.Contains(t, found, "set up by somebody before (at a fixed address of this network)")
	run(0, "take", "10.61.8.101,10.61.8.102,10.61.8.103", "--yes")
	allotted := run(0, "allot")
	assert.NotContains(t, allotted, "10.61.8.41/", "the printer's")
	assert.Contains(t, run(0, "commission", "--yes"), "3 done")
	assert.Contains(t, run(0, "prove"), "3 of 3 devices proved")
	assert.Contains(t, run(0, "commission", "--yes"), "0 writes")
	run(0, "handover")
}

// Where the system lets it have the port, the plain wire speaks Hail: a panel at an address
// that the laptop does not reach is set up all the same.
func TestThePlainWireSpeaksHail(t *testing.T) {
	t.Parallel()
	l := newLAN(t)
	program := driver.Built(t)
	l.plug("laptop", "02:1a:70:00:00:01", "10.61.8.200/23")
	l.plug("bench", "02:be:00:00:00:01", "")
	l.attach(program, "bench", onThePlainWire)
	job := filepath.Join(t.TempDir(), "job")
	run := func(args ...string) string {
		t.Helper()
		c := l.command("laptop", append([]string{program}, args...)...)
		c.Env = append(c.Env, "JANUSTAT_STATE="+job+"-state", "JANUSTAT_PASSPHRASE=ferry at quillmere", "HOME="+t.TempDir())
		c.Args = append(c.Args, "--job", job, "--wire", "plain:eth0")
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%v\n%s", args, out)
		return string(out)
	}
	run("begin", job, "--subnet", "10.61.8.0/23")
	assert.Contains(t, run("survey"), "GH1")
	run("take", "kind=panel", "--yes")
	run("allot")
	assert.Contains(t, run("commission", "--yes"), "1 done")
	assert.Contains(t, run("prove"), "1 of 1 devices proved")
	assert.Contains(t, run("commission", "--yes"), "0 writes")
}
