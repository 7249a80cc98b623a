package conform

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/internal/store"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// folds tries that what is kept of every device is what its events come to, each of which says who,
// when and for what.
func folds(t *testing.T, s store.Store) {
	t.Helper()
	all, err := s.Devices(t.Context())
	require.NoError(t, err)
	require.NotEmpty(t, all)
	for _, d := range all {
		events, err := s.Events(t.Context(), d.ID)
		require.NoError(t, err)
		require.Len(t, events, int(d.Version), d.Label())
		for i, e := range events {
			assert.Equal(t, []any{d.ID, int64(i + 1), "tester"}, []any{e.Device, e.Version, e.Author})
			assert.NotEmpty(t, e.Cause)
			assert.NotEqual(t, "{}", string(e.Change), "an event changes something")
			assert.WithinDuration(t, time.Now(), e.At, time.Minute)
		}
		folded, err := store.Fold(events)
		require.NoError(t, err)
		is, err := store.State(d)
		require.NoError(t, err)
		require.JSONEq(t, string(is), string(folded), d.Label())
	}
}

// Whatever happens to devices, by whomever, and is taken back, forgotten or replaced.
func whatIsKeptIsWhatEventsComeTo(t *testing.T, open Open) {
	seeds := uint64(8)
	if testing.Short() {
		seeds = 2
	}
	for seed := range seeds {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			s, rnd := open(t), rand.New(rand.NewPCG(seed, 1))
			list := []device.Device{camera(1), camera(2), camera(3)}
			require.NoError(t, s.Record(t.Context(), "survey", list))
			stale := append([]device.Device(nil), list...)
			var kept bool
			for n := range 60 {
				all, err := s.Devices(t.Context())
				require.NoError(t, err)
				i := rnd.IntN(len(all))
				d, at := all[i], time.Date(2026, 11, 23, 9, n, 0, 0, time.UTC)
				switch rnd.IntN(9) {
				case 0:
					d.Apply(device.Chosen{At: at, Choice: []device.Choice{device.Taken, device.Left}[rnd.IntN(2)]}, device.Met{Address: netip.AddrFrom4([4]byte{10, 61, 8, byte(n)})})
					require.NoError(t, s.Record(t.Context(), "choice", []device.Device{d}))
				case 1:
					require.NoError(t, s.Happened(t.Context(), "commission", d.ID, device.Opened{At: at}, device.Found{Settings: device.Settings{Name: "as found"}}))
				case 2: // by one who has seen an earlier version
					j := rnd.IntN(len(stale))
					stale[j].Apply(device.Alarmed{At: at, Why: fmt.Sprint("alarm ", n)})
					require.NoError(t, s.Record(t.Context(), "key", stale[j:j+1]))
				case 3:
					b, err := s.Before(t.Context(), "x", []int64{d.ID})
					require.NoError(t, err)
					require.NoError(t, s.KeepBefore(t.Context(), b))
					kept = true
				case 4:
					if !kept {
						continue
					}
					b, err := s.LastChange(t.Context())
					require.NoError(t, err)
					require.NoError(t, s.TakeBack(t.Context(), b))
					kept = false
				case 5:
					if len(all) > 1 {
						require.NoError(t, s.Forget(t.Context(), []int64{d.ID}))
					}
				case 6:
					id, err := s.Begin(t.Context(), commission.Plan{ID: d.ID}, commission.Write{Step: commission.StepName, Intent: "North gate"})
					require.NoError(t, err)
					require.NoError(t, s.End(t.Context(), id, "done", ""))
				case 7:
					require.NoError(t, s.AddProofs(t.Context(), map[int64]store.Proof{d.ID: {At: at, OK: true, Checks: []byte("[]")}}, func(d *device.Device) {
						d.Apply(device.Proving{At: at, Held: true, Left: &device.Settings{Address: netip.MustParseAddr("10.61.8.7"), Prefix: 23}})
					}))
				case 8: // two exchange their tags
					o := &all[(i+1)%len(all)]
					if o.ID == d.ID {
						continue
					}
					tags := [2]string{d.Tag, o.Tag}
					d.Apply(device.Tagged{At: at, Tag: tags[1]})
					o.Apply(device.Tagged{At: at, Tag: tags[0]})
					require.NoError(t, s.Retag(t.Context(), []device.Device{d, *o}))
					kept = false // a decision of its own: none from before is taken back after it
				}
				folds(t, s)
			}
		})
	}
}

// Two have read the same devices: what each of them changes stays, whoever writes first.
func whatOthersHaveChangedStays(t *testing.T, open Open) {
	s := open(t)
	list := []device.Device{camera(1), camera(2)}
	require.NoError(t, s.Record(t.Context(), "survey", list))
	mine, err := s.Devices(t.Context())
	require.NoError(t, err)
	theirs, err := s.Devices(t.Context())
	require.NoError(t, err)
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

	theirs[0].Apply(device.Opened{At: at}, device.Met{Address: netip.MustParseAddr("10.61.8.42")})
	require.NoError(t, s.Record(t.Context(), "commission", theirs[:1]))
	require.NoError(t, s.Happened(t.Context(), "commission", theirs[0].ID, device.Commissioned{At: at, Left: device.Settings{Name: "North gate"}}))
	mine[0].Apply(device.Alarmed{At: at, Why: "two keys"})
	mine[1].Apply(device.Tagged{At: at, Tag: "C09"})
	require.NoError(t, s.Record(t.Context(), "watch", mine))

	got, err := s.Devices(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "two keys", got[0].Alarm, "mine")
	assert.Equal(t, device.Keyed, got[0].Access, "theirs")
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("10.61.8.42")}, got[0].Addresses)
	require.NotNil(t, got[0].AsLeft)
	assert.Equal(t, "North gate", got[0].AsLeft.Name)
	assert.Equal(t, "C09", got[1].Tag)
	for i := range got {
		is, err := store.State(got[i])
		require.NoError(t, err)
		has, err := store.State(mine[i])
		require.NoError(t, err)
		assert.Equal(t, string(is), string(has), "who writes has what is kept")
		assert.Equal(t, got[i].Version, mine[i].Version)
	}
	folds(t, s)

	// Of one that is gone there is nothing to write, and it does not come back.
	require.NoError(t, s.Forget(t.Context(), []int64{got[1].ID}))
	mine[1].Apply(device.Alarmed{At: at, Why: "late"})
	require.NoError(t, s.Record(t.Context(), "watch", mine))
	got, err = s.Devices(t.Context())
	require.NoError(t, err)
	assert.Len(t, got, 1)
	require.ErrorIs(t, s.Happened(t.Context(), "watch", mine[1].ID, device.Noted{At: at}), store.ErrGone)
}

func whatHasNotChangedIsNotWritten(t *testing.T, open Open) {
	s := open(t)
	list := []device.Device{camera(1), camera(2)}
	require.NoError(t, s.Record(t.Context(), "survey", list))
	for range 3 {
		all, err := s.Devices(t.Context())
		require.NoError(t, err)
		all[0].NotOurs = true // is not kept
		require.NoError(t, s.Record(t.Context(), "judge", all))
	}
	events, err := s.Events(t.Context(), list[0].ID)
	require.NoError(t, err)
	assert.Len(t, events, 1)
}
