package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What was noted against a device's keys can be forgotten, by name; tries count as before.
func TestKeysAreOfferedAgain(t *testing.T) {
	t.Parallel()
	c := hire(t, mumbling+`  - {id: old, model: verrine-bullet, mac: "02:e4:41:00:02:01", serial: B1, restart: 1s, password: Earlier-work-9, address: 10.61.8.77/23}
`, "--subnet", "10.61.8.0/23")
	c.must("survey", "--quiet", "--for", "3s")
	c.must("take", "02:e4:41:00:02:01", "--yes")
	code, _, errs := c.run("Not-this-one-7\nNot-this-one-7\n", "key", "add", "--user", "admin")
	assert.Equal(t, ExitDone, code, errs)
	assert.Contains(t, c.must("key", "again", "C01"), "nothing was noted")
	code, _, errs = c.run("", "key", "try", "C01")
	assert.Equal(t, ExitNeeds, code, errs)
	code, _, errs = c.run("", "key", "try", "C01")
	assert.Contains(t, errs, "no key of earlier work is left to try")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, c.must("key", "again", "C01"), "forgotten of C01: which keys it has refused")
	code, _, errs = c.run("", "key", "try", "C01")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, errs, "no try is left this hour", "tries that were made count as before")
}

// A factory password that was replaced is offered once when it is proved to be in vain, though
// it is in the job sheet and among those that the device had.
func TestAReplacedFactoryPasswordIsOfferedOnce(t *testing.T) {
	t.Parallel()
	c := hire(t, `
site: Factory
seed: 1
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: factory, model: tallow-cube, mac: "02:7a:11:00:05:01", serial: E1, password: Factory-111, restart: 1s}
`, "--subnet", "10.61.8.0/23")
	c.sheet("password: {factory: [{user: admin, password: Factory-111}]}\n")
	c.must("survey", "--quiet", "--for", "1s")
	c.must("take", "02:7a:11:00:05:01", "--yes")
	c.must("allot")
	assert.Contains(t, c.must("commission", "--yes", "--quiet"), "1 done, 0 need you")
	assert.Contains(t, c.must("prove", "--quiet"), "1 of 1 devices proved: every check passed. ")
}

// A device that keeps its factory password is never done, proved or handed over as if it had
// one of its own, however often it is tried.
func TestAKeptFactoryPasswordIsNeverDone(t *testing.T) {
	t.Parallel()
	for _, m := range []string{"keeps factory", "keeps factory in silence"} {
		t.Run(m, func(t *testing.T) {
			t.Parallel()
			c := hireForHours(t, `
site: Factory
seed: 1
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: factory, model: tallow-cube, mac: "02:7a:11:00:05:01", serial: E1, password: Factory-111, restart: 1s, manners: [`+m+`]}
`, "--subnet", "10.61.8.0/23")
			c.sheet("password: {style: each, factory: [{user: admin, password: Factory-111}]}\n")
			c.must("survey", "--quiet", "--for", "1s")
			c.must("take", "02:7a:11:00:05:01", "--yes")
			c.must("allot")
			for range 3 {
				code, out, _ := c.run("", "commission", "--yes", "--quiet")
				assert.Equal(t, ExitNeeds, code)
				assert.Contains(t, out, "0 done, 1 needs you")
				c.anHourLater()
				code, out, _ = c.run("", "prove", "--quiet")
				assert.Equal(t, ExitNeeds, code)
				assert.NotContains(t, out, "1 of 1 devices proved")
				c.anHourLater()
			}
			var list []struct{ Access string }
			c.json(&list, "list")
			assert.Equal(t, "factory", list[0].Access)
			code, out, errs := c.run("", "handover")
			assert.Contains(t, out+errs, "factory", "code %d", code)
		})
	}
}
