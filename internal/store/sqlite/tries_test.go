package sqlite

import (
	"database/sql"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/evidence"
	"janustat/core/secret"
	"janustat/internal/store"
)

func attempts(t *testing.T, j opened, dir string) Attempts {
	l, err := OpenLedger(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	return Attempts{Register: j.Register, Ledger: l, Budget: secret.Budget{PerHour: 2}}
}

// spend makes a try, which fits or not.
func spend(t *testing.T, a Attempts, p commission.Plan, fits bool) (wait time.Duration) {
	try, wait, err := a.Spend(t.Context(), p, commission.Credential{User: "admin", Password: secret.New("Wrong-1"), Origin: commission.FromEarlier})
	require.NoError(t, err)
	if wait == 0 {
		require.NoError(t, a.Ended(t.Context(), try, fits))
	}
	return wait
}

var camera1 = commission.Plan{MAC: device.MAC{2, 0xe4, 0x42, 0, 0, 1}}

// The budget is that of a MAC, whatever the job: copies of one, another one, and one
// that lost its register spend the same.
func TestOneBudgetForAllJobs(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	assert.Zero(t, spend(t, attempts(t, begin(t), dir), camera1, false))
	assert.Zero(t, spend(t, attempts(t, begin(t), dir), camera1, false))
	wait := spend(t, attempts(t, begin(t), dir), camera1, false)
	assert.InDelta(t, time.Hour.Minutes(), wait.Minutes(), 1)
	other := commission.Plan{MAC: device.MAC{2, 9}}
	assert.Zero(t, spend(t, attempts(t, begin(t), dir), other, false))
	simulated := attempts(t, begin(t), dir)
	simulated.Wire = "bench:/tmp/b"
	assert.Zero(t, spend(t, simulated, camera1, false), "the MACs of a simulated site are its own")

	// A job that is taken to another machine brings its tries along.
	j := begin(t)
	a := attempts(t, j, filepath.Join(t.TempDir(), "one"))
	spend(t, a, camera1, false)
	spend(t, a, camera1, false)
	assert.Positive(t, spend(t, attempts(t, j, filepath.Join(t.TempDir(), "two")), camera1, false))
}

// Success gives back its own try, and no earlier one: wrong, right, wrong, wrong are
// three wrong ones.
func TestSuccessGivesBackItsOwnTry(t *testing.T) {
	a := attempts(t, begin(t), t.TempDir())
	assert.Zero(t, spend(t, a, camera1, false))
	assert.Zero(t, spend(t, a, camera1, true))
	left, err := a.Remaining(t.Context(), camera1)
	require.NoError(t, err)
	assert.Equal(t, 1, left)
	assert.Zero(t, spend(t, a, camera1, false))
	assert.Positive(t, spend(t, a, camera1, false))
	// Two under way at once: the one that fits is given back, whichever ends first.
	a = attempts(t, begin(t), t.TempDir())
	first, _, err := a.Spend(t.Context(), camera1, commission.Credential{})
	require.NoError(t, err)
	second, _, err := a.Spend(t.Context(), camera1, commission.Credential{})
	require.NoError(t, err)
	require.NoError(t, a.Ended(t.Context(), first, true))
	require.NoError(t, a.Ended(t.Context(), second, false))
	left, err = a.Remaining(t.Context(), camera1)
	require.NoError(t, err)
	assert.Equal(t, 1, left)
}

// Neither a clock that jumps nor a date in the future makes tries forgotten, or kept for
// longer than an hour.
func TestClocksThatJumpDoNotFoolTheBudget(t *testing.T) {
	j := begin(t)
	a := attempts(t, j, t.TempDir())
	spend(t, a, camera1, false)
	spend(t, a, camera1, false)
	for _, jump := range []time.Duration{3 * time.Hour, 9000 * time.Hour, -3 * time.Hour, -9000 * time.Hour} {
		a.now = func() time.Time { return time.Now().Add(jump) }
		wait := spend(t, a, camera1, false)
		assert.InDelta(t, time.Hour.Minutes(), wait.Minutes(), 1, "the clock jumped by %s", jump)
	}
	a.now = nil
	// Of another start of the system only the date is known. One in the future counts as
	// made now, and so is over in an hour.
	dated := func(at string) {
		for _, db := range []*sql.DB{j.Register.db, a.Ledger.db} {
			_, err := db.ExecContext(t.Context(), "UPDATE try SET boot='another', at=?", at)
			require.NoError(t, err)
		}
	}
	dated(stamp(time.Now().AddDate(5, 0, 0)))
	wait := spend(t, a, camera1, false)
	assert.InDelta(t, time.Hour.Minutes(), wait.Minutes(), 1)
	list, err := j.Register.Tries(t.Context(), camera1.MAC)
	require.NoError(t, err)
	for _, x := range list {
		assert.WithinDuration(t, time.Now(), x.At, time.Minute)
	}
	// And an hour ago is an hour ago, with whatever digits it was written.
	for _, at := range []string{stamp(time.Now().Add(-61 * time.Minute)), time.Now().UTC().Add(-61 * time.Minute).Format(time.RFC3339)} {
		dated(at)
		left, err := a.Remaining(t.Context(), camera1)
		require.NoError(t, err)
		assert.Equal(t, 2, left)
	}
}

func TestALockOutIsWaitedFor(t *testing.T) {
	for said, want := range map[time.Duration]time.Duration{10 * time.Minute: 10 * time.Minute, 0: time.Hour, 5 * time.Hour: time.Hour, 136 * 8766 * time.Hour: time.Hour} {
		a := attempts(t, begin(t), t.TempDir())
		proven, _ := evidence.Prove(evidence.Of(evidence.ByKey), said)
		require.NoError(t, a.Locked(t.Context(), camera1, evidence.Proven[time.Duration]{}), "nothing proven is nothing")
		left, err := a.Remaining(t.Context(), camera1)
		require.NoError(t, err)
		assert.Equal(t, 2, left)
		require.NoError(t, a.Locked(t.Context(), camera1, proven))
		assert.InDelta(t, want.Minutes(), spend(t, a, camera1, false).Minutes(), 1)
		left, err = a.Remaining(t.Context(), camera1)
		require.NoError(t, err)
		assert.Zero(t, left)
		// What was noted of it can be forgotten; tries that were made count as before.
		had, err := a.Unlock(t.Context(), camera1)
		require.NoError(t, err)
		assert.True(t, had)
		left, err = a.Remaining(t.Context(), camera1)
		require.NoError(t, err)
		assert.Equal(t, 2, left)
	}
}

func TestTriesAreToldWithoutThePassword(t *testing.T) {
	j := begin(t)
	a := attempts(t, j, t.TempDir())
	spend(t, a, camera1, false)
	spend(t, a, camera1, true)
	list, err := j.Register.Tries(t.Context(), camera1.MAC)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, store.TryRefused, list[0].Outcome)
	assert.Equal(t, store.TryFitted, list[1].Outcome)
	assert.Equal(t, commission.FromEarlier, list[0].Origin)
	assert.Equal(t, "admin", list[0].User)
}
