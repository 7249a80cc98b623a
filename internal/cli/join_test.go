package cli

import (
	"context"
	"encoding/csv"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
)

const joined = `
site: Joined
seed: 3
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
models:
  small: {make: Brightmoor, name: Ledger 2, kind: recorder, channels: 2, makes: true, firmware: '7', factory: 192.168.100.2/24, auth: sha256, dialect: default, path: /onvif/device, fault_status: 400, restart: 1s}
devices:
  - {id: rec, model: brightmoor-recorder, mac: "02:b7:16:00:00:10", serial: LG1, restart: 1s}
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: VD, count: 3, restart: 1s}
  - {id: eye, model: oakhollow-eye, mac: "02:0a:c0:00:03:01", serial: OE, restart: 1s}
  - {id: door, model: oakhollow-door, mac: "02:0a:c0:00:05:01", serial: OPS-1, restart: 1s}
  - {id: hall, model: oakhollow-hall, mac: "02:0a:c0:00:05:11", serial: OHH-1, restart: 1s, count: 2}
  - {id: gate, model: tallow-gate, mac: "02:7a:11:00:06:01", serial: GH1, restart: 1s}
others:
  - {id: router, role: router, mac: "02:5c:00:00:00:01", address: 10.61.8.1/23}
  - {id: server, role: server, mac: "02:5c:00:00:00:06", address: 10.61.8.6/23, ports: [7700]}
`

const joinedSheet = `
names: {VD001: Quay, OPS-1: Crew door}
channels: auto
intercoms: {D01: {I01: {floor: 1, flat: 101}, I02: {floor: 2, flat: 201}}}
reporting: {server: 10.61.8.6, port: 7700}
`

// One commission joins everything up; a second writes nothing; what others did to it since
// is put right by the next, and told by prove before.
func TestOneCommissionJoinsEverythingUp(t *testing.T) {
	t.Parallel()
	c := hire(t, joined, "--subnet", "10.61.8.0/23")
	c.sheet(joinedSheet)
	c.prepare()
	dry := c.must("commission", "--dry-run")
	assert.Contains(t, dry, "channels for C01 C02 C03 C04")
	assert.Contains(t, dry, "report 10.61.8.6:7700")
	assert.Contains(t, c.must("commission", "--yes", "--quiet"), "9 done, 0 need you")
	rec := c.bench.Device("rec")
	_, states := rec.Watched()
	assert.Equal(t, []string{"Connected", "Connected", "Connected", "Connected"}, states)
	assert.Equal(t, 2, c.bench.Device("door").Paired())
	c.writesNothing()
	assert.Contains(t, c.must("prove", "--quiet"), "9 of 9 devices proved: every check passed")
	assert.Contains(t, c.must("log", "R01"), "records on channel 1: C01")
	table := c.must("channels")
	assert.Regexp(t, `R01 +1 +C01 +EyeTwo +rtsp://10\.61\.8\.\d+/still/1 +recorder +JPEG +640×480 +connected`, table)
	assert.NotContains(t, c.must("commission", "--dry-run"), "channel ", "what stands is not written again")
	assert.Contains(t, c.must("show", "C02"), "JPEG 640×480")

	// Somebody else at work.
	for _, x := range []struct {
		what  string
		by    func()
		proof string
		step  string
	}{
		{"wrong password in the recorder", func() { rec.Spoil(2) }, "R01 channel: should be channel 2 (C02) connected, is: ", "ConfigureReceiver"},
		{"cameras swapped", func() { rec.Swap(1, 3) }, "R01 channel: should be channel 1 (C01) connected, is: ", "ConfigureReceiver"},
		{"wrong secret in an indoor station", func() { c.bench.Device("hall-1").Confide() }, "I01 pair: should be the pair with D01 registered, is: ", "hail pair"},
		{"wrong secret in the door station", func() { c.bench.Device("door").Confide() }, "D01 pair: should be the pair with I01 registered, is: ", "hail pair"},
		{"another server", func() { c.bench.Device("gate").Misdirect() }, "P01 report: should be the server connected, is: ", "hail server"},
	} {
		x.by()
		c.proves(x.proof)
		_, mark := c.events(0)
		assert.Contains(t, c.must("commission", "--yes", "--quiet"), "9 done, 0 need you", x.what)
		since, _ := c.events(mark)
		wrote := map[string]bool{}
		for _, e := range since {
			if e.What == bench.EventWrite {
				wrote[e.Op] = true
			}
		}
		assert.Equal(t, map[string]bool{x.step: true}, wrote, "%s: nothing else is written", x.what)
	}
	assert.Contains(t, c.must("prove", "--quiet"), "9 of 9 devices proved: every check passed")
	c.bench.Device("door").Befriend("GONE-77")
	code, out, _ := c.run("", "prove", "--quiet")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, out, "D01 pair: should be no station that the job sheet does not have, is: also GONE-77")
}

// A station that is taken off a door rings there no more; one that was there before the job
// stays, and is told by prove.
func TestAStationThatIsTakenOffIsForgotten(t *testing.T) {
	t.Parallel()
	c := hire(t, joined, "--subnet", "10.61.8.0/23")
	c.sheet(joinedSheet)
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	c.bench.Device("door").Befriend("BEFORE-1")
	c.must("leave", "I02", "--yes")
	path := filepath.Join(c.dir, "jobsheet.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	without := strings.ReplaceAll(string(text), ", I02: {floor: 2, flat: 201}", "")
	require.NotEqual(t, string(text), without)
	require.NoError(t, os.WriteFile(path, []byte(without), 0o600))
	assert.Contains(t, c.must("commission", "--dry-run"), "part I02")
	code, out, _ := c.run("", "prove", "D01", "--quiet")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, out, "also OHH-1002, BEFORE-1")
	c.must("commission", "--yes", "--quiet")
	assert.Contains(t, c.must("log", "D01"), "pairing with I02 HallH removed")
	code, out, _ = c.run("", "prove", "D01", "--quiet")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, out, "also BEFORE-1", "it is not this job's, and nobody has said that it is to go")
	assert.Equal(t, 2, c.bench.Device("door").Paired()+1)
	c.writesNothing()
}

// A station that takes a dead one's place is rung in its place, and the dead one no more.
func TestAReplacedStationIsRungInItsPlace(t *testing.T) {
	t.Parallel()
	c := hire(t, strings.Replace(joined, "others:", `  - {id: spare, model: oakhollow-hall, mac: "02:0a:c0:00:05:77", serial: OHH-77, restart: 1s}
others:`, 1), "--subnet", "10.61.8.0/23")
	c.bench.Device("spare").Unplug()
	c.sheet("intercoms: {D01: {I01: {floor: 1, flat: 101}, I02: {floor: 2, flat: 201}}}\n")
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	c.bench.Device("hall-1").Unplug()
	c.bench.Device("spare").Plug()
	assert.Contains(t, c.must("restore", "I01", "--with", "02:0a:c0:00:05:77", "--for", "60s", "--quiet", "--yes"), "2 done, 0 need you")
	assert.Contains(t, c.must("log", "D01"), "pairing with I01 as it was before removed")
	assert.Equal(t, 2, c.bench.Device("door").Paired())
	assert.Contains(t, c.must("prove", "D01", "I01", "I02", "--quiet"), "3 of 3 devices proved: every check passed")
	c.writesNothing()
}

// A recorder that does not say why it is not connected has its channel set once more.
func TestARecorderThatDoesNotSayWhy(t *testing.T) {
	t.Parallel()
	c := hire(t, strings.Replace(joined, "serial: LG1, restart: 1s", "serial: LG1, restart: 1s, manners: [mute jobs]", 1), "--subnet", "10.61.8.0/23")
	c.sheet("channels: auto\n")
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	c.bench.Device("rec").Spoil(3)
	assert.Eventually(t, func() bool {
		_, states := c.bench.Device("rec").Watched()
		return states[2] == "NotConnected"
	}, 30*time.Second, 10*time.Millisecond)
	assert.Contains(t, c.must("commission", "--yes", "--quiet"), "9 done, 0 need you")
	_, states := c.bench.Device("rec").Watched()
	assert.Equal(t, "Connected", states[2])
	c.writesNothing()
}

// writesNothing commissions once more.
func (c *crew) writesNothing() {
	c.t.Helper()
	_, mark := c.events(0)
	c.must("commission", "--yes", "--quiet")
	since, _ := c.events(mark)
	for _, e := range since {
		assert.NotEqual(c.t, bench.EventWrite, e.What, "a second run writes: %+v", e)
	}
}

// A camera that does not answer holds up its own channel alone, and is named to who waits
// for it; when it is back, the next commission joins it up.
func TestWhatFailsIsNamedToWhoeverWaits(t *testing.T) {
	t.Parallel()
	c := hire(t, joined, "--subnet", "10.61.8.0/23")
	c.sheet("channels: {R01: {1: C01, 2: C02, 4: C04}}\nintercoms: {D01: {I01: {floor: 1, flat: 101}, I02: {floor: 2, flat: 201}}}\n")
	c.prepare()
	c.bench.Device("dome-1").Unplug() // C02
	c.bench.Device("hall-2").Unplug() // I02
	code, out, _ := c.run("", "commission", "--yes", "--quiet")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, out, "channel 2 (C02) waits for C02, which needs you")
	assert.Contains(t, out, "the pair with I02 waits for I02, which needs you")
	_, states := c.bench.Device("rec").Watched()
	assert.Equal(t, []string{"Connected", "Connected"}, states, "the others are not held up")
	assert.Equal(t, 1, c.bench.Device("door").Paired())
	c.bench.Device("dome-1").Plug()
	c.bench.Device("hall-2").Plug()
	c.must("commission", "--yes", "--quiet")
	uris, states := c.bench.Device("rec").Watched()
	assert.Len(t, uris, 3)
	assert.NotContains(t, states, "")
	assert.Equal(t, 2, c.bench.Device("door").Paired())

	// One that was joined before and is gone by now is told by the recorder's channel.
	c.bench.Device("dome-1").Unplug()
	code, out, _ = c.run("", "prove", "--quiet")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, out, "channel 2 (C02) connected, is: unreachable")
}

// A camera that shows no stream is told as that, by commission and, once it was joined, by
// the recorder's channel; a door station has a picture too.
func TestACameraWithoutAStream(t *testing.T) {
	t.Parallel()
	s, err := bench.Parse([]byte(joined))
	require.NoError(t, err)
	c := hireOn(t, s, "--subnet", "10.61.8.0/23")
	c.sheet("channels: {R01: {1: C01, 2: C02, 7: D01}}\n")
	c.prepare()
	c.bench.Device("dome-1").Blind(true)
	code, out, _ := c.run("", "commission", "--yes", "--quiet")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, out, "channel 2 (C02) waits for C02, which shows no stream (no such stream (RTSP status 404))")
	c.bench.Device("dome-1").Blind(false)
	c.must("commission", "--yes", "--quiet")
	_, states := c.bench.Device("rec").Watched()
	assert.Equal(t, []string{"Connected", "Connected", "Connected"}, states)
	c.bench.Device("dome-1").Blind(true)
	c.proves("channel 2 (C02) connected, is: no stream")
}

// A recorder without room for all names those that do not fit, and the others are joined.
func TestAFullRecorderTakesThoseThatFit(t *testing.T) {
	t.Parallel()
	c := hire(t, strings.Replace(joined, "model: brightmoor-recorder", "model: small", 1), "--subnet", "10.61.8.0/23")
	c.sheet("channels: auto\n")
	c.prepare()
	for range 2 {
		code, out, _ := c.run("", "commission", "--yes", "--quiet")
		assert.Equal(t, ExitNeeds, code)
		assert.Contains(t, strings.Join(strings.Fields(out), " "), "no room for C03 C04")
		_, states := c.bench.Device("rec").Watched()
		assert.Equal(t, []string{"Connected", "Connected"}, states)
	}
}

// A recorder that lacks the services has a sheet to be typed in from.
func TestARecorderWithoutServicesHasASheet(t *testing.T) {
	t.Parallel()
	c := hire(t, strings.Replace(joined, "model: brightmoor-recorder", "model: plain-recorder", 1), "--subnet", "10.61.8.0/23")
	c.sheet("channels: auto\nnames: {VD001: =Quay}\n")
	c.prepare()
	out := c.must("commission", "--yes", "--quiet")
	assert.Contains(t, out, "Note: R01: cannot be set up over the network: enter its channels by hand")
	assert.Contains(t, c.must("channels", "R01"), "to be typed in")
	file := filepath.Join(c.dir, "sheet.csv")
	code, _, errs := c.run("", "channels", "--csv", file, "--passwords")
	require.Equal(t, ExitDone, code, errs)
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 5)
	assert.Equal(t, []string{"recorder", "channel", "camera", "name", "protocol", "stream", "user", "password"}, rows[0])
	password := strings.TrimSpace(c.must("key", "show", rows[2][2], "--user", "recorder"))
	assert.Equal(t, []string{"R01", "2", "C02", "'=Quay", "RTSP over TCP", rows[2][5], "recorder", password}, rows[2])
	assert.Contains(t, c.must("prove", "--quiet"), "9 of 9 devices proved", "each stream is looked at all the same")
	require.NoError(t, os.Remove(file)) // it is to hold passwords
}

// A recorder that restarts half-way ends right by the same run.
func TestARecorderThatRestartsHalfWay(t *testing.T) {
	t.Parallel()
	c := hire(t, joined, "--subnet", "10.61.8.0/23")
	c.sheet("channels: auto\n")
	c.prepare()
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go func() {
		for ctx.Err() == nil {
			for _, e := range c.logs.Events() {
				if e.Op == "CreateReceiver" {
					c.bench.Device("rec").Restart()
					return
				}
			}
			time.Sleep(time.Millisecond)
		}
	}()
	c.must("commission", "--yes", "--quiet")
	uris, states := c.bench.Device("rec").Watched()
	assert.Len(t, uris, 4)
	for _, s := range states {
		assert.Equal(t, "Connected", s)
	}
}

// A camera that was replaced is followed by its channel.
func TestAChannelFollowsAReplacedCamera(t *testing.T) {
	t.Parallel()
	s, err := bench.Parse([]byte(joined))
	require.NoError(t, err)
	s.Pace = benchtest.Hurry(s)
	c := hireOn(t, s, "--subnet", "10.61.8.0/23")
	c.sheet("channels: {R01: {1: C02}}\n")
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	before := c.must("key", "show", "C02", "--user", "recorder")
	c.bench.Device("dome-1").Reset()
	c.must("restore", "C02", "--yes", "--quiet", "--for", "60s")
	assert.NotEqual(t, before, c.must("key", "show", "C02", "--user", "recorder"), "whoever had it meanwhile may know the old one")
	c.must("commission", "--yes", "--quiet")
	_, states := c.bench.Device("rec").Watched()
	assert.Equal(t, []string{"Connected"}, states)
}

// Devices show themselves, in the tongue they speak; one that cannot is known by its label.
func TestWink(t *testing.T) {
	t.Parallel()
	c := hire(t, joined, "--subnet", "10.61.8.0/23")
	c.prepare()
	c.must("wink", "P01", "--quiet") // fresh
	c.must("commission", "--yes", "--quiet")
	c.must("wink", "P01", "--quiet")
	c.must("wink", "C01", "--quiet")
	assert.Equal(t, []string{"hail", "hail"}, c.bench.Device("gate").Winks())
	assert.Equal(t, []string{"tt:IRLamp|On", "tt:IRLamp|Off", "tt:IRLamp|On", "tt:IRLamp|Off", "tt:IRLamp|On", "tt:IRLamp|Auto"}, c.bench.Device("eye").Winks())
	code, _, errs := c.run("", "wink", "C02", "--quiet")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, errs, "has nothing to show itself by")
	assert.Contains(t, errs, "02:e4:42:00:01:01")
}

// What is wrong in the sheet is told all at once, by line and column, before anything is sent.
func TestWhatIsWrongInTheSheetIsToldAtOnce(t *testing.T) {
	t.Parallel()
	c := hire(t, joined, "--subnet", "10.61.8.0/23")
	c.prepare()
	_, mark := c.events(0)
	c.sheet("channels:\n  R01: {1: C01, 2: C99}\n  C02: {1: C03}\nintercoms:\n  D01:\n    I07: {floor: 1, flat: 101}\nreporting: {server: 10.61.8.6, port: 7700, devices: [P09]}\n")
	code, _, errs := c.run("", "commission", "--yes", "--quiet")
	assert.Equal(t, ExitUsage, code)
	for _, want := range []string{"channels.R01: C99 is not in the job", "channels: C02 is no recorder", "intercoms.D01: I07 is not in the job", "reporting.devices: P09 is not in the job"} {
		assert.Contains(t, errs, want)
	}
	assert.Regexp(t, `line \d+, column 20: channels\.R01: C99`, errs)
	since, _ := c.events(mark)
	assert.Empty(t, since)
}

const hails = `
site: Hails
seed: 3
loss: 0.02
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: window, model: tallow-gate, mac: "02:7a:11:00:06:01", serial: W1, window: 20m, restart: 1s}
  - {id: lose, model: tallow-audio, mac: "02:7a:11:00:07:01", serial: L1, lose_move: true, restart: 1s}
  - {id: adrift, model: oakhollow-hall, mac: "02:0a:c0:00:05:21", serial: A1, dhcp: true, fallback: adrift, ask_every: 600s, restart: 1s}
  - {id: many, model: oakhollow-hall, mac: "02:0a:c0:00:05:31", serial: M, count: 3, restart: 1s}
  - {id: bare, model: oakhollow-hall, mac: "02:0a:c0:00:05:41", serial: B1, address: none, restart: 1s}
  - {id: factory, model: tallow-gate, mac: "02:7a:11:00:06:11", serial: F1, password: Factory-111, restart: 1s}
`

// Devices that speak Hail alone are set up whatever their address, and have the rest of
// their lives in the job like any other.
func TestDevicesThatSpeakHailAlone(t *testing.T) {
	t.Parallel()
	c := hire(t, hails, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	c.sheet("password: {style: each, factory: [{user: admin, password: Factory-111}]}\nnames: {B1: Hall}\n")
	c.must("survey", "--quiet")
	c.must("take", "all", "02:7a:11:00:06:11", "--yes")
	c.must("allot")
	assert.Contains(t, c.must("commission", "--yes", "--quiet"), "8 done, 0 need you")
	c.writesNothing()
	at, _, users := c.bench.Device("bare").Look()
	assert.Contains(t, at.String(), "10.61.8.")
	assert.Equal(t, []string{"admin"}, users)
	assert.Contains(t, c.must("key", "change", "all", "--yes", "--quiet"), "8 done, 0 need you")
	c.must("restart", "P01", "--yes", "--quiet")
	code, _, errs := c.run("I02\n", "reset", "I02", "--quiet")
	require.Equal(t, ExitDone, code, errs)
	c.must("restore", "I02", "--yes", "--quiet", "--for", "60s")
	code, out, _ := c.run("", "prove", "--quiet")
	assert.Equal(t, ExitNeeds, code, "old passwords are left for the next hour")
	assert.Contains(t, out, "8 of 8 devices proved: every check passed so far")
}
