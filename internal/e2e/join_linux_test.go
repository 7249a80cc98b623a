package e2e

import (
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/sheet"
	"janustat/internal/e2e/driver"
	"janustat/internal/job"
)

const togetherOnTheWire = `
site: Together on the wire
seed: 1
devices:
  - {id: recorder, model: tallow-recorder, mac: "02:7a:11:00:00:20", serial: TV8, restart: 1s}
  - {id: bullet, model: verrine-bullet, mac: "02:e4:41:00:02:01", serial: A1, restart: 1s}
  - {id: door, model: oakhollow-door, mac: "02:0a:c0:00:05:01", serial: OPS1, restart: 1s}
  - {id: hall, model: oakhollow-hall, mac: "02:0a:c0:00:05:11", serial: OHH1, restart: 1s}
  - {id: bare, model: tallow-gate, mac: "02:7a:11:00:06:01", serial: GH1, address: none, restart: 1s}
others:
  - {id: server, role: server, mac: "02:5c:00:00:00:06", address: 10.61.8.6/23, ports: [7700]}
`

// On a real wire everything is joined up, a device without an address included; and what
// others have made understands what was set up: ffprobe reads a camera's stream, sipsak
// gets an answer from a station.
func TestJoinedUpOnARealWire(t *testing.T) {
	t.Parallel()
	needPrograms(t, "ffprobe", "sipsak")
	l := newLAN(t)
	program := driver.Built(t)
	l.plug("laptop", "02:1a:70:00:00:01", "10.61.8.200/23")
	l.plug("bench", "02:be:00:00:00:01", "")
	l.plug("viewer", "02:9d:00:00:00:40", "10.61.8.201/23")
	l.attach(program, "bench", togetherOnTheWire)
	dir := filepath.Join(t.TempDir(), "job")
	run := func(args ...string) string {
		t.Helper()
		return l.in("laptop", append([]string{"env", "JANUSTAT_PASSPHRASE=ferry at quillmere", program, "--job", dir, "--quiet"}, args...)...)
	}
	run("begin", dir, "--subnet", "10.61.8.0/23")
	path := filepath.Join(dir, job.SheetFile)
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	more := "channels: auto\nintercoms: {D01: {I01: {floor: 1, flat: 101}}}\nreporting: {server: 10.61.8.6, port: 7700}\n"
	require.NoError(t, os.WriteFile(path, append(text, more...), 0o600))
	run("survey", "--wire", "eth0")
	run("take", "all", "--yes")
	run("allot")
	assert.Contains(t, run("commission", "--wire", "eth0", "--yes"), "5 done, 0 need you, 0 not tried")
	assert.Contains(t, run("prove", "--wire", "eth0"), "5 of 5 devices proved")

	password := strings.TrimSpace(run("key", "show", "C01", "--user", sheet.RecorderUser))
	u := url.URL{Scheme: "rtsp", User: url.UserPassword(sheet.RecorderUser, password), Host: "10.61.8.41", Path: "/still/1"}
	out := l.in("viewer", "ffprobe", "-v", "error", "-rtsp_transport", "tcp", "-select_streams", "v", "-show_entries", "stream=codec_name,width,height", "-of", "csv=p=0", u.String())
	assert.Equal(t, "mjpeg,640,480", strings.TrimSpace(out))
	u.User = url.UserPassword(sheet.RecorderUser, "Somebody-else-1")
	errs, err := l.command("viewer", "ffprobe", "-v", "error", "-rtsp_transport", "tcp", u.String()).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(errs), "401")

	for _, at := range []string{"10.61.8.31", "10.61.8.32"} {
		errs, err := l.command("viewer", "sipsak", "-v", "-s", "sip:101@"+at+":5060").CombinedOutput()
		assert.NoError(t, err, "%s: %s", at, errs)
	}
	// Somebody who does not know the secret does not register.
	c := l.command("viewer", "sipsak", "-U", "-s", "sip:101@10.61.8.31:5060", "-a", "Somebody-else-1")
	var exit *exec.ExitError
	require.ErrorAs(t, c.Run(), &exit)
}
