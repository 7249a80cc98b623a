package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/job"
)

// What is not said is looked for: the job from this folder upwards, or where the environment
// says, and the wire likewise. What is said wins.
func TestTheJobAndTheWireAreRemembered(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "quay")
	require.NoError(t, job.Begin(t.Context(), dir, job.NewSheet("Quay", "", "", time.Now())))
	deep := filepath.Join(dir, "handover", "old")
	require.NoError(t, os.MkdirAll(deep, 0o755))
	env := map[string]string{}
	run := func(at string, args ...string) (int, string, string) {
		t.Chdir(at)
		var out, errs bytes.Buffer
		a := App{In: bytes.NewReader(nil), Out: &out, Err: &errs, Getenv: func(k string) string { return env[k] }}
		code := a.Run(t.Context(), args)
		return code, out.String(), errs.String()
	}
	_, out, _ := run(deep)
	assert.Contains(t, out, "Quay\n")
	_, out, _ = run(t.TempDir())
	assert.Contains(t, out, "No job in this folder")
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
}
