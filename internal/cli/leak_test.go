package cli

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
)

const leakSite = `
site: Leak
seed: 5
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 2, restart: 1s, manners: [backup attached, firmware]}
  - {id: eye, model: oakhollow-eye, mac: "02:0a:c0:00:03:01", serial: B1, restart: 1s}
  - {id: factory, model: tallow-cube, mac: "02:7a:11:00:04:01", serial: C1, password: Factory-111, restart: 1s}
  - {id: door, model: oakhollow-door, mac: "02:0a:c0:00:05:11", serial: D2, restart: 1s}
  - {id: earlier, model: oakhollow-indoor, mac: "02:0a:c0:00:05:01", serial: D1, password: Earlier-222}
  - {id: ours, model: brightmoor-recorder, mac: "02:b7:16:00:04:01", serial: E1, address: 10.61.8.10/23, gateway: 10.61.8.1, password: Harbour-Light-42}
`

// notHere are commands that a job's passwords cannot reach: the bench has no job,
// the demo and go play the others, and ladder wants a screen (internal/e2e).
var notHere = []string{"janustat go", "janustat ladder", "janustat go", "janustat ladder", "janustat bench", "janustat bench image", "janustat demo", "janustat manual"}

// imageOf writes firmware for the dome.
func imageOf(t *testing.T) string {
	path := filepath.Join(t.TempDir(), "dome.bin")
	require.NoError(t, os.WriteFile(path, bench.Image("Verrine", "Dome", "9.0", 5000), 0o600))
	return path
}

// TestNoCommandTellsAPassword runs every command there is, with every word that the
// log has, on one job. What was printed and written is searched when it ends (hire).
func TestNoCommandTellsAPassword(t *testing.T) {
	t.Parallel()
	c := hire(t, leakSite, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	firm, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	key := filepath.Join(t.TempDir(), "firm.key")
	require.NoError(t, os.WriteFile(key, []byte(firm.String()+"\n"), 0o600))
	c.sheet("password: {style: each, factory: [{user: admin, password: Factory-111}], recovery: [" + firm.Recipient().String() + "]}\nusers: [{name: viewer, role: user, on: [recorder]}]\nchannels: auto\nintercoms: {D01: {I01: {floor: 1, flat: 101}}}\n")
	for _, step := range []struct {
		stdin string
		args  string
	}{
		{"", ""},
		{"", "begin " + filepath.Join(t.TempDir(), "other")},
		{"", "wire"},
		{"", "survey --for 4s"},
		{"", "take all 02:7a:11:00:04:01 02:0a:c0:00:05:01 10.61.8.10 --yes"},
		{"", "leave C02 --yes"},
		{"Harbour-Light-42\n", "key set R01"},
		{"Earlier-222\n", "key add"},
		{"", "key generate"},
		{"", "allot"},
		{"", "commission --yes"},
		{"", "commission --yes --json"},
		{"", "key try I01"},
		{"", "key again I01"},
		{"", "key list --json"},
		{"", "key list"},
		{"", "key show C01"},
		{"", "key change C01 --yes"},
		{"", "key change R01 --user viewer --yes"},
		{"for the client\n", "key share"},
		{"", "channels"},
		{"", "note C01 place=Hall"},
		{"", "name C01 Hall"},
		{"", "swap C01 C02 --yes"},
		{"", "undo --yes"},
		{"", "retag C01 C41 --yes"},
		{"", "retag C41 C01 --yes"},
		{"", "key lock"},
		{"", "views"},
		{"", "backup"},
		{"", "backup open BACKUP --out " + filepath.Join(t.TempDir(), "c01.tar")}, // has its password in it: it is meant to
		{"", "firmware add " + imageOf(t) + " --like C01 --version 9.0"},
		{"", "firmware --apply --yes"},
		{"", "key recover --check --identity " + key},
		{"", "schedule " + planOf(t) + " --yes"},
		{"", "channels --json"},
		{"", "wink C01"},
		{"", "wink I01"},
		{"", "prove --json"},
		{"", "prove"},
		{"", "handover"},
		{"", "compare " + c.dir + " " + c.dir},
		{"", "list --all --json"},
		{"", "show R01 --json"},
		{"", "show R01"},
		{"", "log R01 --json"},
		{"", "log C01"},
		{"", "restart C01 --yes"},
		{"C01\n", "reset C01"},
		{"", "restore C01 --for 30s --yes"},
		{"", "lease --for 2s --yes"},
		{"", "web C01"},
		{"another phrase\n", "key passphrase"},
		{"", "putback C01 --yes"},
		{"", "forget C01 --yes"},
		{"", "undo --yes"},
		{"", "key show C01"}, // does not open any more
	} {
		if kept, _ := filepath.Glob(filepath.Join(c.dir, "backups", "*", "*")); len(kept) > 0 {
			step.args = strings.Replace(step.args, "BACKUP", kept[0], 1)
		}
		args := append(strings.Fields(step.args), "--log-level", "debug")
		ctx, cancel := context.WithTimeout(t.Context(), 90*time.Second)
		if strings.HasPrefix(step.args, "web") { // it stays until it is stopped
			time.AfterFunc(9*time.Second, cancel)
		}
		code, out, errs := c.runUntil(ctx, step.stdin, args...)
		cancel()
		c.ran[commandOf(args)] = true
		if !strings.HasPrefix(step.args, "web") {
			require.NotEqual(t, ExitUsage, code, "%s\n%s\n%s", step.args, out, errs)
		}
	}
	var missing []string
	var walk func(*cobra.Command)
	walk = func(cmd *cobra.Command) {
		if name := cmd.CommandPath(); cmd.Runnable() && !c.ran[name] && !strings.Contains(strings.Join(notHere, ","), name) && !cmd.HasSubCommands() {
			missing = append(missing, name)
		}
		for _, sub := range cmd.Commands() {
			walk(sub)
		}
	}
	walk((&App{}).Root())
	assert.Empty(t, missing, "commands that this test does not run")
}

// planOf writes a planner's list.
func planOf(t *testing.T) string {
	path := filepath.Join(t.TempDir(), "plan.csv")
	require.NoError(t, os.WriteFile(path, []byte("serial,place\nA001,Hall\n"), 0o600))
	return path
}

// commandOf is the path of the command that a command line is of.
func commandOf(args []string) string {
	cmd, _, err := (&App{}).Root().Find(args)
	if err != nil {
		return ""
	}
	return cmd.CommandPath()
}
