package cli

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"janustat/internal/bench"
)

// spoiling is one thing that somebody does to a channel of a recorder, or to its camera.
type spoiling struct {
	what  string
	do    func(rec, camera *bench.Device, channel int)
	told  string // by prove, of this channel or its camera
	stays string // why the next commission leaves it; "" where it puts it right
}

func laid(change func(*bench.Laid)) func(_, _ *bench.Device, channel int) {
	return func(rec, _ *bench.Device, channel int) { rec.Relay(channel, change) }
}

// spoilings are played a round at a time, each on a channel of its own.
var spoilings = [][]spoiling{{
	{"another password", laid(func(l *bench.Laid) { l.Password = "Somebody-else-1" }), "wrong password", ""},
	{"another user", laid(func(l *bench.Laid) { l.User = "boss" }), "401|another user", ""},
	{"no user", laid(func(l *bench.Laid) { l.User, l.Password = "", "" }), "401|another password", ""},
	{"the next camera", laid(func(l *bench.Laid) { l.URI = "rtsp://10.61.8.45/live/main" }), `plays C05`, ""},
	{"a stranger's camera", laid(func(l *bench.Laid) { l.URI = "rtsp://10.9.9.9/live" }), `plays rtsp://10\.9\.9\.9/live`, ""},
	{"set not to connect", laid(func(l *bench.Laid) { l.Mode = "NeverConnect" }), "set not to connect", ""},
	{"multicast", laid(func(l *bench.Laid) { l.Stream = "RTP-Multicast" }), "set up for multicast", ""},
	{"an idle job", laid(func(l *bench.Laid) { l.Job = "Idle" }), "its job", ""},
	{"no job", laid(func(l *bench.Laid) { l.Job = "none" }), "has no source", ""},
	{"no receiver", func(rec, _ *bench.Device, n int) { rec.Unlink(n) }, "has no source", ""},
	{"another name", laid(func(l *bench.Laid) { l.Name = "Till" }), `is called "Till"`, ""},
	{"another source", laid(func(l *bench.Laid) { l.Source = "urn:uuid:9999" }), `says that it is of "urn:uuid:9999"`, ""},
	{"kept shorter", laid(func(l *bench.Laid) { l.Retention = "P1D" }), "keeps its pictures for 1 day, and kept them for as long as there is room", ""},
	{"another path", laid(func(l *bench.Laid) { l.URI += "/sub" }), "plays", ""},
	{"another port", laid(func(l *bench.Laid) { l.URI = regexp.MustCompile(`//[^/]+`).ReplaceAllString(l.URI, "$0:9554") }), "plays", ""},
	{"a host name", laid(func(l *bench.Laid) { l.URI = "rtsp://camera-7.local/live" }), `plays rtsp://camera-7\.local/live`, ""},
}, {
	{"no address", laid(func(l *bench.Laid) { l.URI = "" }), "plays", ""},
	{"what is no address", laid(func(l *bench.Laid) { l.URI = "rtsp://%zz" }), "plays", ""},
	{"no name, no source", laid(func(l *bench.Laid) { l.Name, l.Source = "", "" }), `is called ""`, ""},
	{"an idle job of low rank", laid(func(l *bench.Laid) { l.Job, l.Priority = "Idle", 0 }), "its job", ""},
	{"another user's words", laid(func(l *bench.Laid) { l.User = "recorder2" }), "401|another user", ""},
	{"not to connect, and another", laid(func(l *bench.Laid) { l.Mode, l.URI = "NeverConnect", "rtsp://10.9.9.9/x" }), "set not to connect|plays", ""},
	{"everything at once", laid(func(l *bench.Laid) {
		l.Name, l.Source, l.Password, l.Job, l.Stream = "Gate", "urn:x", "Somebody-else-2", "Idle", "RTP-Multicast"
	}), "multicast", ""},
	{"a job of higher rank", func(rec, _ *bench.Device, n int) { rec.Outrank(n, "rtsp://10.9.9.9/other") }, `plays rtsp://10\.9\.9\.9/other`, "10.9.9.9/other"},
	{"a job of higher rank with our camera", func(rec, _ *bench.Device, n int) { rec.Outrank(n, "rtsp://10.61.8.41/live/main") }, "plays C01", ""},
	{"the camera knows no recorder", func(_, c *bench.Device, _ int) { c.Rekey("recorder", "") }, "no recorder", ""},
	{"the camera has another password for it", func(_, c *bench.Device, _ int) { c.Rekey("recorder", "Somebody-else-3") }, "password of recorder is refused", ""},
	{"the camera shows nothing", func(_, c *bench.Device, _ int) { c.Blind(true) }, "no such stream|no stream", "no stream"},
	{"the camera is out", func(_, c *bench.Device, _ int) { c.Unplug() }, "unreachable", "C13"},
	{"a foreign scheme", laid(func(l *bench.Laid) { l.URI = "http://10.61.8.54/live" }), "plays", ""},
	{"a retention of years", laid(func(l *bench.Laid) { l.Retention = "P3650D" }), "keeps its pictures for 3650 days", ""},
	{"another camera's name", laid(func(l *bench.Laid) { l.Name = "Camera C01" }), "is called", ""},
}}

// Whatever somebody does to a recorder's channels or to their cameras, prove tells it with its
// cause; the next commission puts it right, or says why it stays.
func TestSpoiltChannelsAreToldAndMended(t *testing.T) {
	t.Parallel()
	c := watched(t, true, "", 16)
	rec := c.bench.Device("rec")
	for round, list := range spoilings {
		for i, s := range list {
			s.do(rec, c.bench.Device(fmt.Sprintf("dome-%d", i+1)), i+1)
		}
		told := func(out string, i int, cause string) bool {
			return regexp.MustCompile(fmt.Sprintf(`(R01 channel: should be channel %d \(C%02[1]d\)|C%02[1]d (users|stream|answers)).*(%s)`, i+1, cause)).MatchString(out)
		}
		var out string
		// A recorder takes a while to see what is wrong.
		for begun, all := time.Now(), false; !all && time.Since(begun) < time.Minute; {
			_, out, _ = c.run("", "prove", "--quiet")
			all = true
			for i, s := range list {
				all = all && told(out, i, s.told)
			}
		}
		for i, s := range list {
			assert.True(t, told(out, i, s.told), "round %d: %s", round+1, s.what)
		}
		_, mended, _ := c.run("", "commission", "--yes", "--quiet")
		flat := strings.Join(strings.Fields(mended), " ")
		_, out, _ = c.run("", "prove", "--quiet")
		for i, s := range list {
			if bad := told(out, i, "."); s.stays == "" {
				assert.False(t, bad, "round %d: %s is not put right\n%s", round+1, s.what, flat)
			} else {
				assert.Contains(t, flat, s.stays, "round %d: %s", round+1, s.what)
			}
		}
		if t.Failed() {
			t.Logf("commission: %s\nprove: %s", mended, out)
		}
	}
}

// What is wrong with the whole of a recorder is told as that.
func TestASpoiltRecorderIsTold(t *testing.T) {
	t.Parallel()
	c := watched(t, false, "", 2)
	rec := c.bench.Device("rec")
	behaves := func(m string) (spoil, back func()) {
		return func() { rec.Behave(m, true) }, func() { rec.Behave(m, false) }
	}
	for _, x := range []struct {
		what, told string
		manner     string
		spoil      func()
		stays      bool
	}{
		{what: "its disk", told: `not recording \(The disk cannot be written\)`, manner: "broken disk", stays: true},
		{what: "its tracks", told: `not recording \(it does not say why\)`, manner: "tracks fail", stays: true},
		{what: "its jobs are gone", told: "has no source", spoil: func() {
			for n := range 2 {
				rec.Relay(n+1, func(l *bench.Laid) { l.Job = "none" })
			}
		}},
		{what: "its receivers are gone", told: "has no source", spoil: func() { rec.Unlink(1); rec.Unlink(2) }},
		{what: "two channels are exchanged", told: "plays C0", spoil: func() { rec.Swap(1, 2) }},
		{what: "its password", told: "password: should be accepted", spoil: func() { rec.Rekey("admin", "Somebody-else-4") }, stays: true},
		{what: "it is out", told: "answers", spoil: func() { rec.Unplug() }, stays: true},
	} {
		spoil, back := x.spoil, func() {}
		if x.manner != "" {
			spoil, back = behaves(x.manner)
		}
		spoil()
		told := false
		var out string
		for begun := time.Now(); !told && time.Since(begun) < 30*time.Second; {
			_, out, _ = c.run("", "prove", "R01", "--quiet")
			told = regexp.MustCompile("R01 .*(" + x.told + ")").MatchString(out)
		}
		assert.True(t, told, "%s: %s", x.what, out)
		if x.what == "its tracks" { // as with its disk: a commission waits for either to be mended
			back()
			continue
		}
		code, out, _ := c.run("", "commission", "--yes", "--quiet")
		if !x.stays {
			assert.Equal(t, ExitDone, code, "%s: %s", x.what, out)
		} else {
			assert.Equal(t, ExitNeeds, code, "%s: %s", x.what, out)
			assert.Contains(t, out, "R01", x.what)
		}
		back()
	}
}
