// Package conform is what every store has to pass.
package conform

import (
	"net/netip"
	"testing"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/lan"
	"janustat/core/policy"
	"janustat/core/secret"
	"janustat/internal/store"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Open opens a new store, which is closed when the test ends.
type Open func(t *testing.T) store.Store

// Run tries a store.
func Run(t *testing.T, open Open) {
	for name, try := range map[string]func(*testing.T, Open){
		"RegisterGivesBackWhatWasSaved":      registerGivesBackWhatWasSaved,
		"SaveIsAllOrNothing":                 saveIsAllOrNothing,
		"TheJournalTellsHowFarADeviceIs":     theJournalTellsHowFarADeviceIs,
		"ProofsAreKeptWithTheirDates":        proofsAreKeptWithTheirDates,
		"Leases":                             leases,
		"SurveyRecord":                       surveyRecord,
		"GroundIsKept":                       groundIsKept,
		"TakingBackLeavesWhatWasLearntSince": takingBackLeavesWhatWasLearntSince,
		"WhatIsKeptIsWhatEventsComeTo":       whatIsKeptIsWhatEventsComeTo,
		"WhatOthersHaveChangedStays":         whatOthersHaveChangedStays,
		"WhatHasNotChangedIsNotWritten":      whatHasNotChangedIsNotWritten,
	} {
		t.Run(name, func(t *testing.T) { try(t, open) })
	}
}

// opened is a store under trial.
type opened struct{ Register store.Store }

func begin(t *testing.T, open Open) opened { return opened{open(t)} }

func camera(n byte) device.Device {
	return device.Device{
		Tag: "C0" + string('0'+n), InJob: device.Taken, MAC: device.MAC{2, 0, 0, 0, 0, n}, Endpoint: "urn:uuid:x",
		Addresses: []netip.Addr{netip.MustParseAddr("192.168.77.20")}, Clashing: []device.MAC{{2, 9}}, Condition: device.Clash, Why: "because",
		Facts:     device.Facts{Kind: device.Camera, Make: "Verrine", Serial: "S", Access: device.Fresh, Rules: &secret.Rules{MinLen: 9}, Ports: []uint16{80}},
		FirstSeen: time.Date(2026, 1, 2, 3, 4, 5, 6, time.UTC), SeenAt: time.Date(2026, 1, 2, 3, 4, 6, 0, time.UTC),
		Allotted: &device.Settings{Address: netip.MustParseAddr("10.61.8.42"), Prefix: 23},
	}
}

func registerGivesBackWhatWasSaved(t *testing.T, open Open) {
	j := begin(t, open)
	list := []device.Device{camera(1), camera(2), {MAC: device.MAC{2, 0, 0, 0, 0, 3}, FirstSeen: time.Unix(0, 0).UTC(), SeenAt: time.Unix(0, 0).UTC()}}
	list[2].Facts.Kind = device.Other
	list[1].Name = "Gangway B"
	require.NoError(t, j.Register.Record(t.Context(), "test", list))
	got, err := j.Register.Devices(t.Context())
	require.NoError(t, err)
	for i := range list {
		require.NotZero(t, list[i].ID)
	}
	called, err := j.Register.Called(t.Context())
	require.NoError(t, err)
	require.Len(t, called, len(got))
	for i, d := range got {
		want := device.Device{ID: d.ID, Tag: d.Tag, InJob: d.InJob, MAC: d.MAC}
		want.Kind, want.Serial, want.Name = d.Kind, d.Serial, d.Name
		assert.Equal(t, want, called[i])
	}
	list[2].Addresses, list[2].Clashing = []netip.Addr{}, []device.MAC{}
	assert.Equal(t, list, got)

	list[0].Apply(device.Chosen{At: time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC), Choice: device.Left}, device.Proving{At: time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC), Held: true})
	require.NoError(t, j.Register.Record(t.Context(), "test", list[:1]))
	got, err = j.Register.Devices(t.Context())
	require.NoError(t, err)
	assert.Equal(t, list, got)
}

func saveIsAllOrNothing(t *testing.T, open Open) {
	j := begin(t, open)
	twin := camera(2)
	twin.Tag = camera(1).Tag
	require.Error(t, j.Register.Record(t.Context(), "test", []device.Device{camera(1), twin}))
	got, err := j.Register.Devices(t.Context())
	require.NoError(t, err)
	assert.Empty(t, got)
}

func theJournalTellsHowFarADeviceIs(t *testing.T, open Open) {
	j := begin(t, open)
	list := []device.Device{camera(1), camera(2), camera(3), camera(4), camera(5), camera(6)}
	require.NoError(t, j.Register.Record(t.Context(), "test", list))
	account := commission.Account{Name: "viewer", Level: commission.Viewer}
	viewer := account.String()
	at := commission.Place{Address: netip.MustParseAddr("10.61.8.41"), Prefix: 23}
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
	assert.Equal(t, map[int64]policy.Progress{
		list[0].ID: {Keyed: true, Rekey: policy.Sent{At: got[list[0].ID].Rekey.At, Confirmed: true}}, list[1].ID: {Keyed: true, InClear: true, UsersInClear: map[commission.Account]bool{account: true}},
		list[2].ID: {InClear: true, UsersInClear: map[commission.Account]bool{account: true}, Users: map[commission.Account]bool{account: true}},
		list[3].ID: {Answered: map[commission.Step]string{commission.StepClock: `"UTC now"`}, Reset: policy.Sent{At: got[list[3].ID].Reset.At, Confirmed: true}}, list[4].ID: {Moved: true, Pending: at}, list[5].ID: {Moved: true},
	}, got)
	assert.Equal(t, "viewer as user", viewer)

	// What is kept are values, and words are made of them when they are shown.
	late := []device.Device{camera(7)}
	require.NoError(t, j.Register.Record(t.Context(), "test", late))
	for _, w := range []commission.Write{commission.UserWrite(account), {Step: commission.StepAddress, Intent: "in other words", Value: at}} {
		id, err := j.Register.Begin(t.Context(), commission.Plan{ID: late[0].ID}, w)
		require.NoError(t, err)
		require.NoError(t, j.Register.End(t.Context(), id, "done", commission.AtRestart))
	}
	got, err = j.Register.Progress(t.Context())
	require.NoError(t, err)
	assert.Equal(t, policy.Progress{Moved: true, Pending: at, Users: map[commission.Account]bool{account: true}}, got[late[0].ID])
	told, err := j.Register.History(t.Context(), late[0].ID)
	require.NoError(t, err)
	require.Len(t, told, 2)
	assert.Equal(t, []string{"viewer as user", "10.61.8.41/23, DHCP off"}, []string{told[0].Intent, told[1].Intent})
	assert.WithinDuration(t, time.Now(), got[list[0].ID].Rekey.At, time.Minute)
}

func proofsAreKeptWithTheirDates(t *testing.T, open Open) {
	j := begin(t, open)
	d := []device.Device{{MAC: device.MAC{2, 1}}}
	require.NoError(t, j.Register.Record(t.Context(), "test", d))
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	for i, ok := range []bool{false, true} {
		p := store.Proof{At: at.Add(time.Duration(i) * time.Hour), OK: ok, Checks: []byte(`[{"check":"clock","ok":true}]`)}
		require.NoError(t, j.Register.AddProofs(t.Context(), map[int64]store.Proof{d[0].ID: p}, func(*device.Device) {}))
	}
	got, err := j.Register.Proofs(t.Context(), d[0].ID)
	require.NoError(t, err)
	require.Len(t, got, 2)
	assert.False(t, got[0].OK)
	assert.Equal(t, at.Add(time.Hour), got[1].At)
	assert.JSONEq(t, `[{"check":"clock","ok":true}]`, string(got[1].Checks))
}

func leases(t *testing.T, open Open) {
	j := begin(t, open)
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	l := lan.Lease{MAC: device.MAC{2, 1}, Address: netip.MustParseAddr("10.61.8.41"), At: at, Until: at.Add(time.Hour)}
	require.NoError(t, j.Register.AddLease(t.Context(), l))
	got, err := j.Register.Leases(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []lan.Lease{l}, got)
}

func surveyRecord(t *testing.T, open Open) {
	j := begin(t, open)
	last, err := j.Register.LastSurvey(t.Context())
	require.NoError(t, err)
	assert.True(t, last.At.IsZero())
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	s := store.SurveyRecord{
		At: at, Took: 9 * time.Second, Found: 3, Met: 3, Laptop: []netip.Prefix{netip.MustParsePrefix("10.61.8.200/23")},
		Offers: []lan.Offer{{
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
	require.NoError(t, j.Register.AddSurvey(t.Context(), store.SurveyRecord{At: at}))
	offers, err = j.Register.Offers(t.Context())
	require.NoError(t, err)
	assert.Len(t, offers, 1, "a survey that met nobody says nothing of who is there")
	require.NoError(t, j.Register.AddSurvey(t.Context(), store.SurveyRecord{At: at, Met: 2}))
	offers, err = j.Register.Offers(t.Context())
	require.NoError(t, err)
	assert.Empty(t, offers, "a newer survey's offers replace the older's")
}

func groundIsKept(t *testing.T, open Open) {
	j := begin(t, open)
	k, err := j.Register.KeptGround(t.Context())
	require.NoError(t, err)
	assert.False(t, k.Subnet.IsValid())
	g := ground.Ground{
		Subnet: netip.MustParsePrefix("10.61.8.0/23"), SubnetFrom: "recorder R01", NTP: []netip.Addr{netip.MustParseAddr("10.61.8.4")}, NTPFrom: "x",
		Ranks: ground.Ranks{Subnet: ground.FromRecorder, NTP: ground.FromLAN},
	}
	for range 2 {
		require.NoError(t, j.Register.KeepGround(t.Context(), g))
		k, err = j.Register.KeptGround(t.Context())
		require.NoError(t, err)
		assert.Equal(t, g, k.Ground)
	}
}

// Taking a decision back leaves what surveys and readings have told since.
func takingBackLeavesWhatWasLearntSince(t *testing.T, open Open) {
	j := begin(t, open)
	devices := []device.Device{{MAC: device.MAC{2, 0, 0, 0, 0, 1}}}
	require.NoError(t, j.Register.Record(t.Context(), "test", devices))
	before, err := j.Register.Before(t.Context(), "take of 1 device", []int64{devices[0].ID})
	require.NoError(t, err)
	devices[0].Tag, devices[0].InJob, devices[0].Firmware = "C01", device.Taken, "2.1"
	devices[0].SeenAt = time.Now()
	require.NoError(t, j.Register.Record(t.Context(), "test", devices))
	require.NoError(t, j.Register.TakeBack(t.Context(), before))
	all, err := j.Register.Devices(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, device.Undecided, all[0].InJob)
	assert.Empty(t, all[0].Tag)
	assert.Equal(t, "2.1", all[0].Firmware)
}
