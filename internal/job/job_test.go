package job

import (
	"database/sql"
	"io/fs"
	"net/netip"
	"path/filepath"
	"testing"
	"time"

	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/secret"
)

func begin(t *testing.T) *Job {
	dir := filepath.Join(t.TempDir(), "a job % with ? odd # name")
	require.NoError(t, Begin(t.Context(), dir, NewSheet("x", "", "", time.Now())))
	j, err := Open(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(func() { j.Close() })
	return j
}

func camera(n byte) device.Device {
	return device.Device{
		Tag: "C0" + string('0'+n), InJob: device.Taken, MAC: device.MAC{2, 0, 0, 0, 0, n}, Endpoint: "urn:uuid:x",
		Addresses: []netip.Addr{netip.MustParseAddr("192.168.77.20")}, Clashing: []device.MAC{{2, 9}}, Condition: device.Clash, Why: "because",
		Facts:     device.Facts{Kind: device.Camera, Make: "Verrine", Serial: "S", Access: device.Fresh, Rules: &secret.Rules{MinLen: 9}, Ports: []uint16{80}},
		FirstSeen: time.Date(2026, 1, 2, 3, 4, 5, 6, time.UTC), SeenAt: time.Date(2026, 1, 2, 3, 4, 6, 0, time.UTC),
		Allotted: &device.Settings{Address: netip.MustParseAddr("10.61.8.42"), Prefix: 23},
	}
}

func TestRegisterGivesBackWhatWasSaved(t *testing.T) {
	j := begin(t)
	list := []device.Device{camera(1), camera(2), {MAC: device.MAC{2, 0, 0, 0, 0, 3}, FirstSeen: time.Unix(0, 0).UTC(), SeenAt: time.Unix(0, 0).UTC()}}
	list[2].Facts.Kind = device.Other
	require.NoError(t, j.Register.Save(t.Context(), list))
	got, err := j.Register.Devices(t.Context())
	require.NoError(t, err)
	for i := range list {
		require.NotZero(t, list[i].ID)
	}
	list[2].Addresses, list[2].Clashing = []netip.Addr{}, []device.MAC{}
	assert.Equal(t, list, got)

	list[0].InJob, list[0].Proved = device.Left, time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	require.NoError(t, j.Register.Save(t.Context(), list[:1]))
	got, err = j.Register.Devices(t.Context())
	require.NoError(t, err)
	assert.Equal(t, list, got)
}

func TestSaveIsAllOrNothing(t *testing.T) {
	j := begin(t)
	twin := camera(2)
	twin.Tag = camera(1).Tag
	require.Error(t, j.Register.Save(t.Context(), []device.Device{camera(1), twin}))
	got, err := j.Register.Devices(t.Context())
	require.NoError(t, err)
	assert.Empty(t, got)
}

func TestJournalAndAttempts(t *testing.T) {
	j := begin(t)
	list := []device.Device{camera(1)}
	require.NoError(t, j.Register.Save(t.Context(), list))
	p := commission.Plan{ID: list[0].ID, MAC: list[0].MAC}
	id, err := j.Register.Begin(t.Context(), p, commission.Write{Step: commission.StepKey, Intent: "administrator admin", InClear: true})
	require.NoError(t, err)
	history, err := j.Register.History(t.Context(), p.ID)
	require.NoError(t, err)
	require.Len(t, history, 1)
	assert.Empty(t, history[0].Outcome, "cut short until it ends")
	require.NoError(t, j.Register.End(t.Context(), id, "unknown", "no reply"))
	require.Error(t, j.Register.End(t.Context(), id, "nonsense", ""))
	history, err = j.Register.History(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, "unknown", history[0].Outcome)
	assert.False(t, history[0].Ended.IsZero())

	maybe, err := j.Register.MaybeKeyed(t.Context())
	require.NoError(t, err)
	assert.Equal(t, map[int64]bool{p.ID: true}, maybe, "an unknown outcome may have been carried out")
	require.NoError(t, j.Register.End(t.Context(), id, "refused", ""))
	maybe, err = j.Register.MaybeKeyed(t.Context())
	require.NoError(t, err)
	assert.Empty(t, maybe)

	found := commission.Found{Settings: device.Settings{Address: netip.MustParseAddr("192.168.77.20"), Prefix: 24}}
	require.NoError(t, j.Register.Found(t.Context(), p, found))
	require.NoError(t, j.Register.Found(t.Context(), p, commission.Found{}), "the first reading stands")
	got, err := j.Register.Devices(t.Context())
	require.NoError(t, err)
	assert.Equal(t, &found.Settings, got[0].AsFound)
}

// A register of every earlier version keeps what it holds.
func TestMigrationsKeepWhatIsThere(t *testing.T) {
	for version := int64(1); version <= 4; version++ {
		path := filepath.Join(t.TempDir(), RegisterFile)
		db, err := sql.Open("sqlite", path)
		require.NoError(t, err)
		files, err := fs.Sub(migrations, "migrations")
		require.NoError(t, err)
		p, err := goose.NewProvider(goose.DialectSQLite3, db, files)
		require.NoError(t, err)
		_, err = p.UpTo(t.Context(), version)
		require.NoError(t, err)
		for _, q := range []string{
			"INSERT INTO device (id, tag, mac, first_seen, seen_at) VALUES (7, 'C01', '02:00:00:00:00:01', '2026-11-23T09:00:00Z', '2026-11-23T09:00:00Z')",
			"INSERT INTO journal (device_id, step, intent, begun_at, outcome) VALUES (7, 'key', 'administrator admin', '2026-11-23T09:00:00Z', 'done')",
			"INSERT INTO attempt (device_id, at) VALUES (7, '2026-11-23T09:00:00Z')",
		} {
			_, err = db.ExecContext(t.Context(), q)
			require.NoError(t, err, "version %d", version)
		}
		require.NoError(t, db.Close())
		r, err := OpenRegister(t.Context(), path)
		require.NoError(t, err, "version %d", version)
		devices, err := r.Devices(t.Context())
		require.NoError(t, err)
		require.Len(t, devices, 1)
		assert.Equal(t, "C01", devices[0].Tag)
		history, err := r.History(t.Context(), 7)
		require.NoError(t, err)
		require.Len(t, history, 1)
		assert.Equal(t, "done", history[0].Outcome)
		assert.False(t, history[0].InClear, "what was not recorded is not claimed")
		require.NoError(t, r.Close())
	}
}

func TestTheJournalTellsHowFarADeviceIs(t *testing.T) {
	j := begin(t)
	list := []device.Device{camera(1), camera(2), camera(3), camera(4), camera(5), camera(6)}
	require.NoError(t, j.Register.Save(t.Context(), list))
	viewer := commission.UserIntent(commission.Account{Name: "viewer", Level: commission.Viewer})
	for _, e := range []struct {
		at      int
		step    commission.Step
		intent  string
		outcome string
		inClear bool
	}{
		{0, commission.StepKey, "administrator admin", "done", true},
		{0, commission.StepRekey, "the password of admin", "done", false},
		{1, commission.StepKey, "administrator admin", "done", false},
		{1, commission.StepUser, viewer, "unknown", true},
		{2, commission.StepUser, viewer, "done", true},
		{2, commission.StepKey, "administrator admin", "refused", true},
		{3, commission.StepKey, "administrator admin", "done", true},
		{3, commission.StepReset, "to the factory state", "done", false},
		{3, commission.StepClock, "UTC now", "done", false},
		{4, commission.StepAddress, "10.61.8.41/23, DHCP off", "done", false},
		{5, commission.StepAddress, "10.61.8.42/23, DHCP off", "done", false},
		{4, commission.StepRestart, "to use the new address", "unknown", false},
		{5, commission.StepRestart, "to use the new address", "done", false},
	} {
		id, err := j.Register.Begin(t.Context(), commission.Plan{ID: list[e.at].ID}, commission.Write{Step: e.step, Intent: e.intent, InClear: e.inClear})
		require.NoError(t, err)
		detail := ""
		if e.step == commission.StepAddress {
			detail = commission.AtRestart
		}
		require.NoError(t, j.Register.End(t.Context(), id, e.outcome, detail))
	}
	got, err := j.Register.Progress(t.Context())
	require.NoError(t, err)
	assert.Equal(t, map[int64]Progress{
		list[0].ID: {Keyed: true, Rekey: Sent{got[list[0].ID].Rekey.At, true}}, list[1].ID: {Keyed: true, InClear: true}, list[2].ID: {InClear: true, Users: map[string]bool{viewer: true}},
		list[3].ID: {Answered: map[commission.Step]string{commission.StepClock: "UTC now"}, Reset: Sent{got[list[3].ID].Reset.At, true}}, list[4].ID: {Moved: true, Pending: "10.61.8.41/23, DHCP off"}, list[5].ID: {Moved: true},
	}, got)
	assert.Equal(t, "viewer as user", viewer)
	assert.WithinDuration(t, time.Now(), got[list[0].ID].Rekey.At, time.Minute)
}

func TestUsersOfTheSheet(t *testing.T) {
	sheet, err := ParseSheet([]byte("password: {require_tls: true, without_tls: [C07, '02:00:00:00:00:09']}\nusers:\n  - {name: viewer, role: user, on: [recorder, C01]}\n  - {name: watch, role: operator}\n"))
	require.NoError(t, err)
	s := sheet.Among(nil)
	watch := commission.Account{Name: "watch", Level: commission.Operator}
	assert.Equal(t, []commission.Account{{Name: "viewer", Level: commission.Viewer}, watch}, s.UsersOn(&device.Device{Facts: device.Facts{Kind: device.Recorder}}))
	assert.Len(t, s.UsersOn(&device.Device{Tag: "C01"}), 2)
	assert.Equal(t, []commission.Account{watch}, s.UsersOn(&device.Device{Tag: "C02"}))
	assert.True(t, s.NeedsTLS(&device.Device{Tag: "C01"}))
	assert.False(t, s.NeedsTLS(&device.Device{Tag: "C07"}))
	assert.False(t, s.NeedsTLS(&device.Device{MAC: device.MAC{2, 0, 0, 0, 0, 9}}))
	for text, want := range map[string]string{
		"users: [{name: '', role: user}]":                       "users[0].name",
		"users: [{name: a b, role: user}]":                      "without spaces",
		"users: [{name: admin, role: user}]":                    "administrator of password.user",
		"users: [{name: v, role: user}, {name: V, role: user}]": "is there twice",
		"users: [{name: v, role: viewer}]":                      "use administrator, operator or user",
		"users: [{name: v, role: user, password: secret}]":      "has no key",
		"password: {require_tls: maybe}":                        "require_tls",
	} {
		_, err := ParseSheet([]byte(text))
		require.ErrorIs(t, err, ErrSheet, text)
		assert.ErrorContains(t, err, want)
	}
}

func TestUsersOnTheKeyring(t *testing.T) {
	path := filepath.Join(t.TempDir(), "k")
	k := NewKeyring(path, "phrase")
	k.SetWork(10)
	mac := device.MAC{2, 1}
	assert.True(t, k.UserFor(mac, "viewer").IsZero())
	k.SetUserFor(mac, "viewer", secret.New("a"))
	k.SetUserFor(mac, "guard", secret.New("b"))
	k.SetSharedUser("viewer", secret.New("c"))
	require.NoError(t, k.Save())
	k, err := OpenKeyring(path, "phrase")
	require.NoError(t, err)
	assert.Equal(t, []string{"guard", "viewer"}, k.UserNames(mac))
	assert.Equal(t, "a", k.UserFor(mac, "viewer").Reveal())
	assert.Equal(t, "c", k.SharedUser("viewer").Reveal())
}

func TestProofsAreKeptWithTheirDates(t *testing.T) {
	j := begin(t)
	d := []device.Device{{MAC: device.MAC{2, 1}}}
	require.NoError(t, j.Register.Save(t.Context(), d))
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	for i, ok := range []bool{false, true} {
		p := ProofRecord{At: at.Add(time.Duration(i) * time.Hour), OK: ok, Checks: []byte(`[{"check":"clock","ok":true}]`)}
		require.NoError(t, j.Register.AddProofs(t.Context(), map[int64]ProofRecord{d[0].ID: p}, func(*device.Device) {}))
	}
	got, err := j.Register.Proofs(t.Context(), d[0].ID)
	require.NoError(t, err)
	require.Len(t, got, 2)
	assert.False(t, got[0].OK)
	assert.Equal(t, at.Add(time.Hour), got[1].At)
	assert.JSONEq(t, `[{"check":"clock","ok":true}]`, string(got[1].Checks))
}

func TestLeases(t *testing.T) {
	j := begin(t)
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	l := LeaseRecord{MAC: device.MAC{2, 1}, Address: netip.MustParseAddr("10.61.8.41"), At: at, Until: at.Add(time.Hour)}
	require.NoError(t, j.Register.AddLease(t.Context(), l))
	got, err := j.Register.Leases(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []LeaseRecord{l}, got)
}

func TestSurveyRecord(t *testing.T) {
	j := begin(t)
	last, err := j.Register.LastSurvey(t.Context())
	require.NoError(t, err)
	assert.True(t, last.At.IsZero())
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	s := SurveyRecord{
		At: at, Took: 9 * time.Second, Found: 3, Met: 3, Laptop: []netip.Prefix{netip.MustParsePrefix("10.61.8.200/23")},
		Offers: []Offer{{
			ServerMAC: device.MAC{2}, Server: netip.MustParseAddr("10.61.8.2"), Subnet: netip.MustParsePrefix("10.61.8.0/23"), Offered: netip.MustParseAddr("10.61.9.100"),
			DNS: []netip.Addr{netip.MustParseAddr("10.61.8.3")}, NTP: []netip.Addr{netip.MustParseAddr("10.61.8.4")}, LeaseS: 7200, At: at,
		}},
	}
	require.NoError(t, j.Register.AddSurvey(t.Context(), s))
	offers, err := j.Register.Offers(t.Context())
	require.NoError(t, err)
	assert.Equal(t, s.Offers, offers)
	last, err = j.Register.LastSurvey(t.Context())
	require.NoError(t, err)
	assert.Equal(t, s.Laptop, last.Laptop)
	require.NoError(t, j.Register.AddSurvey(t.Context(), SurveyRecord{At: at}))
	offers, err = j.Register.Offers(t.Context())
	require.NoError(t, err)
	assert.Len(t, offers, 1, "a survey that met nobody tells nothing of who is there")
	require.NoError(t, j.Register.AddSurvey(t.Context(), SurveyRecord{At: at, Met: 2}))
	offers, err = j.Register.Offers(t.Context())
	require.NoError(t, err)
	assert.Empty(t, offers, "a newer survey's offers replace the older's")
}
