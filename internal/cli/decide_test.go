package cli

import (
	"encoding/csv"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/job"
)

// decided gives the row of a device as `list` has it, by the columns asked for.
func (c *crew) decided(ref, columns string) string {
	c.t.Helper()
	out := c.must("list", "--csv", "--columns", columns, ref)
	rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
	require.NoError(c.t, err)
	require.Len(c.t, rows, 2, out)
	return strings.Join(rows[1], " ")
}

// What a person decides by command is shown first, goes into the job sheet where it belongs
// there, and can be taken back as long as nothing was sent.
func TestDecisionsAndTakingThemBack(t *testing.T) {
	t.Parallel()
	c := hire(t, strings.Replace(joined, "serial: OE", "serial: OE, count: 2", 1), "--subnet", "10.61.8.0/23")
	sheetFile := filepath.Join(c.dir, job.SheetFile)
	c.prepare()

	c.must("name", "C02", "Ticket hall west")
	c.must("note", "C02", "place=west wall", "cable=blue")
	before := c.decided("C02", "tag,mac,name,place,cable,allotted")
	first, second := c.decided("C01", "mac,allotted"), c.decided("C02", "mac,allotted")

	t.Run("swap before anything is set up", func(t *testing.T) {
		out := c.must("swap", "C01", "C02", "--yes")
		assert.Contains(t, out, "C01 and C02 are swapped")
		mac, address, _ := strings.Cut(second, " ")
		_, firstAddress, _ := strings.Cut(first, " ")
		assert.Equal(t, mac+" "+firstAddress, c.decided("C01", "mac,allotted"), "the address goes with the tag")
		assert.Contains(t, c.decided("C02", "mac,allotted"), address)
		assert.Equal(t, "Ticket hall west west wall blue", c.decided("C01", "name,place,cable"), "what was said of the thing stays with it")
		assert.Contains(t, c.must("undo", "--yes"), "taken back: the swap of C01 and C02")
		assert.Equal(t, before, c.decided("C02", "tag,mac,name,place,cable,allotted"))
		code, _, errs := c.run("", "undo", "--yes")
		assert.Equal(t, ExitUsage, code)
		assert.Contains(t, errs, "there is no change to take back")
	})

	t.Run("retag takes the sheet along", func(t *testing.T) {
		text, err := os.ReadFile(sheetFile)
		require.NoError(t, err)
		with := string(text) + "\nchannels: {R01: {1: C03, 2: c04}}  # as agreed\n"
		with = strings.Replace(with, "\nnames:\n", "\nnames:\n  \"C03\": C03 is its name # keep this\n", 1)
		require.NoError(t, os.WriteFile(sheetFile, []byte(with), 0o600))
		c.must("retag", "C03", "c30", "--yes")
		now, err := os.ReadFile(sheetFile)
		require.NoError(t, err)
		assert.Equal(t, strings.NewReplacer("1: C03", "1: C30", `"C03":`, `"C30":`).Replace(with), string(now))
		assert.Contains(t, c.decided("C30", "name"), "C03 is its name")
		c.must("undo", "--yes")
		now, err = os.ReadFile(sheetFile)
		require.NoError(t, err)
		assert.Equal(t, with, string(now))
		require.NoError(t, os.WriteFile(sheetFile, text, 0o600))
	})

	t.Run("a change is not taken back once the sheet was edited", func(t *testing.T) {
		c.must("name", "C05", "Ramp")
		text, err := os.ReadFile(sheetFile)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(sheetFile, append(text, "# a note\n"...), 0o600))
		code, _, errs := c.run("", "undo", "--yes")
		assert.Equal(t, ExitUsage, code)
		assert.Contains(t, errs, "jobsheet.yaml was edited since then")
	})

	t.Run("forget, and what comes back with undo", func(t *testing.T) {
		was := c.must("show", "C02", "--json")
		c.must("forget", "C02", "--yes")
		code, _, errs := c.run("", "show", "C02")
		assert.Equal(t, ExitUsage, code)
		assert.Contains(t, errs, "no such device")
		c.must("undo", "--yes")
		assert.Equal(t, was, c.must("show", "C02", "--json"))
		assert.Equal(t, "west wall", c.decided("C02", "place"))
	})

	t.Run("what it will not do", func(t *testing.T) {
		for _, x := range []struct {
			args []string
			says string
		}{
			{[]string{"swap", "C01", "C01"}, "are one device"},
			{[]string{"swap", "C01", "R01"}, "not of one kind"},
			{[]string{"retag", "C01", "C02"}, "`janustat swap C01 C02` changes the two"},
			{[]string{"retag", "C01", "R09"}, "take C and two to four digits"},
			{[]string{"retag", "C01", "C 9"}, "take C and two to four digits"},
		} {
			code, _, errs := c.run("", append(x.args, "--yes")...)
			assert.Equal(t, ExitUsage, code, x.args)
			assert.Contains(t, errs, x.says)
		}
	})

	t.Run("nothing is taken back once something was sent", func(t *testing.T) {
		c.must("swap", "C01", "C02", "--yes")
		code, _, errs := c.run("", "commission", "C01", "--yes", "--quiet")
		require.Equal(t, ExitDone, code, errs)
		code, _, errs = c.run("", "undo", "--yes")
		assert.Equal(t, ExitUsage, code)
		assert.Contains(t, errs, "something was sent to C01 since then")
	})

	t.Run("a change that fails leaves the one before to be taken back", func(t *testing.T) {
		c.must("note", "C03", "cable=red")
		sheet, err := os.ReadFile(sheetFile)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(sheetFile, []byte(strings.Replace(string(sheet), "# blocks:", "blocks: {camera: 10.61.8.41}\n# blocks:", 1)), 0o600))
		code, _, errs := c.run("", "allot", "--again", "kind=camera")
		require.Equal(t, ExitUsage, code, errs)
		require.NoError(t, os.WriteFile(sheetFile, sheet, 0o600))
		assert.Contains(t, c.must("undo", "--yes"), "taken back: the note of C03")
	})

	t.Run("selectors", func(t *testing.T) {
		assert.NotContains(t, c.must("list", "C02"), "settled", "it was not meant")
		code, out, errs := c.run("", "commission", "C01", "C02", "--yes", "--quiet")
		require.Equal(t, ExitDone, code, errs)
		assert.Contains(t, out, "2 done")
		code, out, errs = c.run("", "prove", "C01", "--quiet")
		require.Equal(t, ExitDone, code, errs)
		assert.Contains(t, out, "1 of 1 devices proved")
		code, _, errs = c.run("", "prove", "kind=camera", "make=Nobody", "--quiet")
		assert.Equal(t, ExitNeeds, code)
		assert.Contains(t, errs, "no device of the job fits")
		assert.Contains(t, c.must("handover", "C01"), "1 device on record")
		assert.DirExists(t, filepath.Join(c.dir, "handover-part"))
		assert.NoDirExists(t, filepath.Join(c.dir, job.HandoverDir), "a part is not the record of the job")
	})
}
