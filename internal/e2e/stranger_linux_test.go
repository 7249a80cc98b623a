package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/e2e/driver"
)

// builtStranger builds the device of internal/e2e/stranger on gSOAP, with its plugins for
// discovery, WS-Security and HTTP Digest: once for all tests, since it takes a while.
func builtStranger(t *testing.T) string {
	needPrograms(t, "soapcpp2", "gcc")
	stranger.Do(func() {
		dir := filepath.Join(builds, "stranger")
		require.NoError(t, os.Mkdir(dir, 0o700))
		stranger.at = buildStranger(t, dir)
	})
	require.NotEmpty(t, stranger.at, "it was not built")
	return stranger.at
}

var stranger struct {
	sync.Once
	at string
}

func buildStranger(t *testing.T, dir string) string {
	for _, name := range []string{"device.h", "device.c", "recorder.c"} {
		text, err := os.ReadFile(filepath.Join("stranger", name))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), text, 0o600))
	}
	const share = "/usr/share/gsoap"
	step := func(program string, args ...string) {
		c := exec.Command(program, args...)
		c.Dir = dir
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s: %s", program, out)
	}
	step("soapcpp2", "-c", "-2", "-x", "-L", "-I"+share+"/import:"+share, "device.h")
	args := []string{"-O0", "-w", "-DWITH_OPENSSL", "-DWITH_DOM", "-DWITH_NO_C_LOCALE", "-I.", "-I" + share + "/plugin", "-I" + share, "-o", "device", "device.c", "soapC.c", "soapServer.c", "soapClient.c"}
	for _, plugin := range []string{"wsseapi", "wsddapi", "wsaapi", "httpda", "smdevp", "mecevp", "threads"} {
		args = append(args, share+"/plugin/"+plugin+".c")
	}
	step("gcc", append(args, share+"/custom/struct_timeval.c", "-lgsoapssl", "-lssl", "-lcrypto", "-lz", "-lpthread")...)
	return filepath.Join(dir, "device")
}

// The whole job is done on devices whose SOAP, discovery and digests were not written
// here, and whose IP is the kernel's, all delivered on one address: in a dozen manners.
// They refuse any message that is not as the standard has it, to the order of elements.
func TestTheWholeJobOnDevicesNotWrittenHere(t *testing.T) {
	t.Parallel()
	l := newLAN(t)
	device := builtStranger(t)
	program := driver.Built(t)
	l.plug("laptop", "02:1a:70:00:00:01", "10.61.8.200/23")
	manners := []string{
		"", "digest", "digest,sha256", "digest,session", "restarts", "silent restart", "gateway first", "gateway inside", "forgets gateway",
		"digest,restarts,gateway inside", "chunks", "few", "strict", "digest,strict",
	}
	logs := make([]*printed, len(manners))
	for i, m := range manners {
		host, mac := fmt.Sprintf("d%d", i+1), fmt.Sprintf("02:5a:17:00:00:%02x", i+1)
		l.plug(host, mac, "")
		l.in(host, "sysctl", "-q", "-w", "net.ipv4.conf.eth0.arp_notify=1")
		args := []string{device, "eth0", mac, fmt.Sprintf("SM-%d", i+1)}
		if m != "" {
			args = append(args, strings.Split(m, ",")...)
		}
		c := l.command(host, args...)
		out := &printed{}
		c.Stdout, c.Stderr, logs[i] = out, out, out
		require.NoError(t, c.Start())
		t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
		out.await(t, "ready")
	}
	job := filepath.Join(t.TempDir(), "job")
	run := func(args ...string) string {
		t.Helper()
		return l.in("laptop", append([]string{"env", "JANUSTAT_PASSPHRASE=ferry at quillmere", program, "--job", job, "--quiet"}, args...)...)
	}
	run("begin", job, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	sheet, err := os.OpenFile(filepath.Join(job, "jobsheet.yaml"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = sheet.WriteString("\nnames: {SM-1: Ticket hall & pier}\n")
	require.NoError(t, err)
	require.NoError(t, sheet.Close())
	run("survey", "--wire", "eth0")
	for i := range manners {
		run("take", fmt.Sprintf("02:5a:17:00:00:%02x", i+1), "--kind", "camera", "--yes")
	}
	run("allot")
	manner := func(mac string) string {
		var n int
		_, err := fmt.Sscanf(mac, "02:5a:17:00:00:%02x", &n)
		require.NoError(t, err, mac)
		return "manner " + manners[n-1]
	}
	var result struct {
		Writes  int
		Results []struct{ Tag, MAC, Status, Reason string }
	}
	c := l.command("laptop", "env", "JANUSTAT_PASSPHRASE=ferry at quillmere", program, "--job", job, "--quiet", "commission", "--wire", "eth0", "--yes", "--json")
	out, err := c.Output()
	require.NoError(t, json.Unmarshal(out, &result), "%s", out)
	for _, r := range result.Results {
		assert.Equal(t, "done", r.Status, "%s: %s", manner(r.MAC), r.Reason)
	}
	require.NoError(t, err)
	require.Len(t, result.Results, len(manners))
	assert.Contains(t, run("prove", "--wire", "eth0"), fmt.Sprintf("%d of %[1]d devices proved", len(manners)))
	require.NoError(t, json.Unmarshal([]byte(run("commission", "--wire", "eth0", "--yes", "--json")), &result))
	assert.Zero(t, result.Writes, "a second run")
	for i := range manners {
		assert.NotContains(t, logs[i].String(), "wrong", manners[i])
		assert.NotContains(t, logs[i].String(), "failed", manners[i])
	}
	var listed []struct{ Name string }
	require.NoError(t, json.Unmarshal([]byte(run("list", "--json")), &listed))
	assert.Contains(t, run("show", "C01", "--json"), "Ticket hall & pier")
	assert.Contains(t, run("show", "C01", "--json"), "NZST-12NZDT")
}
