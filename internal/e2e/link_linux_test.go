package e2e

import (
	"bytes"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/e2e/driver"
)

// printed is what a program has printed so far.
type printed struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

func (p *printed) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.buf.Write(b)
}

func (p *printed) String() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.buf.String()
}

// await waits until a program has printed something.
func (p *printed) await(t *testing.T, what string) {
	t.Helper()
	require.Eventually(t, func() bool { return strings.Contains(p.String(), what) }, time.Minute, 20*time.Millisecond, "%q in %s", what, p)
}

// start runs a command of the program on the laptop, beside the test.
func (l *lan) start(args ...string) (*exec.Cmd, *printed) {
	c, out := l.command("laptop", args...), &printed{}
	c.Env = append(c.Env, "JANUSTAT_PASSPHRASE=ferry at quillmere")
	c.Stdout, c.Stderr = out, out
	require.NoError(l.t, c.Start())
	return c, out
}

// The laptop's cable is out in the middle of a commission: that is one message within
// seconds, and not one for each device after minutes; put back in, the run goes on.
func TestTheLaptopsCableIsOutAndBack(t *testing.T) {
	t.Parallel()
	l := newLAN(t)
	program := driver.Built(t)
	l.plug("laptop", "02:1a:70:00:00:01", "10.61.8.200/23")
	l.plug("bench", "02:be:00:00:00:01", "")
	l.attach(program, "bench", onTheWire)
	job := filepath.Join(t.TempDir(), "job")
	run := func(args ...string) string {
		return l.in("laptop", append([]string{"env", "JANUSTAT_PASSPHRASE=ferry at quillmere", program, "--job", job, "--quiet"}, args...)...)
	}
	run("begin", job, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	run("survey", "--wire", "eth0")
	run("take", "all", "--yes")
	run("allot")
	c, out := l.start(program, "--job", job, "--wire", "eth0", "commission", "--yes")
	out.await(t, "C01  key ")
	l.in("sw", "ip", "link", "set", "plaptop", "down")
	pulled := time.Now()
	out.await(t, "the cable is out of eth0")
	assert.Less(t, time.Since(pulled), 5*time.Second)
	time.Sleep(15 * time.Second) // longer than a device is looked for
	l.in("sw", "ip", "link", "set", "plaptop", "up")
	require.NoError(t, c.Wait(), out.String())
	assert.Equal(t, 1, strings.Count(out.String(), "cable is out"), out.String())
	assert.Contains(t, out.String(), "9 done, 0 need you")
	run("prove", "--wire", "eth0")

	// The adapter itself is switched off, and not on again: that is told, and the command ends.
	c, out = l.start(program, "--job", job, "--wire", "eth0", "prove")
	out.await(t, "proving")
	l.in("laptop", "ip", "link", "set", "eth0", "down")
	err := c.Wait()
	var exit *exec.ExitError
	require.ErrorAs(t, err, &exit)
	assert.Equal(t, 3, exit.ExitCode(), out.String())
	assert.Contains(t, out.String(), "the wire went away: the adapter eth0 is switched off")
	l.in("laptop", "ip", "link", "set", "eth0", "up")

	// Stopped, every command ends within seconds.
	for _, args := range [][]string{{"survey", "--for", "30s"}, {"commission", "--yes"}, {"prove"}, {"lease", "--yes"}, {"survey", "--watch"}} {
		for _, with := range []syscall.Signal{syscall.SIGINT, syscall.SIGTERM} {
			c, out = l.start(append([]string{program, "--job", job, "--wire", "eth0"}, args...)...)
			stopped := make(chan time.Time, 1)
			wait := time.AfterFunc(1500*time.Millisecond, func() {
				stopped <- time.Now()
				_ = c.Process.Signal(with)
			})
			_ = c.Wait()
			if !wait.Stop() {
				assert.Less(t, time.Since(<-stopped), 5*time.Second, "%v: %s", args, out.String())
			}
			assert.NotContains(t, out.String(), "goroutine", "%v", args)
		}
	}
	assert.Contains(t, run("list"), "settled")
}
