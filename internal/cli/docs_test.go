package cli

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/checks"
	"janustat/core/settings"
)

// rowsOf replaces the rows under a head in a document, up to the first line that is none, where
// UPDATE_DOCS is set; else it says whether they are these.
func rowsOf(t *testing.T, path, head string, rows []string) {
	t.Helper()
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	before, after, ok := strings.Cut(string(data), head+"\n")
	require.True(t, ok, "%s has no %s", path, head)
	lines := strings.SplitAfter(after, "\n")
	n := 0
	for n < len(lines) && strings.HasPrefix(lines[n], "|") {
		n++
	}
	want := strings.Join(rows, "\n") + "\n"
	if os.Getenv("UPDATE_DOCS") != "" {
		require.NoError(t, os.WriteFile(path, []byte(before+head+"\n"+want+strings.Join(lines[n:], "")), 0o644))
		return
	}
	assert.Equal(t, want, strings.Join(lines[:n], ""), "%s: UPDATE_DOCS=1 go test ./internal/cli -run Documented", path)
}

// The columns of a proof, and what mends a failed check, are documented from the list that they are
// made from.
func TestChecksAreDocumented(t *testing.T) {
	rows := []string{"| --- | --- | --- | --- |"}
	for _, c := range checks.All {
		rows = append(rows, fmt.Sprintf("| %s | %s | %s | %s |", strings.ToUpper(c.Head), c.Name, c.Holds, checks.Mend(c.Name, "C01").Text(command)))
	}
	rowsOf(t, "../../docs/checks.md", "| column | check | holds when | mended by |", rows)
}

// What the job sheet says of a setting is documented from the setting's own words.
func TestSettingsAreDocumented(t *testing.T) {
	rows := []string{"| --- | --- | --- | --- |"}
	for _, s := range settings.All {
		require.NoError(t, s.Check(strings.SplitN(s.Form+"`", "`", 3)[1]), "the example in its form")
		rows = append(rows, fmt.Sprintf("| `%s` | %s | %s | %s |", s.Key, s.Form, s.Meaning, s.Otherwise))
	}
	rowsOf(t, "../../docs/jobsheet.md", "| setting | form | meaning | left out |", rows)
}
