package cli

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
	"janustat/internal/job"
)

const thiefSite = `
site: Thief
seed: 7
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
models:
  open: {make: Tallow, name: Cube, kind: camera, firmware: '1', factory: 192.168.77.20/24, auth: both, dialect: default, path: /service, restart: 1s, fault_status: 400, https: 'on'}
  token: {make: Tallow, name: Cube, kind: camera, firmware: '1', factory: 192.168.77.21/24, auth: token, dialect: default, path: /service, restart: 1s, fault_status: 400}
  digest: {make: Tallow, name: Cube, kind: camera, firmware: '1', factory: 192.168.77.22/24, auth: both, dialect: default, path: /service, restart: 1s, fault_status: 400}
devices:
  - {id: secure, model: open, mac: "02:7a:11:00:01:01", serial: S1}
  - {id: plain, model: token, mac: "02:7a:11:00:02:01", serial: S2}
  - {id: digest, model: digest, mac: "02:7a:11:00:03:01", serial: S3}
`

// A stranger takes over a device's MAC and address: whatever it says of itself, no
// command offers it a password of the keyring, or sets one on it; each says why.
func TestAThiefGetsNothing(t *testing.T) {
	t.Parallel()
	c := hire(t, thiefSite, "--subnet", "10.61.8.0/23")
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	keys := map[string]string{"secure": strings.TrimSpace(c.must("key", "show", "C01")), "plain": strings.TrimSpace(c.must("key", "show", "C02")), "digest": strings.TrimSpace(c.must("key", "show", "C03"))}
	c.must("prove", "--quiet")
	for _, x := range []struct {
		host, tag, alarm string
		pose             bench.Pose
		all              bool // with every command there is
	}{
		{"secure", "C01", "no longer offers HTTPS|says that it has no password|another certificate|cannot be reached", bench.Pose{Fresh: true, NoHTTPS: true, Open: true}, false},
		{"secure", "C01", "another certificate", bench.Pose{Fresh: true, Cert: true}, true},
		{"secure", "C01", "another certificate", bench.Pose{Cert: true, Open: true}, false},
		{"plain", "C02", "says that it has no password", bench.Pose{Fresh: true}, true},
		{"plain", "C02", "says that it has no password", bench.Pose{Fresh: true, Open: true}, false},
		{"plain", "C02", "endpoint reference", bench.Pose{Endpoint: true}, false},
		{"plain", "C02", "serial number", bench.Pose{Fresh: true, Open: true, Serial: "T1"}, false},
		{"plain", "C02", "clock has leapt ahead since it was set", bench.Pose{Ahead: 26 * time.Hour}, true},
		{"digest", "C03", "does not ask for the digest", bench.Pose{Token: true, Ahead: 26 * time.Hour}, true},
		{"digest", "C03", "does not ask for the digest", bench.Pose{Token: true}, false},
	} {
		d := c.bench.Device(x.host)
		boots := bootsOf(c, x.host)
		d.Usurp(x.pose)
		waitFor(t, "the stranger", func() bool { return bootsOf(c, x.host) > boots })
		_, mark := c.events(0)
		said := ""
		commands := [][]string{{"commission", "--yes"}, {"survey", "--for", "1s"}, {"prove"}}
		if x.all {
			commands = append(commands, [][]string{{"key", "change", x.tag, "--yes"}, {"restart", x.tag, "--yes"}, {"commission", "--yes"}}...)
		}
		for _, args := range commands {
			code, out, errs := c.run("", append(args, "--quiet")...)
			assert.True(t, code == ExitNeeds || args[0] == "survey" && code == ExitDone, "%+v: %v ends with %d, saying %s%s", x.pose, args, code, out, errs)
			said += out + errs
		}
		if x.all {
			code, out, errs := c.run(x.tag+"\n", "reset", x.tag, "--quiet")
			assert.Equal(t, ExitNeeds, code, out+errs)
			code, out, errs = c.run(keys[x.host]+"\n", "key", "set", x.tag, "--quiet")
			assert.NotEqual(t, ExitDone, code, out+errs)
			code, out, errs = c.run("", "web", x.tag, "--quiet")
			assert.Equal(t, ExitNeeds, code, out+errs)
		}
		assert.Regexp(t, x.alarm, said, "%+v", x.pose)
		assert.Contains(t, said, "janustat restore "+x.tag)
		since, _ := c.events(mark)
		for _, e := range since {
			if e.Host == x.host {
				assert.NotContains(t, []string{bench.EventPassword, bench.EventWrongPassword, bench.EventLocked, bench.EventWrite}, e.What, "%+v: %+v", x.pose, e)
			}
		}
		assert.Empty(t, d.Passwords(), "%+v: it was given a password", x.pose)
		boots = bootsOf(c, x.host)
		d.Yield()
		waitFor(t, "the device itself", func() bool { return bootsOf(c, x.host) > boots })
	}
	// The devices themselves are back: nothing has to be done.
	c.must("survey", "--quiet", "--for", "3s")
	c.must("commission", "--yes", "--quiet")
	c.must("prove", "--quiet")
	assert.Contains(t, c.must("list"), "taken")
	assert.NotContains(t, c.must("list"), "ALARM")
}

// A stranger that comes in the middle of commissioning, after a device was given its
// password, gets none of it, whatever it poses as: another of the devices too.
func TestAThiefInTheMiddleOfTheJob(t *testing.T) {
	t.Parallel()
	all := []string{"secure", "plain", "digest"}
	for name, x := range map[string]struct {
		pose  bench.Pose
		hosts []string
	}{
		"as another":                  {bench.Pose{Serial: "S9"}, all},
		"as another, fresh":           {bench.Pose{Serial: "S9", Fresh: true, Open: true}, all},
		"as itself, fresh":            {bench.Pose{Fresh: true, Open: true}, all},
		"with another certificate":    {bench.Pose{Cert: true}, all[:1]},
		"with its clock tomorrow":     {bench.Pose{Token: true, Ahead: 26 * time.Hour}, all[2:]},
		"with a reference of its own": {bench.Pose{Endpoint: true, Fresh: true}, all},
		"as itself in everything":     {bench.Pose{}, all[1:]},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := hire(t, thiefSite, "--subnet", "10.61.8.0/23")
			c.prepare()
			ended := make(chan string, 1)
			go func() {
				_, out, errs := c.run("", "commission", "--yes", "--quiet")
				ended <- out + errs
			}()
			for _, h := range x.hosts {
				d := c.bench.Device(h)
				waitFor(t, "the first password, or the end", func() bool { return len(d.Passwords()) > 0 || len(ended) > 0 })
				d.Usurp(x.pose)
			}
			said := <-ended
			for _, h := range x.hosts {
				had := c.bench.Device(h).Passwords()
				assert.Empty(t, had, "%s was given a password, saying %s", h, said)
			}
			for _, h := range x.hosts {
				boots := bootsOf(c, h)
				c.bench.Device(h).Yield()
				waitFor(t, "the device itself", func() bool { return bootsOf(c, h) > boots })
			}
			c.must("survey", "--quiet", "--for", "3s")
			c.anHourLater() // what nobody can tell from the device was offered its password, within the budget
			out := c.must("commission", "--yes", "--quiet")
			assert.Contains(t, out, "3 done, 0 need you", "%s", said)
			assert.Contains(t, c.must("prove", "--quiet"), "3 of 3 devices proved")
		})
	}
}

// Where somebody will type a password, what cannot be told from a stranger is not shown.
func TestAPageThatProvesNothingIsNotShown(t *testing.T) {
	t.Parallel()
	c := hire(t, thiefSite, "--subnet", "10.61.8.0/23")
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	code, _, errs := c.run("", "web", "C01", "--port", "80", "--quiet")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, errs, "C01 is known by its certificate, and port 80 shows none")
	// Its service is mute: whoever answers there may be anybody.
	c.bench.Device("plain").Stall(time.Minute)
	code, _, errs = c.run("", "web", "C02", "--quiet")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, errs, "C02 has not proved who it is")
	assert.Contains(t, errs, "--unproven shows it; do not type a password there")
}

func bootsOf(c *crew, host string) (n int) {
	for _, e := range c.logs.Events() {
		if e.Host == host && e.What == bench.EventBoot {
			n++
		}
	}
	return n
}

// waitFor waits for an event that can only be looked for.
func waitFor(t testing.TB, what string, there func() bool) {
	t.Helper()
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		if there() {
			return
		}
	}
	require.Fail(t, what+" did not come")
}

const quoteSite = `
site: Quotes
seed: 7
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
models:
  quotes: {make: Tallow, name: Cube, kind: camera, firmware: '1', factory: 192.168.77.20/24, auth: md5, dialect: wild, path: /service, restart: 1s, fault_status: 400, quotes: true}
devices:
  - {id: parrot, model: quotes, mac: "02:7a:11:00:01:01", serial: S1}
`

// A device that quotes the passwords it is sent, in faults and in its name, does not
// carry them into the register, the log, the documents, JSON or a capture.
func TestADeviceThatQuotesPasswordsGivesNoneAway(t *testing.T) {
	t.Parallel()
	c := hire(t, quoteSite, "--subnet", "10.61.8.0/23")
	capture := filepath.Join(c.dir, "all.pcapng") // searched with the job
	c.prepare()
	code, out, errs := c.run("", "commission", "--yes", "--json", "--log-level", "debug", "--capture", capture)
	require.Equal(t, ExitDone, code, out+errs)
	require.Len(t, c.bench.Device("parrot").Passwords(), 2)
	story := c.must("log", "C01")
	assert.Contains(t, story, "The password <(password)> of admin is too weak")
	c.must("prove", "--log-level", "debug", "--quiet", "--capture", filepath.Join(c.dir, "prove.pcapng"))
	c.must("key", "change", "C01", "--yes", "--quiet", "--capture", filepath.Join(c.dir, "change.pcapng"))
	c.must("handover")
	assert.Contains(t, c.must("show", "C01", "--json"), `has (password)`)
	// A survey asks for no passphrase, but knows the keyring where it can.
	c.must("survey", "--quiet", "--for", "3s", "--capture", filepath.Join(c.dir, "survey.pcapng"))
	assert.Contains(t, c.must("show", "C01", "--json"), `has (password)`)
}

const nastySite = `
site: Nasty
seed: 7
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
models:
  nasty: {make: "Tal\x1b[31mlow\nC99 camera forged 02:00:00:00:00:99", name: "=cmd|' /C x'!A0", kind: camera, firmware: "\u202e1.0\u0007", factory: 192.168.77.20/24, auth: token, dialect: default, path: /service, restart: 1s, fault_status: 400}
devices:
  - {id: nasty, model: nasty, mac: "02:7a:11:00:01:01", serial: "\x1b]52;c;aGk=\x07\r\n=1+1", name: "C01\u009b2J\u2028evil \U0001F600 %s"}
  - {id: long, model: nasty, mac: "02:7a:11:00:01:02", serial: "-2+3", name: "%s"}
`

// Nothing that a device says does more than stand there: in a terminal, in JSON, in a
// spreadsheet, in a document.
func TestWhatADeviceSaysIsTextAndNothingElse(t *testing.T) {
	t.Parallel()
	c := hire(t, fmt.Sprintf(nastySite, strings.Repeat("x", 300), strings.Repeat("y", 60_000)), "--subnet", "10.61.8.0/23")
	var said strings.Builder
	for _, args := range [][]string{
		{"survey", "--for", "3s"},
		{"survey", "--for", "3s", "--json"},
		{"take", "all", "--yes"},
		{"allot"},
		{"commission", "--dry-run"},
		{"commission", "--yes"},
		{"prove"},
		{"list"},
		{"list", "--json"},
		{"show", "C01"},
		{"log", "C01"},
		{"handover"},
		{},
	} {
		code, out, errs := c.run("", args...)
		require.Equal(t, ExitDone, code, "%v\n%s%s", args, out, errs)
		said.WriteString(out + errs)
	}
	csv, err := os.ReadFile(filepath.Join(c.dir, job.HandoverDir, "register.csv"))
	require.NoError(t, err)
	record, err := os.ReadFile(filepath.Join(c.dir, job.HandoverDir, "register.json"))
	require.NoError(t, err)
	for name, text := range map[string]string{"printed": said.String(), "csv": strings.ReplaceAll(string(csv), "\r\n", "\n"), "json": string(record)} {
		assert.NotRegexp(t, "[\x00-\x09\x0b-\x1f\x7f\u0080-\u009f\u2028\u202e]", text, name)
		assert.NotContains(t, text, strings.Repeat("x", 65), name)
		assert.NotContains(t, text, strings.Repeat("y", 65), name)
	}
	for line := range strings.Lines(said.String()) {
		assert.False(t, strings.HasPrefix(line, "C99"), "a row is forged: %s", line)
	}
	assert.NotRegexp(t, regexp.MustCompile(`(^|,|\n)"?[=+@-]`), string(csv), "a spreadsheet runs it")
	pdf, err := os.ReadFile(filepath.Join(c.dir, job.HandoverDir, "handover.pdf"))
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(pdf, []byte("%PDF")))
}

const slowTLSSite = `
site: Slow
seed: 7
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
models:
  secure: {make: Tallow, name: Cube, kind: camera, firmware: '1', factory: 192.168.77.20/24, auth: both, dialect: default, path: /service, restart: 1s, fault_status: 400, https: 'on'}
  renews: {make: Tallow, name: Cube, kind: camera, firmware: '1', factory: 192.168.77.20/24, auth: both, dialect: default, path: /service, restart: 1s, fault_status: 400, https: 'on', renews_cert: true}
devices:
  - {id: slow, model: secure, mac: "02:7a:11:00:01:01", serial: S1, tls_delay: 4s}
  - {id: mute, model: secure, mac: "02:7a:11:00:01:02", serial: S2, tls_delay: 5m}
  - {id: renews, model: renews, mac: "02:7a:11:00:01:03", serial: S3}
`

// HTTPS that is slow is HTTPS; where it never answers, no password goes in the open. A
// certificate that is made anew with the address is no alarm.
func TestHTTPSIsNeverTakenForAbsentBecauseItIsSlow(t *testing.T) {
	t.Parallel()
	c := hire(t, slowTLSSite, "--subnet", "10.61.8.0/23")
	c.must("survey", "--quiet")
	c.must("take", "all", "--yes")
	c.must("allot")
	code, out, errs := c.run("", "commission", "--yes", "--quiet")
	assert.Equal(t, ExitNeeds, code, errs)
	assert.Contains(t, out, "2 done, 1 need")
	assert.Contains(t, out, "C02 (02:7a:11:00:01:02) its HTTPS does not work")
	assert.Contains(t, out, "Note: C03: made itself another certificate")
	assert.Empty(t, c.bench.Device("mute").Passwords())
	history := c.must("log", "C01")
	assert.NotContains(t, history, "without encryption")
	c.must("leave", "C02", "--yes")
	c.must("prove", "--quiet")
	c.must("commission", "--yes", "--quiet")
}

// Where devices share a password, a stranger's camera that is taken by mistake is not
// given it unless somebody says so.
func TestANewcomerIsNotGivenAPasswordInUse(t *testing.T) {
	t.Parallel()
	c := hire(t, strings.Replace(thiefSite, "seed: 7", "seed: 8", 1), "--subnet", "10.61.8.0/23")
	c.sheet("password: {style: shared}\n")
	c.bench.Device("plain").Unplug()
	c.prepare()
	_, _, errs := c.run("", "commission", "--yes")
	assert.Contains(t, errs, "every device of the job learns a password that others have")
	shared := strings.TrimSpace(c.must("key", "show"))
	c.bench.Device("plain").Plug()
	c.prepare()
	code, out, errs := c.run("", "commission", "--yes", "--quiet")
	assert.Equal(t, ExitNeeds, code, errs)
	assert.Contains(t, out, "is new, and would be given a password that other devices have")
	assert.Empty(t, c.bench.Device("plain").Passwords())
	c.must("commission", "--yes", "--quiet", "--newcomers")
	assert.Equal(t, []string{shared}, c.bench.Device("plain").Passwords())
	c.must("prove", "--quiet")
}
