//go:build unix

package killed

import (
	"bytes"
	"encoding/json"
	"strings"

	"github.com/stretchr/testify/assert"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/internal/bench"
	"janustat/internal/e2e/driver"
	"janustat/internal/job"
)

// assertRight runs one commission and proves the result: whatever happened before,
// every device ends as planned, and nothing that a device had confirmed was sent again.
func assertRight(w driver.Worker, what string, logs *bench.Log, b *bench.Bench, prove bool) {
	t := w.T
	c := w.Command("commission", "--yes", "--json", "--quiet")
	var said bytes.Buffer
	c.Stderr = &said
	out, err := c.Output()
	if !assert.NoError(t, err, "%s: %s\n%s", what, out, &said) && len(out) == 0 {
		return
	}
	var result struct {
		Results []struct {
			Tag, Address, Status, Reason string
			MAC                          device.MAC `json:"mac"`
		}
	}
	assert.NoError(t, json.Unmarshal(out, &result), what)
	assert.Len(t, result.Results, 12, what)
	seen, at, dynamic := map[string]bool{}, map[device.MAC]string{}, map[device.MAC]bool{}
	for _, d := range b.Devices() {
		own, dhcp, _ := d.Look()
		at[d.MAC()], dynamic[d.MAC()] = own.Addr().String(), dhcp
	}
	for _, r := range result.Results {
		assert.Equal(t, r.Address, at[r.MAC], "%s: %s is elsewhere", what, r.Tag)
		assert.False(t, dynamic[r.MAC], "%s: %s", what, r.Tag)
		assert.Equal(t, "done", r.Status, "%s: %s %s", what, r.Tag, r.Reason)
		assert.False(t, seen[r.Address], "%s: %s is doubled", what, r.Address)
		seen[r.Address] = true
	}
	events := logs.Events() // proving offers factory passwords on purpose
	if prove {
		out, err = w.Command("prove", "--quiet").CombinedOutput()
		if err != nil { // but for passwords that are left for the next hour, by the budget of tries
			assert.Contains(t, string(out), "every check passed so far", what)
		}
		assert.Contains(t, string(out), "12 of 12 devices proved", what)
	}
	out, err = w.Command("list", "--json", "--quiet").Output()
	assert.NoError(t, err, what)
	assert.Equal(t, 12, strings.Count(string(out), `"condition": "settled"`), what)
	assertNothingRepeated(w, what)

	created := map[string]int{}
	for _, e := range events {
		// Only where it is not known which of two it has may one be offered in vain.
		assert.False(t, e.What == bench.EventWrongPassword && e.Host != "factory", "%s: %+v", what, e)
		if e.Op == "CreateUsers" && e.OK {
			created[e.Host]++
		}
	}
	users := 0
	for host, n := range created {
		users += n
		assert.LessOrEqual(t, n, 2, "%s: %s", what, host)
	}
	assert.Equal(t, 11+3, users, "%s: an administrator for each that had none, and the viewers: %v", what, created)
}

func assertNothingRepeated(w driver.Worker, what string) {
	j, err := job.Open(w.T.Context(), w.Job)
	if !assert.NoError(w.T, err, what) {
		return
	}
	defer j.Close()
	devices, err := j.Register.Devices(w.T.Context())
	assert.NoError(w.T, err, what)
	for i := range devices {
		history, err := j.Register.History(w.T.Context(), devices[i].ID)
		assert.NoError(w.T, err, what)
		confirmed := map[string]bool{}
		for _, e := range history {
			assert.False(w.T, confirmed[e.Step], "%s: %s: %s was confirmed and sent again: %+v", what, devices[i].Tag, e.Step, history)
			if e.Step == string(commission.StepClock) {
				// Set by hand, it no longer follows NTP; and what was late on a busy machine is no
				// clock set.
				confirmed[string(commission.StepNTP)] = false
				if e.Detail != "" {
					continue
				}
			}
			confirmed[e.Step] = confirmed[e.Step] || e.Outcome == "done"
		}
	}
}
