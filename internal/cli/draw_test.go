package cli

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
	"janustat/internal/job"
)

// drawnSeeds are sites whose devices all end right.
var drawnSeeds = []uint64{101, 102, 103}

// drawnSize is how many devices a drawn site has.
const drawnSize = 10

// verdict is how a drawn device ended.
type verdict struct {
	seed   uint64
	id     string
	auth   string
	traits []string
	wrong  string // "" where it ended right
}

func (v verdict) String() string {
	return fmt.Sprint("seed ", v.seed, ", ", v.id, " (", v.auth, ": ", strings.Join(v.traits, ", "), "): ", v.wrong)
}

// Devices drawn at random end right, or are told why their nature forbids it.
func TestDrawnDevicesEndRight(t *testing.T) {
	if testing.Short() {
		t.Skip("draws take long")
	}
	t.Parallel()
	for _, v := range judgeDrawn(t, drawnSeeds) {
		assert.Empty(t, v.wrong, "%s", v)
	}
}

// Those that are drawn anew today are told, and fail nothing: JANUSTAT_DRAW says how many
// sites, and from which seed on (sites or sites:seed).
func TestDevicesDrawnToday(t *testing.T) {
	count, from := 0, uint64(time.Now().Year()*1000+time.Now().YearDay())*100
	sites, seed, _ := strings.Cut(os.Getenv("JANUSTAT_DRAW"), ":")
	count, _ = strconv.Atoi(sites)
	if n, err := strconv.ParseUint(seed, 10, 64); err == nil {
		from = n
	}
	if count == 0 {
		t.Skip("JANUSTAT_DRAW is not set")
	}
	var seeds []uint64
	for i := range count {
		seeds = append(seeds, from+uint64(i))
	}
	all := judgeDrawn(t, seeds)
	wrong := slices.DeleteFunc(slices.Clone(all), func(v verdict) bool { return v.wrong == "" })
	for _, v := range wrong {
		t.Log(v)
	}
	t.Logf("%d of %d drawn devices end right", len(all)-len(wrong), len(all))
	for _, v := range wrong {
		if small := shrunk(t, v); small != nil {
			t.Logf("seed %d, %s: of its traits it takes %s", v.seed, v.id, strings.Join(small, ", "))
		}
	}
}

// sitesAtOnce is how many sites are played beside each other: they wait more than they work.
const sitesAtOnce = 8

// judgeDrawn plays sites, some beside each other, and judges each device.
func judgeDrawn(t *testing.T, seeds []uint64) (out []verdict) {
	var mu sync.Mutex
	var wait sync.WaitGroup
	places := make(chan struct{}, sitesAtOnce)
	for _, seed := range seeds {
		wait.Go(func() {
			places <- struct{}{}
			defer func() { <-places }()
			s, traits, err := bench.Draw(seed, drawnSize)
			if !assert.NoError(t, err) {
				return
			}
			got := playDrawn(t, s, seed, traits)
			mu.Lock()
			defer mu.Unlock()
			out = append(out, got...)
		})
	}
	wait.Wait()
	slices.SortFunc(out, func(a, b verdict) int { return strings.Compare(fmt.Sprint(a.seed, a.id), fmt.Sprint(b.seed, b.id)) })
	return out
}

// Traits that devices once ended wrong by, together as they were met, end right.
func TestTraitsThatOnceEndedWrong(t *testing.T) {
	if testing.Short() {
		t.Skip("it plays a site for each")
	}
	t.Parallel()
	var wait sync.WaitGroup
	places := make(chan struct{}, sitesAtOnce)
	for i, c := range []struct{ auth, traits string }{
		{"token", "no information"},
		{"md5", "no discovery; wakes late"},
		{"md5", "names its user"},
		{"token", "names its user; hides users"},
		{"sha256", "ceiling that is told; hides users"},
		{"token", "UTF-16; texts of the world"},
		{"token", "old faults"},
		{"both", "no clock; clock ahead"},
		{"md5", "resets; nonce once"},
		{"md5", "factory first; late service"},
		{"token", "pages of errors; ntp closed"},
		{"any", "says ok, to every write; needs a restart"},
		{"md5", "hides administrators; factory password"},
		{"token", "hides administrators; hides users"},
		{"md5", "cuts 12"},
		{"token", "cuts 8; anonymous listed"},
	} {
		wait.Go(func() {
			places <- struct{}{}
			defer func() { <-places }()
			set := strings.Split(c.traits, "; ")
			s, err := bench.WithTraits(uint64(i), c.auth, set)
			if !assert.NoError(t, err, c.traits) {
				return
			}
			for _, v := range playDrawn(t, s, uint64(i), map[string][]string{"drawn-1": set}) {
				assert.Empty(t, v.wrong, "%s", v)
			}
		})
	}
	wait.Wait()
}

// recorded is what the record of a job says of a device.
type recorded struct {
	MAC, Address, Mask string
	AsFound            *struct{ Address, Zone string } `json:"as_found"`
	Proved             *time.Time                      `json:"proved_at"`
}

// recordOf has the record made, and reads it, by MAC.
func (c *crew) recordOf() map[string]recorded {
	dir := filepath.Join(c.t.TempDir(), "pack")
	c.run("", "handover", "--into", dir)
	data, err := os.ReadFile(filepath.Join(dir, "register.json"))
	if err != nil {
		return nil // nothing was taken
	}
	var all struct{ Devices []recorded }
	require.NoError(c.t, json.Unmarshal(data, &all))
	out := map[string]recorded{}
	for _, r := range all.Devices {
		out[r.MAC] = r
	}
	return out
}

// against says what in a record is not what a device itself has, or had.
func (r recorded) against(d *bench.Device, was *bench.Unit, at netip.Prefix) string {
	zone, summer := d.Zone()
	found := was.Found()
	switch {
	case r.MAC == "":
		return "is not on record"
	case r.Address != at.Addr().String() || r.Mask != "255.255.254.0":
		return fmt.Sprintf("is on record at %s, mask %s, and is at %s", r.Address, r.Mask, at)
	case r.Proved == nil:
		return "is not proved, by its record"
	case r.AsFound == nil:
		return "has nothing on record of what it was"
	case found.IsValid() && r.AsFound.Address != found.Addr().String():
		return fmt.Sprintf("was at %s, and its record says %s", found, r.AsFound.Address)
	case zone != cmp.Or(was.Zone, bench.UsualZone) || !summer:
		return fmt.Sprintf("had another time zone: %s is left, daylight saving %v", zone, summer)
	}
	return ""
}

// shrunk finds the fewest traits of a device that are enough for it to end wrong by itself; nil
// where it takes the others of its site.
func shrunk(t *testing.T, v verdict) []string {
	var sets [][]string
	for bits := 1; bits < 1<<len(v.traits); bits++ {
		var set []string
		for i, name := range v.traits {
			if bits>>i&1 == 1 {
				set = append(set, name)
			}
		}
		sets = append(sets, set)
	}
	for size := 1; size <= len(v.traits); size++ { // those of one size beside each other
		found := make(chan []string, len(sets))
		var wait sync.WaitGroup
		for _, set := range sets {
			if len(set) != size {
				continue
			}
			wait.Go(func() {
				s, err := bench.WithTraits(v.seed, v.auth, set)
				if err != nil {
					return // one that goes only with another
				}
				if got := playDrawn(t, s, v.seed, map[string][]string{"drawn-1": set}); got[0].wrong != "" {
					found <- set
				}
			})
		}
		wait.Wait()
		select {
		case set := <-found:
			return set
		default:
		}
	}
	return nil
}

// hoursAtMost is how many hours an installer may have to come back for.
const hoursAtMost = 5

// playDrawn sets a site up as an installer does, who does what he is told to, and judges
// each device by its own state.
func playDrawn(t *testing.T, s *bench.Site, seed uint64, traits map[string][]string) (out []verdict) {
	hurried := benchtest.Hurry(s)
	socket, logs, b, stop := benchtest.StartForHours(t, s)
	defer stop()
	c := &crew{t: t, pace: hurried, dir: filepath.Join(t.TempDir(), fmt.Sprintf("drawn-%d", seed)), wire: "bench:" + socket, logs: logs, bench: b, printed: &strings.Builder{}, ran: map[string]bool{}}
	c.must("begin", c.dir, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	path := filepath.Join(c.dir, job.SheetFile)
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	sheet := strings.Replace(string(text), "network:\n", "network:\n  dns: [10.61.8.1]\n  ntp: [10.61.8.1]\n", 1)
	sheet += fmt.Sprintf("password: {style: each, factory: [{user: admin, password: %s}]}\nusers: [{name: viewer, role: user}]\n", bench.DrawnFactory)
	require.NoError(t, os.WriteFile(path, []byte(sheet), 0o600))
	c.run("", "survey", "--quiet")
	c.run("", "survey", "--quiet", "--for", "1s")
	type row struct{ MAC, Tag, Access, Condition, Address string }
	list := func() map[string]row {
		var rows []row
		_, printed, _ := c.run("", "list", "--all", "--json")
		if err := json.Unmarshal([]byte(printed), &rows); err != nil {
			return nil
		}
		all := map[string]row{}
		for _, r := range rows {
			all[r.MAC] = r
		}
		return all
	}
	met := list()
	// Who counts misses one on a busy machine now and then, and looks once more.
	for more := 0; more < 2 && slices.ContainsFunc(b.Devices(), func(d *bench.Device) bool {
		r, ok := met[d.MAC().String()]
		return !ok || r.Access == "unmanaged"
	}); more++ {
		c.run("", "survey", "--quiet")
		met = list()
	}
	for _, d := range b.Devices() {
		if r, ok := met[d.MAC().String()]; ok && r.Access != "unmanaged" {
			c.run("", "take", r.MAC, "--kind", "camera", "--yes")
		}
	}
	c.run("", "allot")
	said := map[string]string{}
	for range hoursAtMost {
		code, printed, _ := c.run("", "commission", "--yes", "--quiet", "--json")
		var result struct {
			Results []struct{ MAC, Status, Reason string }
		}
		if json.Unmarshal([]byte(printed), &result) == nil {
			for _, r := range result.Results {
				said[r.MAC] = r.Status + " " + r.Reason
			}
		}
		if code == ExitDone {
			break
		}
		c.anHourLater()
	}
	c.anHourLater()
	mark := len(logs.Events())
	c.run("", "commission", "--yes", "--quiet")
	again := map[string]string{}
	for _, e := range logs.Events()[mark:] {
		if e.What == bench.EventWrite {
			again[e.Host] = e.Op
		}
	}
	proof := ""
	for range hoursAtMost { // old keys may be left for the next hour
		c.anHourLater()
		code, table, errs := c.run("", "prove", "--quiet")
		if proof = table + errs; code == ExitDone {
			break
		}
	}
	met = list()
	record := c.recordOf()
	wrongs := map[string]int{}
	for _, e := range logs.Events() {
		switch {
		case e.What == bench.EventLocked:
			wrongs[e.Host]++
		case e.What == bench.EventConnection, e.What == bench.EventWrite && b.Device(e.Host) == nil:
			assert.Fail(t, "somebody else's host was spoken with", "seed %d: %+v", seed, e)
		}
	}
	excuses := map[string]string{}
	for _, x := range bench.Traits() {
		excuses[x.Name] = x.Excuse
	}
	for i, d := range b.Devices() {
		id := s.Devices[i].ID
		v := verdict{seed: seed, id: id, auth: s.Devices[i].Auth(), traits: traits[id]}
		excused := slices.ContainsFunc(v.traits, func(x string) bool { return excuses[x] != "" })
		r := met[d.MAC().String()]
		at, dhcp, users := d.Look()
		_, key, _ := c.run("", "key", "show", r.Tag)
		switch {
		case wrongs[id] > 0:
			v.wrong = "it has locked itself"
		case excused && strings.HasPrefix(said[d.MAC().String()], "done"):
			v.wrong = "is done, against its nature"
		case excused:
		case r.MAC == "":
			v.wrong = "is not found"
		case r.Tag == "":
			v.wrong = "is found and not taken: " + r.Access
		case !strings.HasPrefix(said[r.MAC], "done"):
			v.wrong = said[r.MAC]
		case at.Addr().String() != r.Address || dhcp || !strings.HasPrefix(at.String(), "10.61."):
			v.wrong = fmt.Sprintf("is said to be done at %s, and is at %s (DHCP %v)", r.Address, at, dhcp)
		case !slices.ContainsFunc(users, func(u string) bool { return strings.EqualFold(u, "viewer") }):
			v.wrong = fmt.Sprintf("has no viewer: %v", users)
		case !d.OpenedBy(strings.TrimSpace(key)):
			v.wrong = "is not opened by what the keyring has"
		case d.OpenedBy(bench.DrawnFactory):
			v.wrong = "is opened by its factory password"
		case again[id] != "":
			v.wrong = "a second run writes: " + again[id]
		case r.Condition != "settled":
			v.wrong = "is " + r.Condition
		default:
			v.wrong = record[r.MAC].against(d, &s.Devices[i], at)
			if s.Devices[i].Guest != "" && strings.HasPrefix(v.wrong, "is not proved") {
				v.wrong = "" // a user that nobody here knows is told, until somebody takes it away
			}
			if strings.HasPrefix(v.wrong, "is not proved") {
				v.wrong += ":\n" + proof
			}
		}
		out = append(out, v)
	}
	return out
}
