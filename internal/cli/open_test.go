package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"html"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"janustat/core/checks"
	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/open"
	"janustat/core/proving"
	"janustat/internal/job"
	"janustat/internal/sheetfile"
	"janustat/internal/store"
)

// finishedJob is a job with nothing open but what a state adds: a recorder, a camera on its
// channel, and another.
type finishedJob struct {
	at      time.Time
	devices []device.Device
	sheet   string
	checks  map[string][]proving.Check // by tag
	journal []commission.Write         // of C01
	locked  bool                       // C01
}

func finished() *finishedJob {
	at := time.Date(2026, 11, 29, 10, 0, 0, 0, time.UTC)
	j := &finishedJob{at: at, sheet: "channels: auto\n", checks: map[string][]proving.Check{}}
	for i, kind := range []device.Kind{device.Recorder, device.Camera, device.Camera} {
		tag := []string{"R01", "C01", "C02"}[i]
		s := device.Settings{Address: netip.AddrFrom4([4]byte{10, 61, 8, byte(11 + 30*i)}), Prefix: 23, Name: "Gangway " + tag}
		d := device.Device{
			Tag: tag, InJob: device.Taken, MAC: device.MAC{2, 0xe4, 0x42, 0, 9, byte(i)}, FirstSeen: at, SeenAt: at.Add(time.Hour), OpenedAt: at.Add(time.Hour), Proved: at.Add(2 * time.Hour), ChangedAt: at.Add(time.Hour),
			Facts:     device.Facts{Kind: kind, Make: "Verrine", Model: "Dome 420", Serial: "S" + tag, Access: device.Keyed, Name: s.Name, Settings: &s},
			Addresses: []netip.Addr{s.Address}, Condition: device.Settled, Allotted: &s, AsLeft: &s, AsFound: &s,
		}
		j.devices = append(j.devices, d)
		j.checks[tag] = []proving.Check{{Name: checks.Answers, OK: true}, {Name: checks.Clock, OK: true}}
	}
	return j
}

// camera gives C01.
func (j *finishedJob) camera() *device.Device { return &j.devices[1] }

// fresh makes C01 one that nobody has decided about.
func (j *finishedJob) fresh(access device.Access) *device.Device {
	d := j.camera()
	d.InJob, d.Tag, d.Access, d.Name, d.OpenedAt, d.Proved, d.AsLeft, d.AsFound, d.Allotted = device.Undecided, "", access, "", time.Time{}, time.Time{}, nil, nil, nil
	d.Settings, d.Addresses = &device.Settings{Address: netip.MustParseAddr("192.168.77.20"), Prefix: 24}, []netip.Addr{netip.MustParseAddr("192.168.77.20")}
	return d
}

func (j *finishedJob) write(t *testing.T) *crew {
	dir := filepath.Join(t.TempDir(), "job")
	sheet := sheetfile.New("Quay", "10.61.8.0/23", "", j.at)
	require.NoError(t, job.Begin(t.Context(), dir, sheet))
	file, err := os.OpenFile(filepath.Join(dir, job.SheetFile), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = file.WriteString("\n" + j.sheet)
	require.NoError(t, err)
	require.NoError(t, file.Close())
	on, err := job.Open(t.Context(), dir)
	require.NoError(t, err)
	defer on.Close()
	require.NoError(t, on.Register.AddSurvey(t.Context(), store.SurveyRecord{At: j.at.Add(time.Hour), Met: 3, Found: 3}))
	require.NoError(t, on.Register.Record(t.Context(), "test", j.devices))
	saved, err := on.Register.Devices(t.Context())
	require.NoError(t, err)
	proofs := map[int64]store.Proof{}
	for _, d := range saved {
		if checks := j.checks[d.Tag]; checks != nil {
			text, err := json.Marshal(checks)
			require.NoError(t, err)
			proofs[d.ID] = store.Proof{At: j.at.Add(2 * time.Hour), OK: true, Checks: text}
		}
	}
	require.NoError(t, on.Register.AddProofs(t.Context(), proofs, func(*device.Device) {}))
	one := device.ByMAC(saved, device.MAC{2, 0xe4, 0x42, 0, 9, 1})
	for _, w := range j.journal {
		id, err := on.Register.Begin(t.Context(), commission.Plan{ID: one.ID}, w)
		require.NoError(t, err)
		outcome := commission.OutcomeDone
		if w.Step == commission.StepRekey {
			outcome = commission.OutcomeUnknown
		}
		require.NoError(t, on.Register.End(t.Context(), id, string(outcome), ""))
		require.NoError(t, on.Register.Change(t.Context(), "test", one.ID, func(d *device.Device) { d.Be(one.Kept()) }), "it was proved since")
	}
	c := &crew{t: t, dir: dir, wire: "bench:/nowhere", printed: &strings.Builder{}, ran: map[string]bool{}}
	if j.locked {
		c.sql(fmt.Sprintf("INSERT INTO try (id, mac, at, boot, boot_s, user, origin, outcome, hold_s) VALUES ('x', '%s', '%s', '', 0, 'admin', '', '%s', 1800)", one.MAC, time.Now().UTC().Format(time.RFC3339Nano), store.TryLocked))
	}
	return c
}

// In each state of a job the same list stands on the screen and in every document: what is open,
// and that nothing is.
func TestEveryStateIsToldAlikeEverywhere(t *testing.T) {
	t.Parallel()
	for name, x := range map[string]struct {
		spoil func(j *finishedJob)
		want  map[open.What]string // the device that each is of
	}{
		"finished":                  {func(*finishedJob) {}, nil},
		"found and not decided on":  {func(j *finishedJob) { j.fresh(device.Fresh) }, map[open.What]string{open.Undecided: "SC01"}},
		"somebody's, called Till":   {func(j *finishedJob) { j.fresh(device.Fresh).Name = "Till" }, map[open.What]string{open.SetApart: "SC01"}},
		"somebody's, protected":     {func(j *finishedJob) { j.fresh(device.Sealed) }, map[open.What]string{open.SetApart: "SC01"}},
		"did not say what it is":    {func(j *finishedJob) { j.fresh(device.Unread) }, map[open.What]string{open.Unread: "SC01"}},
		"taken, without an address": {func(j *finishedJob) { d := j.fresh(device.Fresh); d.InJob, d.Tag = device.Taken, "C01" }, map[open.What]string{open.NoAddress: "C01"}},
		"taken, and bare": {func(j *finishedJob) {
			d := j.fresh(device.Unmanaged)
			d.InJob, d.Tag, d.Condition, d.Addresses, d.Settings = device.Taken, "C01", device.Bare, nil, nil
		}, map[open.What]string{open.ByHand: "C01"}},
		"allotted, and by hand": {func(j *finishedJob) {
			d := j.fresh(device.Unmanaged)
			d.InJob, d.Tag, d.Allotted, d.Condition = device.Taken, "C01", j.devices[2].Allotted, device.Stray
		}, map[open.What]string{open.ByHand: "C01"}},
		"allotted, and nothing done": {func(j *finishedJob) {
			d := j.fresh(device.Fresh)
			d.InJob, d.Tag, d.Allotted = device.Taken, "C01", j.devices[2].Allotted
		}, map[open.What]string{open.Uncommission: "C01"}},
		"sealed":     {func(j *finishedJob) { d := j.fresh(device.Sealed); d.InJob, d.Tag = device.Taken, "C01" }, map[open.What]string{open.Closed: "C01"}},
		"not proved": {func(j *finishedJob) { j.camera().Proved, j.camera().ChangedAt = time.Time{}, j.at.Add(3*time.Hour) }, map[open.What]string{open.Unproved: "C01"}},
		"proved with a failure": {func(j *finishedJob) {
			j.camera().Proved = time.Time{}
			j.checks["C01"][1] = proving.Check{Name: checks.Clock, Want: "within 2s", Got: "1h off"}
		}, map[open.What]string{open.Failed: "C01"}},
		"refuses a setting": {func(j *finishedJob) {
			j.checks["C01"][1] = proving.Check{Name: checks.Clock, Want: "within 2s", Got: "1h off", Refused: true}
		}, map[open.What]string{open.Refused: "C01"}},
		"old passwords untested": {func(j *finishedJob) {
			j.checks["C01"][1] = proving.Check{Name: checks.OldKeys, OK: true, Left: 6}
		}, map[open.What]string{open.Unproved: "C01"}},
		"silent": {func(j *finishedJob) { j.camera().SeenAt, j.camera().OpenedAt = j.at, j.at }, map[open.What]string{open.Silent: "C01"}},
		"alarm":  {func(j *finishedJob) { j.camera().Alarm = "it shows another certificate" }, map[open.What]string{open.Alarm: "C01"}},
		"locked": {func(j *finishedJob) { j.locked = true }, map[open.What]string{open.Locked: "C01"}},
		"reset":  {func(j *finishedJob) { j.camera().ResetAt = j.at.Add(3 * time.Hour) }, map[open.What]string{open.Reset: "C01"}},
		"no channel, and nobody asked": {func(j *finishedJob) {
			j.sheet = "channels: {R01: {1: C02}}" + "\n"
		}, map[open.What]string{open.Unrecorded: "C01"}},
		"no channel, by somebody's word":  {func(j *finishedJob) { j.sheet = "channels: none\n" }, nil},
		"a panel without a server":        {func(j *finishedJob) { d := j.camera(); d.Kind = device.Panel }, map[open.What]string{open.Unreported: "C01"}},
		"two of one name":                 {func(j *finishedJob) { j.camera().Name, j.devices[2].Name = "Gangway", "gangway" }, map[open.What]string{open.SameName: "C02"}},
		"a password that is half changed": {func(j *finishedJob) { j.journal = []commission.Write{{Step: commission.StepRekey, Intent: "x"}} }, map[open.What]string{open.HalfChanged: "C01"}},
		"a password set without encryption": {func(j *finishedJob) {
			j.journal = []commission.Write{{Step: commission.StepKey, Intent: "administrator admin", InClear: true}}
		}, map[open.What]string{open.Clear: "C01"}},
		"left out after it was set up": {func(j *finishedJob) { j.camera().InJob = device.Left }, map[open.What]string{open.LeftOut: "C01"}},
		"leased": {func(j *finishedJob) {
			s := *j.camera().AsLeft
			s.DHCP = true
			j.camera().AsLeft, j.camera().Allotted = &s, &s
		}, map[open.What]string{open.Lease: "C01"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			j := finished()
			x.spoil(j)
			c := j.write(t)
			var s standing
			c.json(&s)
			got := map[open.What]string{}
			var texts []string
			pressing := false
			for _, i := range s.Open {
				got[i.What] = i.Device
				texts = append(texts, i.Text)
				pressing = pressing || i.Urgency != "note"
			}
			if x.want == nil {
				x.want = map[open.What]string{}
			}
			assert.Equal(t, x.want, got)
			screen := words(c.must())
			for _, text := range texts {
				assert.Contains(t, screen, words(text))
			}
			told := words(c.must("handover"))
			forms := map[string]string{"handover": told}
			for _, file := range []string{"register.json", "handover.html"} {
				b, err := os.ReadFile(filepath.Join(c.dir, "handover", file))
				require.NoError(t, err)
				forms[file] = words(html.UnescapeString(strings.ReplaceAll(string(b), `\"`, `"`)))
			}
			if tool, err := exec.LookPath("pdftotext"); err == nil || os.Getenv("CI") != "" {
				out, err := exec.CommandContext(t.Context(), tool, "-raw", "-l", "1", filepath.Join(c.dir, "handover", "handover.pdf"), "-").Output()
				require.NoError(t, err)
				forms["page one"] = words(string(out))
			}
			book, err := os.ReadFile(filepath.Join(c.dir, "handover", "register.xlsx"))
			require.NoError(t, err)
			f, err := excelize.OpenReader(bytes.NewReader(book))
			require.NoError(t, err)
			rows, err := f.GetRows("Open")
			require.NoError(t, err)
			assert.Len(t, rows, 2+len(texts), "the workbook has those and no others")
			forms["register.xlsx"] = words(fmt.Sprint(rows))
			for form, all := range forms {
				for n, text := range texts {
					if s.Open[n].What == open.Failed && form != "handover" { // its expected and found stand in columns
						for _, part := range []string{"clock", "within 2s", "1h off"} {
							assert.Contains(t, all, part, form)
						}
						continue
					}
					assert.Contains(t, all, words(text), form)
				}
				if pressing {
					assert.NotContains(t, all, "All 3 devices proved", form)
					assert.Contains(t, all, "Not finished", form)
				} else {
					assert.NotContains(t, all, "Not finished", form)
				}
				assert.NotContains(t, all, "Accepted:", form)
			}
			screen = words(c.must())
			if pressing {
				assert.NotContains(t, screen, "nothing is open")
			} else {
				assert.Contains(t, screen, "Next: nothing: nothing is open, and the record in handover is up to date")
			}
		})
	}
}

// words puts one space between the words of a text.
func words(s string) string { return strings.Join(strings.Fields(s), " ") }
