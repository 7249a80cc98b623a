package cli

import (
	"encoding/json"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/store"
)

func TestDecisionsAreToldFromEvents(t *testing.T) {
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	to := func(host byte, why string) device.Allotment {
		return device.Allotment{At: at, Settings: device.Settings{Address: netip.AddrFrom4([4]byte{10, 61, 8, host}), Prefix: 23}, Why: why}
	}
	d := device.Device{MAC: device.MAC{2, 1}}
	var steps [][]device.Event
	for _, c := range []struct {
		name   string
		events []device.Event
		want   string
		fault  bool
	}{
		{"taken", []device.Event{device.Tagged{At: at, Tag: "C01"}, device.Chosen{At: at, Choice: device.Taken}}, "taken into the job as C01", false},
		{"an address", []device.Event{to(41, "next free in block camera")}, "allotted 10.61.8.41: next free in block camera", false},
		{"the same for another reason", []device.Event{to(41, "as before")}, "", false},
		{"another", []device.Event{to(50, "as asked for")}, "allotted 10.61.8.50: as asked for", false},
		{"reserved", []device.Event{device.Reserved{At: at}}, "allotted 10.61.8.50 by a reservation: as asked for", false},
		{"a written name", []device.Event{device.Written{At: at}}, "", false},
		{"retagged", []device.Event{device.Tagged{At: at, Tag: "C07"}}, "tagged C07 in place of C01", false},
		{"kind", []device.Event{device.Named{At: at, Kind: device.Intercom}}, "somebody said what it is: intercom", false},
		{"alarm", []device.Event{device.Alarmed{At: at, Why: "it has another serial"}}, "identity changed, so no password is sent to it: it has another serial", true},
		{"opened", []device.Event{device.Opened{At: at}}, "is what it was again: passwords are sent to it", false},
		{"left", []device.Event{device.Chosen{At: at, Choice: device.Left}}, "left out of the job", false},
		{"nobody's", []device.Event{device.Chosen{At: at, Choice: device.Undecided}}, "put back among those that nobody has decided about", false},
		{"put back", []device.Event{device.PutBack{At: at}}, "left out of the job", false},
	} {
		steps = append(steps, c.events)
		events := history(t, d, []string{"ana@one"}, steps...)
		before, err := decisions(events[:len(events)-1])
		require.NoError(t, err, c.name)
		all, err := decisions(events)
		require.NoError(t, err, c.name)
		told := all[len(before):]
		if c.want == "" {
			assert.Empty(t, told, c.name)
			continue
		}
		require.NotEmpty(t, told, c.name)
		assert.Equal(t, chapter{At: events[len(events)-1].At, OK: !c.fault, Text: c.want, By: "ana@one"}, told[0], c.name)
	}
}

// Who decided is told where several have worked on a device; what a register held before it had
// events was decided at a time that nobody knows.
func TestWhoDecidedIsToldWhereItWereSeveral(t *testing.T) {
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	d := device.Device{Tag: "C01", InJob: device.Taken, MAC: device.MAC{2, 1}, Alarm: "it has another serial"}
	events := history(t, d, []string{"ana@one", "ben@two"}, []device.Event{device.Tagged{At: at, Tag: "C02"}}, []device.Event{device.Tagged{At: at, Tag: "C03"}})
	events[0].Cause = earlier
	told, err := decisions(events)
	require.NoError(t, err)
	require.Len(t, told, 2)
	assert.Equal(t, "tagged C02 in place of C01 (by ben@two)", told[0].Text)
	assert.Equal(t, "tagged C03 in place of C02 (by ana@one)", told[1].Text)
	story := tellStory(&d, nil, nil, nil, nil, told)
	assert.True(t, func() bool {
		for _, c := range story {
			if c.Text == alarmText(d.Alarm) {
				return true
			}
		}
		return false
	}(), "the alarm of an earlier version is told")
	_, err = decisions([]store.Event{{Change: json.RawMessage(`{"in_job": 7}`)}})
	require.Error(t, err)
}

// history makes the events of a device that began as d, by their authors in turn.
func history(t *testing.T, d device.Device, authors []string, steps ...[]device.Event) (out []store.Event) {
	var was json.RawMessage
	for i, step := range append([][]device.Event{nil}, steps...) {
		d.Apply(step...)
		is, err := store.State(d)
		require.NoError(t, err)
		change, err := store.Change(was, is)
		require.NoError(t, err)
		out = append(out, store.Event{Version: int64(i + 1), At: time.Date(2026, 11, 23, 9, i, 0, 0, time.UTC), Author: authors[i%len(authors)], Cause: "x", Change: change})
		was = is
	}
	return out
}
