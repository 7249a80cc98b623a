package cli

import (
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/job"
)

// Every text of a register that came from somebody else is put through every command that
// shows or exports it: nothing of it reaches a terminal, a file of hosts or a path as it was.
func TestARegisterOfSomebodyElses(t *testing.T) {
	t.Parallel()
	c := hire(t, mumbling+`  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 2, restart: 1s}
`, "--subnet", "10.61.8.0/23")
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	c.must("note", "C01", "place=quay")
	c.must("prove", "--quiet")
	c.must("handover", "--quiet")
	earlier := filepath.Join(t.TempDir(), "earlier")
	require.NoError(t, os.CopyFS(earlier, os.DirFS(filepath.Join(c.dir, "handover"))))

	const poison = "\x1b]0;owned\x07\u202e../../x\r\n\u0085'=1+1\"<b>boo"
	db, err := sql.Open("sqlite", filepath.Join(c.dir, job.RegisterFile))
	require.NoError(t, err)
	for _, q := range []string{
		"UPDATE device SET why=why||?1, endpoint=endpoint||?1",
		"UPDATE device SET facts=json_set(facts, '$.make', ?1, '$.model', ?1, '$.serial', ?1, '$.firmware', ?1, '$.name', ?1, '$.host', ?1, '$.registry', ?1, '$.offers', json_array(?1))",
		"UPDATE device SET as_left=json_set(as_left, '$.name', ?1, '$.timezone', ?1), as_found=json_set(as_found, '$.name', ?1)",
		"UPDATE device SET alarm=?1 WHERE tag='C02'",
		"UPDATE journal SET intent=intent||?1, detail=?1",
		"UPDATE note SET value=?1",
		"UPDATE try SET user=?1",
		"UPDATE proof SET checks=json_set(checks, '$[0].want', ?1, '$[0].got', ?1, '$[0].ok', json('false'))",
	} {
		_, err := db.ExecContext(t.Context(), q, poison)
		require.NoError(t, err, q)
	}
	require.NoError(t, db.Close())
	clean := func(what, text string) {
		for _, bad := range []string{"\x1b", "\x07", "\u202e", "\u0085", "\r\n'=1"} {
			assert.NotContains(t, text, bad, what)
		}
	}
	for _, args := range [][]string{
		{},
		{"list", "--all"},
		{"list", "--csv", "--columns", "tag,name,serial,make,model,firmware,place"},
		{"list", "--json"},
		{"show", "C01"},
		{"show", "C01", "--json"},
		{"log", "C01"},
		{"log", "C02"},
		{"key", "list"},
		{"compare", earlier},
		{"commission", "--dry-run"},
		{"allot"},
		{"handover", "--quiet"},
		{"take", "C01", "--yes"},
	} {
		_, out, errs := c.run("", args...)
		clean(strings.Join(args, " "), out+errs)
	}
	seen := 0
	require.NoError(t, filepath.WalkDir(c.dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasSuffix(path, ".db") || strings.Contains(path, ".db-") {
			return err
		}
		rel, err := filepath.Rel(c.dir, path)
		require.NoError(t, err)
		clean("a path", rel)
		switch filepath.Ext(path) {
		case ".csv", ".json", ".html", ".txt", "", ".yaml":
			data, err := os.ReadFile(path)
			require.NoError(t, err)
			text := string(data)
			clean(rel, text)
			if at := strings.Index(text, "<b>boo"); at >= 0 && filepath.Ext(path) == ".html" {
				assert.Fail(t, "a tag of HTML", "%s: %s", rel, text[max(0, at-200):min(len(text), at+40)])
			}
			seen++
		}
		return nil
	}))
	assert.Greater(t, seen, 4)
	assert.NoFileExists(t, filepath.Join(filepath.Dir(c.dir), "x"))
}

// So is every text of a job sheet: what would be more than text somewhere is refused, with
// its place.
func TestASheetOfSomebodyElses(t *testing.T) {
	t.Parallel()
	c := hire(t, mumbling+`  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, restart: 1s}
`, "--subnet", "10.61.8.0/23")
	path := filepath.Join(c.dir, job.SheetFile)
	was, err := os.ReadFile(path)
	require.NoError(t, err)
	for _, more := range []string{
		"names: {C01: \"\\e[2Jquay\"}\n", "names: {\"C\\e[2J01\": quay}\n", "names: {C01: \"a\\nb\"}\n", "timezone: \"\\u202eUTC\"\n",
		"\"x\\u0007\": 1\n", "channels: {\"R\\e[1m\": auto}\n", "survey: {makers: {\"a\\u2028\": b}}\n", "users: [{name: \"a\\x85\", role: user}]\n",
	} {
		require.NoError(t, os.WriteFile(path, append(was[:len(was):len(was)], more...), 0o600))
		for _, args := range [][]string{{}, {"list"}, {"survey", "--quiet"}, {"allot"}} {
			code, out, errs := c.run("", args...)
			assert.Equal(t, ExitUsage, code, "%q %v", more, args)
			assert.Contains(t, errs, "has a character that no name has", more)
			for _, bad := range []string{"\x1b", "\u202e", "\x07", "\u2028", "\u0085"} {
				assert.NotContains(t, out+errs, bad, more)
			}
		}
	}
}
