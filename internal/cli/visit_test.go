package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const visited = `
site: Visited
seed: 6
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: rec, model: brightmoor-recorder, mac: "02:b7:16:00:04:01", serial: LG1, restart: 1s}
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: VD, count: 2, restart: 1s}
  - {id: door, model: oakhollow-door, mac: "02:0a:c0:00:05:01", serial: OPS-1, restart: 1s}
  - {id: hall, model: oakhollow-indoor, mac: "02:0a:c0:00:05:02", serial: OHS-1, restart: 1s}
`

// A visit begins from the record and its keys, in whatever form: with a compare that finds
// nothing, and a commission that writes nothing.
func TestAVisitBeginsQuietly(t *testing.T) {
	t.Parallel()
	c := hire(t, visited, "--subnet", "10.61.8.0/23")
	c.sheet("channels: auto\nintercoms: {D01: {I01: {floor: 2, flat: 201}}}\nreporting: none\nnames: {C01: Quay, C02: Ramp}\ntimezone: GMT0\nblocks: {camera: 10.61.8.60-10.61.8.80}\nusers: [{name: guard, role: user, on: [camera]}, {name: boss, role: operator, on: [C01]}]\n")
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	c.must("prove", "--quiet")
	c.must("note", "C01", "place=Hall")
	id, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	own := filepath.Join(t.TempDir(), "me.key")
	require.NoError(t, os.WriteFile(own, []byte(id.String()+"\n"), 0o600))
	c.must("handover", "--passwords-to", id.Recipient().String())
	pack := filepath.Join(c.dir, "handover")
	first := c.dir
	for _, form := range []string{"register.json", "register.xlsx", "register.csv"} {
		from := filepath.Join(pack, form)
		c.dir = filepath.Join(t.TempDir(), "visit")
		more := []string{}
		if form == "register.csv" {
			more = append(more, "--subnet", "10.61.8.0/23") // it has the devices alone
		}
		_, _, errs := c.run("", append([]string{"begin", c.dir, "--from", from, "--passwords", filepath.Join(pack, "passwords.age"), "--identity", own}, more...)...)
		assert.Contains(t, errs, "taken over onto the job's keyring", form)
		assert.Contains(t, c.must("compare", from, c.dir), "No differences.", form)
		if form == "register.csv" {
			c.sheet("channels: {R01: {1: C01, 2: C02}}\nintercoms: {D01: {I01: {floor: 2, flat: 201}}}\ntimezone: GMT0\nusers: [{name: guard, role: user, on: [camera]}]\n")
		}
		c.must("survey", "--quiet")
		if form == "register.csv" {
			continue
		}
		c.must("allot")
		c.writesNothing()
		assert.Contains(t, c.must("prove", "--quiet"), "5 of 5 devices proved", form)
		assert.Contains(t, c.must("compare", from, c.dir), "No differences.", form)
	}
	c.dir = first
	_, _, errs := c.run("", "begin", filepath.Join(t.TempDir(), "x"), "--from", pack, "--passwords", filepath.Join(pack, "passwords.age"), "--identity", filepath.Join(pack, "register.csv"))
	assert.Contains(t, errs, "contains no age key")
	assert.False(t, strings.Contains(errs, id.String()))
}
