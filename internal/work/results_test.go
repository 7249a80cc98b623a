package work

import (
	"context"
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/evidence"
	"janustat/internal/job"
	"janustat/internal/keyring"
	"janustat/internal/sheetfile"
	"janustat/internal/store"
)

// deskWith lays out a new job of so many devices.
func deskWith(t testing.TB, n int) *Desk {
	dir := t.TempDir()
	require.NoError(t, job.Begin(t.Context(), dir, sheetfile.New("Quay", "10.61.0.0/16", "", time.Now())))
	j, err := job.Open(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(func() { j.Close() })
	devices := make([]device.Device, n)
	for i := range devices {
		at := netip.AddrFrom4([4]byte{10, 61, byte(8 + i>>8), byte(i)})
		devices[i] = device.Device{
			Tag: fmt.Sprintf("C%04d", i), InJob: device.Taken, MAC: device.MAC{2, 0, 0, 0, byte(i >> 8), byte(i)},
			Facts: device.Facts{Kind: device.Camera, Access: device.Fresh}, Addresses: []netip.Addr{at}, Allotted: &device.Settings{Address: at, Prefix: 16},
		}
	}
	require.NoError(t, j.Register.Record(t.Context(), "test", devices))
	return &Desk{Job: j, Devices: devices}
}

func settled(d *device.Device) commission.Result {
	return commission.Result{
		Plan: commission.Plan{ID: d.ID, Tag: d.Tag, MAC: d.MAC}, Status: commission.Done, Opened: true, At: d.Allotted.Address,
		Left: commission.Found{Settings: *d.Allotted, Serial: "S", By: evidence.Of(evidence.ByPath)},
	}
}

// A result is carried into what the register has by then: what the journal put there in
// the meantime stays.
func TestAResultKeepsWhatTheJournalWrote(t *testing.T) {
	d := deskWith(t, 2)
	taken := d.takeDown(t.Context())
	plan := commission.Plan{ID: d.Devices[0].ID}
	found := device.Settings{Address: netip.MustParseAddr("192.168.77.20"), Prefix: 24, Name: "Dome"}
	require.NoError(t, d.Job.Register.Found(t.Context(), plan, commission.Found{Settings: found}))
	result := settled(&d.Devices[0])
	require.NoError(t, d.Job.Register.Left(t.Context(), plan, result.Left))
	require.NoError(t, taken.add(t.Context(), result))
	require.NoError(t, taken.end(t.Context()))
	all, err := d.Job.Register.Devices(t.Context())
	require.NoError(t, err)
	assert.Equal(t, &found, all[0].AsFound)
	assert.Equal(t, device.Keyed, all[0].Access)
	assert.Equal(t, device.Settled, all[0].Condition)
	gone := settled(&d.Devices[1])
	gone.Plan.ID = 99
	assert.ErrorIs(t, taken.add(t.Context(), gone), store.ErrGone)
}

// What one result costs does not grow with the job.
func BenchmarkResult(b *testing.B) {
	for _, n := range []int{100, 1000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			d := deskWith(b, n)
			taken := d.takeDown(b.Context())
			i := 0
			for b.Loop() {
				require.NoError(b, taken.add(b.Context(), settled(&d.Devices[i%n])))
				i++
			}
		})
	}
}

// What was done was done, though the run is stopped in that moment.
func TestResultsAreKeptWhenARunIsStopped(t *testing.T) {
	d := deskWith(t, 2)
	ctx, stop := context.WithCancel(t.Context())
	keys := keyring.New(d.Job.Path("keys"), "x")
	keys.SetWork(10)
	_, err := d.watchOver(ctx, keys, View{Result: func(commission.Result) {}}, func(done func(commission.Result)) []commission.Result {
		stop()
		done(settled(&d.Devices[0]))
		return []commission.Result{settled(&d.Devices[0])}
	})
	require.NoError(t, err)
	all, err := d.Job.Register.Devices(t.Context())
	require.NoError(t, err)
	assert.Equal(t, device.Keyed, all[0].Access)
	assert.Equal(t, device.Fresh, all[1].Access)
}

// Only what was selected is made ready.
func TestOnlyWhatIsSelectedIsReady(t *testing.T) {
	d := deskWith(t, 3)
	n, waiting, err := d.Ready(Selection{d.Devices[1].ID: true})
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.Empty(t, waiting)
	d.Devices[2].Allotted = nil
	n, waiting, err = d.Ready(nil)
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	assert.Equal(t, []string{d.Devices[2].Tag}, waiting)
}
