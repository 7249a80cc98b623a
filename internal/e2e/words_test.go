package e2e

import (
	"bytes"
	"encoding/json"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench/benchtest"
	"janustat/internal/e2e/driver"
)

// typed is what a command line gave.
type typed struct {
	code     int
	out, err string
}

// typist runs the built program in a folder, without a terminal.
type typist struct {
	t       testing.TB
	program string
	dir     string
	env     []string
}

func (p typist) run(args ...string) typed {
	p.t.Helper()
	c := exec.Command(p.program, args...)
	c.Dir = p.dir
	c.Env = append(append(os.Environ(), "JANUSTAT_STATE="+filepath.Join(p.dir, "state"), "JANUSTAT_JOB=", "JANUSTAT_WIRE=", "JANUSTAT_KEEP=0", "JANUSTAT_PASSPHRASE=ferry at quillmere"), p.env...)
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	_ = c.Run() // its exit code tells
	return typed{c.ProcessState.ExitCode(), out.String(), errs.String()}
}

// commandsOf gives every command there is, by its manual.
func commandsOf(p typist) (out []string) {
	dir := filepath.Join(p.t.TempDir(), "man")
	said, err := exec.Command("go", "run", "janustat/internal/manual", dir).CombinedOutput()
	require.NoError(p.t, err, string(said))
	pages, err := filepath.Glob(filepath.Join(dir, "*.1"))
	require.NoError(p.t, err)
	for _, page := range pages {
		name := strings.TrimSuffix(filepath.Base(page), ".1")
		if words := strings.TrimPrefix(name, "janustat-"); words != name && !strings.HasPrefix(words, "completion") {
			out = append(out, strings.ReplaceAll(words, "-", " "))
		}
	}
	return out
}

// Every command tells wrong usage on standard error alone, with exit code 2 and what was
// meant, and shows an example; those of a job say so where there is none.
func TestEveryCommandMeetsWrongUsage(t *testing.T) {
	t.Parallel()
	p := typist{t: t, program: driver.Built(t), dir: t.TempDir()}
	all := commandsOf(p)
	assert.Greater(t, len(all), 40)
	noJob := map[string]bool{"begin": true, "bench": true, "bench image": true, "demo": true, "key": true, "wire": true, "compare": true, "go": true, "ladder": true, "key lock": true}
	for _, command := range all {
		words := strings.Fields(command)
		bad := p.run(append(words, "--quite")...)
		assert.Equal(t, 2, bad.code, command)
		assert.Empty(t, bad.out, command)
		assert.Contains(t, bad.err, "did you mean --quiet?", command)
		help := p.run(append(words, "--help")...)
		assert.Equal(t, 0, help.code, command)
		assert.Contains(t, help.out, "Examples:", command)
		assert.Empty(t, help.err, command)
		if !noJob[command] {
			args := append(words, map[string][]string{
				"name": {"C01", "x"}, "retag": {"C01", "C02"}, "swap": {"C01", "C02"}, "schedule": {"plan.xlsx"}, "backup open": {"x", "--out", "y"}, "firmware": nil, "firmware add": {"x", "--like", "C01", "--version", "2"}, "key recover": {"--identity", "x"}, "survey": nil, "allot": nil, "list": nil, "channels": nil, "views": nil, "lease": nil,
				"undo": nil, "handover": nil, "commission": nil, "prove": nil, "key list": nil, "key add": nil, "key generate": nil, "key share": nil, "key set": nil, "key passphrase": nil,
			}[command]...)
			if without := p.run(args...); without.code != 2 || !strings.Contains(without.err, "no job here") {
				without = p.run(append(words, "C01")...) // it wants a device
				assert.Equal(t, 2, without.code, command)
				assert.Contains(t, without.err, "no job here", command)
				assert.Empty(t, without.out, command)
			}
		}
	}
}

// The table of exit codes (docs/scripting.md) is kept.
func TestTheTableOfExitCodes(t *testing.T) {
	t.Parallel()
	p := typist{t: t, program: driver.Built(t), dir: t.TempDir()}
	socket, _ := benchtest.Start(t, "site: One\nlaptop: {mac: \"02:1a:70:00:00:01\", addresses: [10.61.8.200/23]}\ndevices: [{id: cam, model: verrine-dome, mac: \"02:e4:42:00:01:01\", serial: V1, restart: 1s}]\n")
	nobody, _ := benchtest.Start(t, "site: Nobody\nlaptop: {mac: \"02:1a:70:00:00:01\", addresses: [10.61.8.200/23]}\n")
	wire := []string{"--wire", "bench:" + socket, "--job", "quay"}
	on := func(args ...string) []string { return append(args, wire...) }
	for _, x := range []struct {
		what string
		code int
		args []string
		says string // on standard error, or on standard output where it is no error
	}{
		{"done", 0, []string{"begin", "quay", "--name", "Quay", "--subnet", "10.61.8.0/23"}, "Began Quay"},
		{"job exists", 2, []string{"begin", "quay"}, "there is a job in quay already"},
		{"nothing answered", 1, []string{"survey", "--for", "1s", "--job", "quay", "--wire", "bench:" + nobody}, "No device answered"},
		{"nobody is known", 0, on("list"), "Nothing to list"},
		{"nothing matched", 1, on("list", "kind=panel"), "Nothing to list"},
		{"no such device", 2, on("show", "C01"), "no such device"},
		{"nothing is taken", 2, on("commission", "--yes"), "no device is taken"},
		{"found", 0, on("survey", "--quiet"), "1 camera"},
		{"nothing matched", 1, on("take", "make=Nobody"), "No device matches"},
		{"needs an answer", 2, on("take", "all"), "give --yes"},
		{"taken", 0, on("take", "all", "--yes"), "1 device taken"},
		{"a tag mistyped", 2, on("show", "C0l"), "did you mean C01?"},
		{"not allotted", 2, on("commission", "--yes"), "janustat allot"},
		{"allotted", 0, on("allot"), "1 address allotted"},
		{"not set up yet", 1, on("prove", "--quiet"), "C01: `janustat commission`, then `janustat prove`\n"},
		{"commissioned", 0, on("commission", "--yes", "--quiet"), "1 done"},
		{"proved", 0, on("prove", "--quiet"), "1 of 1 devices proved"},
		{"nothing matched", 1, on("prove", "kind=panel"), "no device of the job fits"},
		{"no such adapter", 3, []string{"survey", "--job", "quay", "--wire", "nosuch0"}, "nosuch0"},
		{"no such bench", 3, []string{"survey", "--job", "quay", "--wire", "bench:/nowhere"}, "/nowhere"},
		{"no job", 2, []string{"list", "--job", "elsewhere"}, "no job here"},
		{"a word mistyped", 2, []string{"comission"}, "did you mean commission?"},
		{"a state mistyped", 2, on("list", "condition=setled"), "did you mean settled?"},
		{"a column mistyped", 2, on("list", "--columns", "serail"), "did you mean serial?"},
		{"a level mistyped", 2, on("list", "--log-level", "loud"), "use debug, info, warn or error"},
		{"a form mistyped", 2, on("list", "--json=yes"), "--json=lines"},
		{"nothing to undo is left", 2, on("undo", "--yes"), "sent to C01 since then"},
		{"no terminal", 2, on("ladder"), "survey --watch"},
		{"no person", 2, on("go"), "no terminal to ask on"},
	} {
		got := p.run(x.args...)
		assert.Equal(t, x.code, got.code, "%s: %v\n%s%s", x.what, x.args, got.out, got.err)
		switch {
		case got.code == 0:
			assert.Contains(t, got.out, x.says, x.what)
		case got.code >= 2:
			assert.Contains(t, got.err, x.says, x.what)
			if x.what != "needs an answer" { // which shows what it asks about
				assert.Empty(t, got.out, "%s: results only, on standard output", x.what)
			}
		default:
			assert.Contains(t, got.out+got.err, x.says, x.what)
		}
		for _, text := range []string{got.out, got.err} {
			assert.NotContains(t, text, "1 need you")
			assert.NotContains(t, text, "1 devices taken")
			assert.NotContains(t, text, "%!", "a message that lacks a value")
		}
	}
	wrong := typist{t: t, program: p.program, dir: p.dir, env: []string{"JANUSTAT_PASSPHRASE=another one"}}.run(on("prove")...)
	assert.Equal(t, 3, wrong.code, "wrong passphrase")
	assert.Contains(t, wrong.err, "the passphrase does not open the keyring")

	lines := p.run(on("prove", "--json=lines")...)
	assert.Equal(t, 0, lines.code)
	var last struct {
		Event string
		Exit  *int
	}
	for line := range strings.Lines(lines.out) {
		require.NoError(t, json.Unmarshal([]byte(line), &last), line)
	}
	assert.Equal(t, "end", last.Event)
	assert.Equal(t, 0, *last.Exit)
	assert.Empty(t, lines.err, "what is told is told as events")

	tags := p.run(append([]string{"__complete", "show", "--job", "quay"}, "")...)
	assert.Contains(t, tags.out, "C01\t")
	assert.Contains(t, p.run("__complete", "take", "condition=").out, "condition=stray")
	assert.Contains(t, p.run("__complete", "survey", "--wire", "").out, "plain")
	version := p.run("--version")
	assert.Regexp(t, `^janustat \S+`, version.out)
}

// Every variable of the environment that the program looks at is on one page.
func TestTheEnvironmentIsOnOnePage(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile("../../docs/scripting.md")
	require.NoError(t, err)
	asked := regexp.MustCompile(`(?i)getenv\("([A-Z_]+)"\)`)
	found := map[string]bool{}
	require.NoError(t, filepath.WalkDir("../../internal", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || strings.Contains(path, "/e2e/") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, m := range asked.FindAllStringSubmatch(string(text), -1) {
			found[m[1]] = true
		}
		return err
	}))
	assert.Greater(t, len(found), 6)
	for name := range found {
		switch name {
		case "HOME", "USER", "SUDO_UID": // who the person is, as any program asks
		default:
			assert.Contains(t, string(page), name)
		}
	}
}
