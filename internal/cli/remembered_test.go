package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench/benchtest"
	"janustat/internal/job"
	"janustat/internal/sheetfile"
)

// What is not said is looked for: the job from this folder upwards, or where the environment
// says, and the wire likewise. What is said wins.
func TestTheJobAndTheWireAreRemembered(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "quay")
	require.NoError(t, job.Begin(t.Context(), dir, sheetfile.New("Quay", "", "", time.Now())))
	deep := filepath.Join(dir, "handover", "old")
	require.NoError(t, os.MkdirAll(deep, 0o755))
	env := map[string]string{"JANUSTAT_STATE": t.TempDir()}
	run := func(at string, args ...string) (int, string, string) {
		t.Chdir(at)
		var out, errs bytes.Buffer
		a := App{In: bytes.NewReader(nil), Out: &out, Err: &errs, Getenv: func(k string) string { return env[k] }}
		code := a.Run(t.Context(), args)
		return code, out.String(), errs.String()
	}
	_, out, _ := run(t.TempDir())
	assert.Contains(t, out, "No job in this folder")
	_, out, _ = run(deep)
	assert.Contains(t, out, "Quay\n")
	env["JANUSTAT_JOB"] = dir
	_, out, _ = run(t.TempDir())
	assert.Contains(t, out, "Quay\n")
	other := t.TempDir()
	code, _, errs := run(deep, "list", "--job", other)
	assert.Equal(t, ExitUsage, code)
	assert.Contains(t, errs, other)
	env["JANUSTAT_WIRE"] = "bench:/nowhere"
	_, _, errs = run(deep, "survey")
	assert.Contains(t, errs, "/nowhere")
	_, _, errs = run(deep, "survey", "--wire", "bench:/elsewhere")
	assert.Contains(t, errs, "/elsewhere")

	// What was said last is gone by where nothing else says it, and where it is still there.
	delete(env, "JANUSTAT_JOB")
	delete(env, "JANUSTAT_WIRE")
	_, out, errs = run(t.TempDir(), "list")
	assert.Contains(t, errs, "job: "+dir+", as last time")
	assert.Contains(t, out, "Nothing to list")
	new := filepath.Join(t.TempDir(), "new")
	code, _, errs = run(t.TempDir(), "begin", new, "--name", "New")
	require.Equal(t, ExitDone, code, errs)
	_, out, _ = run(t.TempDir())
	assert.Contains(t, out, "No job in this folder", "another may well be meant to begin here")
	assert.Contains(t, out, "Open your last job:         janustat --job "+new)
	require.NoError(t, os.RemoveAll(new))
	_, out, _ = run(t.TempDir())
	assert.NotContains(t, out, "The last one")

	socket, _ := benchtest.Start(t, "site: One\nlaptop: {mac: \"02:1a:70:00:00:01\", addresses: [10.61.8.200/23]}\ndevices: [{id: cam, model: verrine-dome, mac: \"02:e4:42:00:01:01\", serial: V1}]\n")
	code, _, errs = run(dir, "survey", "--wire", "bench:"+socket, "--for", "1s")
	require.Equal(t, ExitDone, code, errs)
	_, _, errs = run(dir, "survey", "--for", "1s")
	assert.Contains(t, errs, "on bench:"+socket+", as last time")
}
