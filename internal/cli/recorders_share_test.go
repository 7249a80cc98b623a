package cli

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A camera's tag owns its channel: a unit that takes its place is recorded there, by a password
// of its own, and the recorder tries none that is no more.
func TestAReplacedCameraIsRecordedWhereTheOldOneWas(t *testing.T) {
	t.Parallel()
	for _, x := range []struct {
		manner string
		makes  bool
	}{{"", true}, {"", false}, {"own receivers", true}, {"drops users, cuts names", false}} {
		t.Run(fmt.Sprint(x.manner, x.makes), func(t *testing.T) {
			t.Parallel()
			c := watched(t, x.makes, x.manner, 3)
			before, receivers := c.bench.Device("rec").Laid()
			c.bench.Device("dome-2").Unplug()
			c.bench.Device("spare").Plug()
			_, mark := c.events(0)
			out := c.must("restore", "C02", "--with", "02:e4:42:00:01:77", "--for", "60s", "--quiet", "--yes")
			assert.Contains(t, out, "2 done, 0 need you")
			assert.Zero(t, wrongTries(c, "spare", mark), "by the recorder or by us")
			after, now := c.bench.Device("rec").Laid()
			assert.Equal(t, receivers, now)
			assert.Equal(t, before[0], after[0])
			assert.Equal(t, before[1].URI, after[1].URI)
			assert.NotEqual(t, before[1].Password, after[1].Password)
			c.writesNothing()
			assert.Contains(t, c.must("prove", "--quiet"), "4 of 4 devices proved: every check passed")
		})
	}
}

// A camera that its recorder locks, by going on with another password, is named; the recorder is
// told the right one, and the camera tried again once it has unlocked itself.
func TestALockedCameraIsTriedAgain(t *testing.T) {
	t.Parallel()
	for _, answer := range []string{"status", "silent"} {
		t.Run(answer, func(t *testing.T) {
			t.Parallel()
			lockedAndTriedAgain(t, answer)
		})
	}
}

func lockedAndTriedAgain(t *testing.T, answer string) {
	site := strings.Replace(fmt.Sprintf(nightWatch, false, "", 2), "count: 2,", "count: 2, lock: 8s, manners: [counts viewers],", 1)
	site = strings.Replace(site, "devices:", "  dome: {make: Verrine, name: Dome 9, kind: camera, firmware: '2', factory: 192.168.100.9/24, auth: sha256, dialect: default, path: /onvif/device, fault_status: 400, restart: 1s, lock: "+answer+"}\ndevices:", 1)
	site = strings.Replace(site, "model: verrine-dome, mac: \"02:e4:42:00:01:01\"", "model: dome, mac: \"02:e4:42:00:01:01\"", 1)
	c := hire(t, site, "--subnet", "10.61.8.0/23")
	c.bench.Device("spare").Unplug()
	c.sheet("channels: auto\n")
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	rec := c.bench.Device("rec")
	_, mark := c.events(0)
	rec.Spoil(1)
	require.Eventually(t, func() bool { return wrongTries(c, "dome-1", mark)+wrongTries(c, "dome-2", mark) >= 5 }, 30*time.Second, 20*time.Millisecond)
	code, out, errs := c.run("", "commission", "--yes")
	if answer == "silent" {
		assert.Equal(t, ExitNeeds, code)
		assert.Contains(t, strings.Join(strings.Fields(out), " "), "refuses its own password, and R01 went on with another one there: most devices lock themselves for that. R01 has the right one now")
		require.Eventually(t, func() bool { _, states := rec.Watched(); return states[0] == "Connected" }, 30*time.Second, 50*time.Millisecond)
		c.anHourLater()
		code, out, errs = c.run("", "commission", "--yes")
		assert.Equal(t, ExitDone, code, out+errs)
		assert.Contains(t, c.must("prove", "--quiet"), "every check passed")
		return
	}
	assert.Equal(t, ExitDone, code, out+errs)
	assert.Contains(t, errs, "locked by the old password of its recorder: waiting until it opens")
	assert.Contains(t, c.must("prove", "--quiet"), "every check passed")
}

// A recorder that was reset gets all its channels back from its record.
func TestARestoredRecorderHasItsChannels(t *testing.T) {
	t.Parallel()
	c := watched(t, true, "", 3)
	before, _ := c.bench.Device("rec").Laid()
	c.bench.Device("rec").Reset()
	assert.Contains(t, c.must("restore", "R01", "--for", "60s", "--quiet", "--yes"), "1 done, 0 need you")
	after, _ := c.bench.Device("rec").Laid()
	assert.Equal(t, before, after)
	assert.Contains(t, c.must("prove", "--quiet"), "4 of 4 devices proved: every check passed")
}

// The recorder's user on a camera is the job's like any other: changed on both sides, in an order
// in which no wrong password is tried; and given its password again when somebody has changed it.
func TestTheRecordersUserIsChangedOnBothSides(t *testing.T) {
	t.Parallel()
	c := watched(t, true, "", 2)
	old := c.must("key", "show", "C02", "--user", "recorder")
	_, mark := c.events(0)
	c.must("key", "change", "C02", "--user", "recorder", "--yes", "--quiet")
	assert.NotEqual(t, old, c.must("key", "show", "C02", "--user", "recorder"))
	assert.Zero(t, wrongTries(c, "dome-2", mark))
	_, states := c.bench.Device("rec").Watched()
	assert.Equal(t, []string{"Connected", "Connected"}, states)
	c.writesNothing()
	assert.Contains(t, c.must("prove", "--quiet"), "3 of 3 devices proved: every check passed")

	c.bench.Device("dome-2").Rekey("recorder", "Somebody-else-7")
	code, out, _ := c.run("", "prove", "--quiet")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, out, "the password of recorder is refused")
	assert.Contains(t, out, "janustat key change C02 --user recorder")
	c.must("key", "change", "C02", "--user", "recorder", "--yes", "--quiet") // as it is advised
	_, out, _ = c.run("", "prove", "--quiet")                                // one try of C02's budget is spent on what was wrong
	assert.Contains(t, out, "3 of 3 devices proved: every check passed so far")

	c.bench.Device("dome-1").Rekey("recorder", "Somebody-else-8")
	c.must("commission", "--yes", "--quiet") // does it as well
	_, out, _ = c.run("", "prove", "--quiet")
	assert.Contains(t, out, "3 of 3 devices proved: every check passed so far")
	c.writesNothing()
}

// Recorders share cameras by what each has room for; who fits nowhere is named, once, and a second
// run moves nobody.
func TestRecordersShareByRoom(t *testing.T) {
	t.Parallel()
	c := hire(t, `site: Two
seed: 4
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
models:
  small: {make: Brightmoor, name: Ledger 2, kind: recorder, channels: 2, makes: true, firmware: '7', factory: 192.168.100.2/24, auth: sha256, dialect: default, path: /onvif/device, fault_status: 400, restart: 1s}
devices:
  - {id: one, model: small, mac: "02:b7:16:00:00:10", serial: LG1, restart: 1s, manners: [few receivers]}
  - {id: two, model: small, mac: "02:b7:16:00:00:11", serial: LG2, restart: 1s}
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: VD, count: 4, restart: 1s}
`, "--subnet", "10.61.8.0/23")
	c.sheet("channels: auto\n")
	c.prepare()
	var first []string
	for range 2 {
		code, out, errs := c.run("", "commission", "--yes", "--quiet")
		require.Equal(t, ExitNeeds, code, errs)
		flat := strings.Join(strings.Fields(out), " ")
		assert.Equal(t, 1, strings.Count(flat, "no room for C04"), flat)
		one, _ := c.bench.Device("one").Watched()
		two, _ := c.bench.Device("two").Watched()
		assert.Len(t, one, 1)
		assert.Len(t, two, 2)
		if all := append(one, two...); first == nil {
			first = all
		} else {
			assert.Equal(t, first, all)
		}
	}
}
