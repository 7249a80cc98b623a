package cli

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/lan"
	"janustat/internal/job"
	"janustat/internal/kernelwire"
	"janustat/internal/wire"
)

// remembered fills in what was not said: the job and the wire.
func (a *App) remembered(c *cobra.Command) {
	last := job.LastSaid(job.StateDir(a.Getenv))
	if !c.Flags().Changed("wire") {
		if a.wireSpec = a.Getenv("JANUSTAT_WIRE"); a.wireSpec == "" && isThere(last.Wire) {
			a.wireSpec, a.asBefore = last.Wire, true
		}
	}
	if c.Flags().Changed("job") {
		return
	}
	if dir := a.Getenv("JANUSTAT_JOB"); dir != "" {
		a.jobDir = dir
		return
	}
	here, err := filepath.Abs(".")
	if err != nil {
		return // this folder, then
	}
	for dir := here; ; dir = filepath.Dir(dir) {
		if isJob(dir) {
			if dir != here && a.mayAdopt(dir) {
				a.jobDir = dir
			}
			return
		}
		if dir == filepath.Dir(dir) {
			break
		}
	}
	if last.Job == "" || !isJob(last.Job) {
		return
	}
	switch c.Name() {
	case c.Root().Name(), "go", "begin", "demo", "bench": // where another job may well be meant to begin
		a.lastJob = last.Job
	default:
		a.jobDir = last.Job
		a.say("job: %s, as last time", last.Job)
	}
}

// mayAdopt reports whether a job in a folder above is taken without being named. One that
// belongs to somebody else is said; with root's rights it is not taken: whoever may write
// there would have them.
func (a *App) mayAdopt(dir string) bool {
	info, err := os.Stat(filepath.Join(dir, job.RegisterFile))
	if err != nil {
		return false
	}
	owner, known := ownerOf(info)
	switch {
	case !known || owner == os.Geteuid():
		return true
	case os.Geteuid() == 0:
		a.say("note: the job in %s belongs to another user, so it is not taken by itself: name it with --job", dir)
		return false
	}
	a.say("note: the job in %s belongs to another user", dir)
	return true
}

func isJob(dir string) bool {
	_, err := os.Stat(filepath.Join(dir, job.RegisterFile))
	return err == nil
}

// isThere reports whether a wire that was said earlier is still there: an adapter that is
// up, or the socket of a bench.
func isThere(spec string) bool {
	if path, ok := strings.CutPrefix(spec, "bench:"); ok {
		_, err := os.Stat(path)
		return err == nil
	}
	if spec == "" {
		return false
	}
	if kernelwire.Is(spec) {
		if _, name, named := strings.Cut(spec, ":"); named {
			return isThere(name)
		}
		return true
	}
	adapters, err := wire.Adapters()
	at := slices.IndexFunc(adapters, func(x lan.Adapter) bool { return x.Name == spec })
	return err == nil && at >= 0 && adapters[at].Up
}

// keepSaid keeps what was said for the next time. Where that cannot be, it has to be said
// again, and no more.
func (a *App) keepSaid(c *cobra.Command) {
	state := job.StateDir(a.Getenv)
	was := job.LastSaid(state)
	now := was
	if c.Flags().Changed("wire") {
		now.Wire = a.wireSpec
	}
	switch dir, err := filepath.Abs(a.jobDir); {
	case err != nil:
	case c.Name() == "begin" && len(c.Flags().Args()) == 1:
		if dir, err := filepath.Abs(c.Flags().Arg(0)); err == nil {
			now.Job = dir
		}
	case isJob(dir):
		now.Job = dir
	}
	if now != was {
		_ = now.Keep(state)
	}
}

// keptFor is how long a passphrase that was typed is kept by the system, unless
// JANUSTAT_KEEP says otherwise.
const keptFor = time.Hour

// keepTime is for how long a passphrase is kept; 0 is not at all.
func (a *App) keepTime() time.Duration {
	text := a.Getenv("JANUSTAT_KEEP")
	if text == "" {
		return keptFor
	}
	d, err := time.ParseDuration(text)
	if err != nil || d < time.Second {
		return 0
	}
	return d
}

// keptName is the name under which the passphrase of the job's keyring is kept.
func (a *App) keptName() string {
	path := filepath.Join(a.jobDir, job.KeyringFile)
	if full, err := filepath.Abs(path); err == nil {
		path = full
	}
	return path
}
