package cli

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"janustat/internal/bench"
)

// demanding is a device whose rules, which it does not publish, no password that is made meets.
const demanding = `site: Quay
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
models:
  picky: {make: Oakhollow, name: Eye, kind: camera, firmware: '1', factory: 192.168.77.20/24, auth: md5, dialect: declared, path: /onvif/device_service, restart: 1s, fault_status: 400, rules: {min: 40, silent: true}}
devices:
  - {id: gate, model: picky, mac: "02:7a:11:00:01:01", serial: S1}
`

// What a device has refused is not offered to it again by later runs, and each form once.
func TestRefusedFormsAreKnownOverRuns(t *testing.T) {
	t.Parallel()
	c := hire(t, demanding, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	c.must("survey", "--quiet")
	c.must("take", "all", "--yes")
	c.must("allot")
	offered := func() (n int) {
		for _, e := range c.logs.Events() {
			if e.What == bench.EventWrite && e.Op == "CreateUsers" {
				n++
			}
		}
		return n
	}
	code, out, errs := c.run("", "commission", "--yes", "--quiet")
	assert.Equal(t, ExitNeeds, code, errs)
	assert.Contains(t, out+errs, "Too weak password")
	first := offered()
	assert.True(t, first > 3 && first <= 6, "%d forms", first)

	code, out, errs = c.run("", "commission", "--yes", "--quiet")
	assert.Equal(t, ExitNeeds, code, errs)
	assert.Equal(t, first, offered(), "none again")
	flat := strings.Join(strings.Fields(out+errs), " ")
	assert.Contains(t, flat, "refuses every sort of password that can be made for it")
	assert.Contains(t, flat, "janustat key set C01")
}
