package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
	"janustat/internal/e2e/driver"
)

// handSite has what tired hands meet: two new cameras, the client's recorder, and a neighbour's
// till, which nobody has protected.
const handSite = `
site: Hands
seed: 2
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: rec, model: brightmoor-recorder, mac: "02:b7:16:00:04:01", serial: LG1, address: 10.61.8.10/23, gateway: 10.61.8.1, name: Plant room, password: Harbour-Light-42, restart: 1s}
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: VD, count: 2, restart: 1s}
  - {id: till, model: verrine-dome, mac: "02:e4:42:00:01:77", serial: VD9, address: 10.61.9.77/23, name: Till, restart: 1s}
`

// hands are a person with a bench, and what of their mistakes was tried.
type hands struct {
	person
	bench *bench.Bench
	logs  *bench.Log
	tried map[string]bool
}

// wrote counts what was written to devices.
func (h *hands) wrote() (n int) {
	for _, e := range h.logs.Events() {
		if e.What == bench.EventWrite {
			n++
		}
	}
	return n
}

// at runs a command without a terminal and checks how it ends and what it says.
func (h *hands) at(mistake string, code int, says string, args ...string) string {
	h.t.Helper()
	if mistake != "" {
		h.tried[mistake] = true
	}
	c := exec.Command(driver.Built(h.t), args...)
	c.Dir = h.dir
	c.Env = append(append(os.Environ(), "JANUSTAT_STATE="+filepath.Join(h.dir, "state")), h.env...)
	c.Stdin = strings.NewReader("")
	out, _ := c.CombinedOutput()
	assert.Equal(h.t, code, c.ProcessState.ExitCode(), "%s: %v\n%s", mistake, args, out)
	assert.Contains(h.t, strings.Join(strings.Fields(string(out)), " "), says, "%s: %v", mistake, args)
	return string(out)
}

// Each mistake of a tired hand that docs/first-day.md lists is made at a terminal, does no harm, and
// is put right in the steps that it says.
func TestHands(t *testing.T) {
	t.Parallel()
	site, err := bench.Parse([]byte(handSite))
	require.NoError(t, err)
	socket, logs, b := benchtest.StartSite(t, site)
	h := &hands{person{t, t.TempDir(), []string{"JANUSTAT_WIRE=bench:" + socket, "JANUSTAT_KEEP=0"}}, b, logs, map[string]bool{}}
	h.guided()
	h.commands()

	text, err := os.ReadFile("../../docs/first-day.md")
	require.NoError(t, err)
	_, table, found := strings.Cut(string(text), "| the hand | what happens | put right by | steps |")
	require.True(t, found)
	listed := map[string]bool{}
	for _, row := range regexp.MustCompile(`(?m)^\| (.+?) \| .+ \| .+ \| \d \|$`).FindAllStringSubmatch(table, -1) {
		listed[row[1]] = true
	}
	assert.Equal(t, listed, h.tried, "what the document lists is what is tried")
	assert.GreaterOrEqual(t, len(listed), 30)
}

// guided makes the mistakes of the guided way.
func (h *hands) guided() {
	did := func(mistake string) { h.tried[mistake] = true }
	s := h.types()
	s.Press("\r\r\r\r\r\r\r\r") // before anything is asked
	s.Sees("Enter: start a new job, step by step")
	s.Press("\r\r\r\r\r\r\r\r") // and a hand that leans on the key when it is
	assert.NotContains(h.t, s.Text(), "What is the site called?")
	s.Press("q\r")
	assert.Equal(h.t, 0, s.Ends())
	did("eight Enters before the first question")

	s = h.types("go")
	s.Sees("What is the site called?")
	s.Press("Hands\r\r\r\r\r\r\r\r") // they are typed ahead of the questions that follow
	s.Sees("Is that every device you installed?")
	did("Enters typed while it surveys")
	s.Press("x\r")
	s.Until("the question again", func(text string) bool { return strings.Count(text, "Is that every device you installed?") == 2 })
	did("an answer that is none of those asked for")
	s.Press("\r")
	s.Sees("Password of the recorder Ledger 16 at 10.61.8.10 (protected)")
	s.Press("\r")
	s.Until("the question again", func(text string) bool { return strings.Count(text, "Password of the recorder") == 2 })
	did("Enter for the recorder's password")
	s.Press("Harbor-Light-42\r")
	s.Sees("Type its last word, or a passphrase of your own")
	s.Press("\r")
	s.Until("the question again", func(text string) bool { return strings.Count(text, "Type its last word") == 2 })
	did("Enter for the passphrase")
	s.Press("quay\r")
	s.Sees("That is not the last word of")
	did("a wrong last word of the passphrase")
	s.Press(lastWord(s) + "\r")
	s.Sees("does not accept this password")
	s.Until("the question again", func(text string) bool { return strings.HasSuffix(text, "(-: not now):") })
	did("the recorder's password mistyped")
	s.Press("Harbour-Light-42\r")
	s.Sees("not decided now · q: stop here)")
	s.Press("7\r")
	s.Until("the question again", func(text string) bool { return strings.Count(text, "Which are the site's?") == 2 })
	did("a number that is not on the list")
	s.Press("\r")
	s.Sees("$ janustat leave 02:e4:42:00:01:77")
	did("Enter where a neighbour's device is listed")
	s.Sees("have no name yet")
	s.Press("\r")
	s.Sees("recorder channels: 2 cameras on the free channels of R01")
	s.Sees("Write that into the job sheet?") // what is typed before it is forgotten
	s.Press("\r")
	s.Sees("Type 3 to set up 3 devices")
	before := h.wrote()
	for _, wrong := range []struct{ keys, mistake string }{{"\r", "Enter where writing begins"}, {"y\r", "y in the place of the number of devices"}, {"4\r", "a wrong number of devices"}} {
		n := strings.Count(s.Text(), "Type 3 to set up 3 devices")
		s.Press(wrong.keys)
		s.Until("the question again", func(text string) bool { return strings.Count(text, "Type 3 to set up 3 devices") > n })
		did(wrong.mistake)
	}
	assert.Equal(h.t, before, h.wrote(), "nothing was written by any of those")
	s.Press("\x03")
	assert.Equal(h.t, 1, s.Ends())
	s.AsItWas()
	did("Ctrl-C at a question")

	h.dir = filepath.Join(h.dir, "hands")
	h.env = append(h.env, "JANUSTAT_JOB="+h.dir)
	s = h.types("go")
	s.Sees("have no name yet")
	s.Press("\r")
	s.Sees("Type 3 to set up 3 devices")
	s.Press("q\r")
	assert.Equal(h.t, 0, s.Ends())
	did("q, and the next day")
	assert.Equal(h.t, before, h.wrote())
}

// commands makes those of the single commands.
func (h *hands) commands() {
	s := h.types("key", "list")
	s.Sees("passphrase of the job's keyring")
	s.Press("four gulls over watre\r")
	s.Sees("does not open the keyring: once more")
	// What comes in the moment in which typed-ahead keys are forgotten is forgotten with them (tty_ioctl, TCFLSH),
	// Ctrl-C too: a hand presses it when it sees the question.
	s.Until("the question again", func(text string) bool { return strings.Count(text, "passphrase of the job's keyring") == 2 })
	s.Press("\x03")
	s.Ends()
	h.tried["the passphrase mistyped"] = true
	require.NoError(h.t, os.Remove(filepath.Join(h.dir, "keyring.age")))
	h.env = append(h.env, "JANUSTAT_PASSPHRASE=ferry at quillmere")
	before := h.wrote()
	h.at("a word of another trade (`scan`)", 2, "`janustat survey` is what you want", "scan")
	h.at("`C1` for `C01`", 0, "C01", "show", "C1")
	h.at("a time without a unit (`--for 3`)", 2, "--for 3: give the unit: 3s for seconds", "survey", "--for", "3")
	h.at("a tag that is none", 2, "C99", "show", "C99")
	h.at("a column that is none", 2, "there is no column \"tgs\"", "list", "--columns", "tgs")
	h.at("`key set` to give a camera a new password", 2, "janustat key change", "key", "set", "C01", "Quay-4711")
	h.at("`commission` in a script, without `--yes`", 2, "There is no terminal to ask on: give --yes", "commission")
	h.at("a wrong device left out", 0, "C02", "leave", "C02", "--yes")
	h.at("", 0, "1 device", "take", "VD002", "--yes")
	h.at("", 0, "allotted", "allot")
	h.at("a wrong name", 0, "", "name", "C02", "Kay")
	h.at("", 0, "", "name", "C02", "Quay")
	h.at("tags swapped the wrong way", 0, "", "swap", "C01", "C02", "--yes")
	h.at("", 0, "taken back", "undo", "--yes")
	h.at("a device forgotten", 0, "forgotten", "forget", "C02", "--yes")
	h.at("", 0, "taken back", "undo", "--yes")
	h.at("a planner's list that is none", 2, "plan.pdf", "schedule", "plan.pdf")
	sheet := filepath.Join(h.dir, "jobsheet.yaml")
	good, err := os.ReadFile(sheet)
	require.NoError(h.t, err)
	require.NoError(h.t, os.WriteFile(sheet, append([]byte("nmaes: {C01: Quay}\n"), good...), 0o600))
	h.at("a slip in the job sheet", 2, "line 1, column 1", "list")
	require.NoError(h.t, os.WriteFile(sheet, good, 0o600))
	assert.Equal(h.t, before, h.wrote(), "nothing was written by any of those")

	h.at("the neighbour's device taken", 0, "1 device taken", "take", "02:e4:42:00:01:77", "--yes")
	h.at("", 0, "right where it is", "allot")
	c := exec.Command(driver.Built(h.t), "key", "set", "R01")
	c.Dir, c.Stdin = h.dir, strings.NewReader("Harbour-Light-42\n")
	c.Env = append(append(os.Environ(), "JANUSTAT_STATE="+filepath.Join(h.dir, "state")), h.env...)
	out, err := c.CombinedOutput()
	require.NoError(h.t, err, string(out))
	h.at("`prove` before anything is set up", 1, "0 of 4 devices proved, 4 not.", "prove", "--quiet")
	h.at("", 0, "done", "commission", "--yes", "--quiet")
	out2 := h.at("", 0, "", "list", "--columns", "tag,mac", "--json")
	till := regexp.MustCompile(`"tag": "(C\d+)"[^}]*?"mac": "02:e4:42:00:01:77"`).FindStringSubmatch(out2)
	require.NotNil(h.t, till, out2)
	h.at("", 0, "back as found", "putback", till[1], "--yes")
	at, _, _ := h.bench.Device("till").Look()
	assert.Equal(h.t, "10.61.9.77/23", at.String())
	before = h.wrote()
	h.at("`restore` of a device that was not reset", 1, "was not seen fresh within 1s", "restore", "C01", "--for", "1s", "--yes")
	h.at("`commission` a second time", 0, "0 writes", "commission", "--yes")
	assert.Equal(h.t, before, h.wrote())
	for name, mistyped := range map[string]string{"another tag typed for `reset`": "C02\n", "Enter for `reset`": "\n"} {
		s := h.types("reset", "C01")
		s.Sees("Type its tag to go ahead")
		s.Press(strings.ReplaceAll(mistyped, "\n", "\r"))
		assert.Equal(h.t, 1, s.Ends(), name)
		s.Sees("nothing was changed")
		h.tried[name] = true
	}
	s = h.types("key", "change", "all")
	s.Sees("Type 3 to go ahead")
	s.Press("y\r")
	assert.Equal(h.t, 1, s.Ends())
	s.Sees("nothing was changed")
	h.tried["y where passwords are changed"] = true
	assert.Equal(h.t, before, h.wrote(), "nothing was written by any of those")
	h.env = append(h.env, "JANUSTAT_JOB=", "JANUSTAT_STATE="+filepath.Join(h.dir, "state"))
	h.dir = h.t.TempDir()
	s = h.types("go")
	s.Sees("Continue the last one, in ")
	s.Press("\r")
	s.Sees("$ janustat ")
	s.Press("\x03")
	s.Ends()
	h.tried["the shell in another folder"] = true
}
