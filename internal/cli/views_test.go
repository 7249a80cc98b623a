package cli

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/pem"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
	"filippo.io/age/armor"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

const seen = `
site: Seen
seed: 3
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: good, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A1, restart: 1s}
  - {id: eye, model: oakhollow-eye, mac: "02:0a:c0:00:03:01", serial: B1, restart: 1s}
  - {id: black, model: verrine-bullet, mac: "02:e4:41:00:02:01", serial: C1, restart: 1s, manners: [black still]}
  - {id: frozen, model: tallow-cube, mac: "02:7a:11:00:04:01", serial: D1, restart: 1s, manners: [frozen still]}
  - {id: none, model: verrine-dome, mac: "02:e4:42:00:01:05", serial: E1, restart: 1s, manners: [no still]}
`

// Every camera is looked through; what is wrong with a picture is told, and what a person
// noted is in the record.
func TestViewsAndNotes(t *testing.T) {
	t.Parallel()
	c := hire(t, seen, "--subnet", "10.61.8.0/23")
	c.sheet("names: {A1: Quay}\n")
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	code, out, errs := c.run("", "views", "--quiet")
	assert.Equal(t, ExitNeeds, code, errs)
	assert.Contains(t, out, ": black\n")
	assert.Contains(t, out, ": frozen: the same a moment later\n")
	assert.Contains(t, out, ": none: it offers no still")
	assert.Contains(t, out, "2 good pictures of 5 cameras")
	for _, name := range []string{"views.png", "views.html", "C01.jpg"} {
		_, err := os.Stat(filepath.Join(c.dir, "views", name))
		require.NoError(t, err)
	}
	c.must("note", "A1", "place=ticket hall", "port=SW1/4", "Cable=blue")
	assert.Contains(t, c.must("note", "A1"), "cable: blue")
	c.must("note", "A1", "cable=")
	assert.NotContains(t, c.must("note", "A1"), "cable")
	for _, bad := range [][]string{{"A1", "place"}, {"A1", "mac=x"}, {"A1", "1x=y"}, {}} {
		code, _, _ := c.run("", append([]string{"note"}, bad...)...)
		assert.Equal(t, ExitUsage, code, bad)
	}
	c.must("prove", "--quiet")
	c.must("handover")
	csv, err := os.ReadFile(filepath.Join(c.dir, "handover", "register.csv"))
	require.NoError(t, err)
	assert.Contains(t, string(csv), "Quay,ticket hall,Verrine")
	assert.Contains(t, string(csv), ",SW1/4,")
	page, err := os.ReadFile(filepath.Join(c.dir, "handover", "handover.html"))
	require.NoError(t, err)
	assert.Contains(t, string(page), "data:image/jpeg;base64,")
}

// A planner's list flows in: names into the sheet, whose comments stay, the rest into the
// notes and from there into every document.
func TestAScheduleFlowsIn(t *testing.T) {
	t.Parallel()
	c := hire(t, seen, "--subnet", "10.61.8.0/23")
	c.sheet("names:   # by the planner\n  A1: Quay\n")
	c.prepare()
	plan := filepath.Join(t.TempDir(), "plan.csv")
	require.NoError(t, os.WriteFile(plan, []byte("Serial;Name;Location;Switch;Port;Model;Lens\nA1;Other;Pole 3;SW1;4;Dome;4 mm\nD1;=Gate: \"east\";;;;;\nZ9;Nobody;;;;;\n"), 0o600))
	code, out, errs := c.run("", "schedule", plan, "--yes")
	assert.Equal(t, ExitNeeds, code, errs)
	for _, want := range []string{"Headings: Serial as serial, Name as name, Location as place", "Kept as fields of their own: Model, Lens", "line 4 means no device: Nobody Z9", "2 rows taken in; 1 name written", "other names already, which stand: C"} {
		assert.Contains(t, out, want)
	}
	sheet, err := os.ReadFile(filepath.Join(c.dir, "jobsheet.yaml"))
	require.NoError(t, err)
	assert.Contains(t, string(sheet), "names:   # by the planner\n  02:7a:11:00:04:01: \"=Gate: \\\"east\\\"\"\n  A1: Quay\n")
	notes := c.must("note", "A1")
	for _, want := range []string{"place: Pole 3", "port: SW1/4", "planned model: Dome", "lens: 4 mm"} {
		assert.Contains(t, notes, want)
	}
	c.must("commission", "--yes", "--quiet")
	assert.Contains(t, c.must("list"), "D1")
	c.must("handover")
	csv, err := os.ReadFile(filepath.Join(c.dir, "handover", "register.csv"))
	require.NoError(t, err)
	assert.Contains(t, string(csv), `"'=Gate: ""east"""`)
	assert.Contains(t, string(csv), "lens,planned model\r\n")
}

// A service visit begins from the pack of an earlier job, and tells what changed since.
func TestAServiceVisitBeginsFromAPack(t *testing.T) {
	t.Parallel()
	c := hire(t, seen, "--subnet", "10.61.8.0/23")
	c.sheet("names: {A1: Quay}\n")
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	c.must("note", "A1", "place=Hall")
	assert.Contains(t, c.must("handover", "--since", "2026-01-01"), " since 2026-01-01")
	done, err := os.ReadFile(filepath.Join(c.dir, "handover", "changes.csv"))
	require.NoError(t, err)
	assert.Contains(t, string(done), "moved to 10.61.8.")
	key := filepath.Join(t.TempDir(), "key")
	_, mine, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(mine, "")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(block), 0o600))
	c.must("handover", "--since", "2026-01-01", "--sign", key)
	c.must("handover", "--since", "2026-01-01")
	assert.FileExists(t, filepath.Join(c.dir, "handover", "manifest.json.sig"), "nothing has changed, so it fits")
	c.must("note", "A1", "remark=painted")
	c.must("handover")
	assert.NoFileExists(t, filepath.Join(c.dir, "handover", "manifest.json.sig"), "a signature that does not fit is none")
	assert.NoFileExists(t, filepath.Join(c.dir, "handover", "changes.csv"), "nor is there a table that is not of this pack")
	client, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	c.must("handover", "--passwords-to", client.Recipient().String())
	sealed, err := os.ReadFile(filepath.Join(c.dir, "handover", "passwords.age"))
	require.NoError(t, err)
	plain, err := age.Decrypt(armor.NewReader(bytes.NewReader(sealed)), client)
	require.NoError(t, err)
	table, err := io.ReadAll(plain)
	require.NoError(t, err)
	assert.Contains(t, string(table), strings.TrimSpace(c.must("key", "show", "A1")))
	manifest, err := os.ReadFile(filepath.Join(c.dir, "handover", "manifest.json"))
	require.NoError(t, err)
	assert.Contains(t, string(manifest), fmt.Sprintf("%x", sha256.Sum256(sealed)), "the manifest vouches for it")
	c.must("handover")
	again, err := os.ReadFile(filepath.Join(c.dir, "handover", "manifest.json"))
	require.NoError(t, err)
	assert.Equal(t, string(manifest), string(again), "it is still there, and still in the manifest")
	code, _, errs := c.run("", "handover", "--since", "yesterday")
	assert.Contains(t, errs, "2026-11-01")
	assert.Equal(t, ExitUsage, code)
	first := c.dir
	c.dir = filepath.Join(filepath.Dir(first), "service")
	c.must("begin", c.dir, "--from", filepath.Join(first, "handover"))
	assert.Contains(t, c.must("list"), "A1")
	assert.Contains(t, c.must("note", "A1"), "place: Hall")
	sheet, err := os.ReadFile(filepath.Join(c.dir, "jobsheet.yaml"))
	require.NoError(t, err)
	assert.Contains(t, string(sheet), "  subnet: 10.61.8.0/23\n")
	assert.Contains(t, string(sheet), "  02:e4:42:00:01:01: Quay\n")
	kept := filepath.Join(filepath.Dir(first), "kept")
	require.NoError(t, os.Mkdir(kept, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(kept, "jobsheet.yaml"), sheet, 0o600))
	c.dir = kept
	assert.Contains(t, c.must("begin", c.dir, "--from", filepath.Join(first, "handover")), "the job sheet that was there is kept")
	assert.Contains(t, c.must("note", "A1"), "place: Hall", "a sheet that is there already keeps no record out")
	c.dir = filepath.Join(filepath.Dir(first), "service")
	c.must("survey", "--quiet")
	assert.NotContains(t, c.must("list"), "fresh")
	assert.Contains(t, c.must("compare", filepath.Join(first, "handover"), first), "No differences.")
	c.dir = first
	c.must("note", "A1", "place=Stair")
	out := c.must("compare", filepath.Join(first, "handover"), first)
	assert.Regexp(t, `C\d+ +place +Hall +Stair`, out)
	code, _, errs = c.run("", "begin", filepath.Join(filepath.Dir(first), "third"), "--from", filepath.Join(first, "jobsheet.yaml"))
	assert.Equal(t, ExitUsage, code)
	assert.Contains(t, errs, "it is not a handover record")
}
