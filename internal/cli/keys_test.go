package cli

import (
	"encoding/base64"
	"encoding/csv"
	"encoding/hex"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
	"filippo.io/age/armor"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
	"janustat/internal/job"
)

// rulesSite has two devices of each password rule that the bench knows; what the
// standard has no words for is enforced without being published.
func rulesSite() string {
	var b strings.Builder
	b.WriteString("site: Rules\nseed: 3\nlaptop: {mac: \"02:1a:70:00:00:01\", addresses: [10.61.8.200/23]}\nmodels:\n")
	rules := map[string]string{
		"short": "{min: 8, max: 8}", "long": "{min: 16, max: 16}", "two": "{min: 8, classes: 2}", "three": "{min: 8, classes: 3}",
		"four": "{min: 10, classes: 4}", "nouser": "{min: 8, no_user: true}", "norepeat": "{min: 8, no_repeat: true, silent: true}",
		"nospecial": "{min: 8, no_special: true}", "quiet": "{min: 12, upper: 2, digits: 2, special: 2, silent: true}",
	}
	names := []string{"short", "long", "two", "three", "four", "nouser", "norepeat", "nospecial", "quiet"}
	for _, n := range names {
		b.WriteString("  " + n + ": {make: Tallow, name: Cube, kind: camera, firmware: '1', factory: 192.168.77.20/24, auth: md5, dialect: default, path: /service, restart: 1s, fault_status: 400, rules: " + rules[n] + "}\n")
	}
	b.WriteString("devices:\n")
	for i, n := range names {
		b.WriteString("  - {id: " + n + ", model: " + n + ", mac: \"02:7a:11:00:" + hex.EncodeToString([]byte{byte(i + 1)}) + ":01\", serial: " + n + "-, count: 2}\n")
	}
	return b.String()
}

func (c *crew) sheet(more string) {
	path := filepath.Join(c.dir, job.SheetFile)
	text, err := os.ReadFile(path)
	require.NoError(c.t, err)
	require.NoError(c.t, os.WriteFile(path, append(text, more...), 0o600))
}

func TestEveryPasswordRuleIsMetByOneCommission(t *testing.T) {
	t.Parallel()
	c := hire(t, rulesSite(), "--subnet", "10.61.8.0/23")
	c.sheet("password: {style: each}\nusers: [{name: viewer, role: user}]\n")
	c.must("survey", "--quiet")
	c.must("take", "all", "--yes")
	c.must("allot")
	assert.Contains(t, c.must("commission", "--yes", "--quiet"), "18 done, 0 need you")
	assert.Contains(t, c.must("key", "change", "all", "--yes", "--quiet"), "18 done, 0 need you")
	// Before it is proved, when the old ones are offered on purpose.
	for _, e := range c.logs.Events() {
		assert.NotEqual(t, bench.EventWrongPassword, e.What, "%+v", e)
	}
	assert.Contains(t, c.must("prove", "--quiet"), "18 of 18 devices proved")
	seen := map[string]bool{}
	for _, d := range []string{"C01", "C02", "C10", "C18"} {
		p := strings.TrimSpace(c.must("key", "show", d))
		assert.False(t, seen[p], "each has its own")
		seen[p] = true
	}
}

const keySite = `
site: Keys
seed: 5
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: fresh, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 2}
  - {id: factory, model: verrine-dome, mac: "02:e4:42:00:02:01", serial: B1, password: Factory-111, address: 192.168.77.30/24}
  - {id: earlier, model: oakhollow-door, mac: "02:0a:c0:00:05:01", serial: C1, password: Earlier-222}
  - {id: lost, model: verrine-bullet, mac: "02:e4:41:00:02:01", serial: D1, password: Nobody-Knows-3, address: 192.168.77.31/24}
`

func TestKeysOfFactoriesAndOfEarlierWork(t *testing.T) {
	t.Parallel()
	c := hire(t, keySite, "--subnet", "10.61.8.0/23")
	c.sheet("password: {style: each, factory: [{user: admin, password: Factory-111}]}\n")
	c.must("survey", "--quiet")
	c.must("take", "all", "02:e4:42:00:02:01", "02:0a:c0:00:05:01", "02:e4:41:00:02:01", "--yes")
	c.must("allot")
	code, out, errs := c.run("Earlier-222\n", "key", "add")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "1 key of earlier work")
	code, out, _ = c.run("", "commission", "--yes", "--quiet")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, out, "4 done, 1 needs you")
	assert.Contains(t, out, "none on the keyring opens it")
	listed := c.must("key", "list")
	assert.Regexp(t, `C0\d +02:e4:42:00:02:01 +admin +changed`, listed)
	assert.Regexp(t, `D01 +02:0a:c0:00:05:01 +admin +earlier`, listed)
	assert.Regexp(t, `02:e4:41:00:02:01 +– +none`, listed)

	// Nothing that was refused is offered again, and the budget holds across commands.
	_, mark := c.events(0)
	code, _, errs = c.run("", "key", "try", "D9")
	assert.Equal(t, ExitUsage, code, errs)
	c.run("", "key", "try", "02:e4:41:00:02:01", "--quiet")
	c.run("", "commission", "--yes", "--quiet")
	since, _ := c.events(mark)
	wrong := map[string]int{}
	for _, e := range c.logs.Events() {
		if e.What == bench.EventWrongPassword {
			wrong[e.Host]++
		}
		assert.NotEqual(t, bench.EventLocked, e.What)
	}
	for _, e := range since {
		assert.NotEqual(t, bench.EventWrite, e.What, "%+v", e)
	}
	for host, n := range wrong {
		assert.LessOrEqual(t, n, 2, "%s was offered more wrong passwords than its budget", host)
	}
	c.must("leave", "02:e4:41:00:02:01", "--yes")
	// What a proving was refused is not offered again, even where a user is planned meanwhile.
	path := filepath.Join(c.dir, job.SheetFile)
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	c.sheet("users: [{name: viewer, role: user}]\n")
	code, out, _ = c.run("", "prove", "--quiet")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, out, "C02 users: should be only admin as administrator, viewer as user, is: no viewer")
	require.NoError(t, os.WriteFile(path, text, 0o600))
	_, mark = c.events(0)
	code, out, _ = c.run("", "prove", "--log-level", "debug")
	assert.Equal(t, ExitNeeds, code, "one password is left for the next hour")
	assert.Contains(t, out, "4 of 4 devices proved: every check passed so far", "the key of earlier work that the factory device refused is one try less")
	since, _ = c.events(mark)
	for _, e := range since {
		assert.NotEqual(t, bench.EventWrongPassword, e.What, "%+v", e)
	}

	// Change: the old keys stay on the keyring, the new ones open.
	before := strings.TrimSpace(c.must("key", "show", "C03"))
	assert.Contains(t, c.must("key", "change", "all", "--yes", "--log-level", "debug"), "4 done, 0 need you")
	after := strings.TrimSpace(c.must("key", "show", "C03"))
	assert.NotEqual(t, before, after)
	code, out, _ = c.run("", "prove", "--quiet")
	assert.Equal(t, ExitNeeds, code, "the old passwords are left for the next hour")
	assert.Contains(t, out, "4 of 4 devices proved: every check passed so far")
	assert.Contains(t, c.must("log", "C03"), "password of admin")

	// Passing on: to the client's own key, and readable by it alone.
	client, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	c.must("key", "share", "--to", client.Recipient().String())
	f, err := os.Open(filepath.Join(c.dir, "handover", "keys.age"))
	require.NoError(t, err)
	defer f.Close()
	plain, err := age.Decrypt(armor.NewReader(f), client)
	require.NoError(t, err)
	table, err := csv.NewReader(plain).ReadAll()
	require.NoError(t, err)
	require.Len(t, table, 5)
	assert.Equal(t, after, table[3][8], "rows are in the order of tags within their kind")
	code, _, errs = c.run("", "key", "share", "--to", "age1nonsense")
	assert.Equal(t, ExitUsage, code, errs)

	// Nothing the program wrote or printed holds a password.
	c.must("handover")
	var secrets []string
	for _, row := range table[1:] {
		secrets = append(secrets, row[8])
	}
	secrets = append(secrets, before, "Earlier-222")
	c.assertHidden(secrets, listed+out+c.must("list", "--all", "--json")+c.must("show", "C03", "--json")+c.must("log", "C03", "--json"))

	code, _, errs = c.run("another phrase\n", "key", "passphrase")
	require.Zero(t, code, errs)
	code, _, errs = c.run("", "key", "show", "C03")
	assert.Equal(t, ExitCould, code)
	assert.Contains(t, errs, "passphrase does not open")
}

// assertHidden searches every file of the job, and what was printed, for
// passwords in plain, base64 and hexadecimal form.
func (c *crew) assertHidden(secrets []string, printed string) {
	t := c.t
	t.Helper()
	texts := map[string]string{"what was printed": printed}
	require.NoError(t, filepath.WalkDir(c.dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || filepath.Base(path) == job.SheetFile {
			return err
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		b, err := io.ReadAll(f)
		texts[path] = string(b)
		return err
	}))
	assert.Greater(t, len(texts), 2)
	for _, s := range secrets {
		require.GreaterOrEqual(t, len(s), 8, "such a password would be found anywhere")
		for _, form := range []string{s, base64.StdEncoding.EncodeToString([]byte(s)), hex.EncodeToString([]byte(s))} {
			for name, text := range texts {
				assert.NotContains(t, text, form, name)
			}
		}
	}
}
