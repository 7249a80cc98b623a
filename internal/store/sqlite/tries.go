package sqlite

import (
	"context"
	"crypto/rand"
	"database/sql"
	"embed"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/evidence"
	"janustat/core/secret"
	"janustat/internal/store"
)

//go:embed ledger/*.sql
var ledgerSchema embed.FS

// Ledger is this machine's own record of password tries, beside every job: a job that
// is copied, or begun anew, does not get a new budget.
type Ledger struct{ db *sql.DB }

// ledgerFile is its name in the machine's folder for the state of programs.
const ledgerFile = "tries.db"

// OpenLedger opens the record in a folder, making both where they are not there.
func OpenLedger(ctx context.Context, dir string) (*Ledger, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the record of password tries: %w", err)
	}
	db, err := openDB(ctx, filepath.Join(dir, ledgerFile), ledgerSchema, "ledger")
	if err != nil {
		return nil, fmt.Errorf("the record of password tries: %w", err)
	}
	return &Ledger{db}, nil
}

// Close closes the record.
func (l *Ledger) Close() error { return l.db.Close() }

// Attempts keeps the budget of password tries by MAC, in the job's register and in this
// machine's ledger: what either holds counts (commission.Attempts).
type Attempts struct {
	Register *Register
	Ledger   *Ledger // may be nil
	Wire     string  // the simulated site that the MACs are on, "" for the world's
	Budget   secret.Budget
	now      func() time.Time // the clock on the wall; time.Now if nil
}

var _ store.Attempts = Attempts{}

// Attempts implements store.Budget.
func (r *Register) Attempts(ctx context.Context, folder, wire string, b secret.Budget) (at store.Attempts, done func(), err error) {
	ledger, err := OpenLedger(ctx, folder)
	if err != nil {
		return nil, nil, err
	}
	return Attempts{Register: r, Ledger: ledger, Wire: wire, Budget: b}, func() { ledger.Close() }, nil
}

func (a Attempts) clock() time.Time {
	if a.now != nil {
		return a.now()
	}
	return time.Now()
}

// inBoth runs f in one transaction of each record, the machine's around the job's, so
// that two programs never spend the same try.
func (a Attempts) inBoth(ctx context.Context, f func(stores []tryStore) error) error {
	return a.Register.tx(ctx, func(reg *sql.Tx) error {
		stores := []tryStore{{reg, ""}}
		if a.Ledger == nil {
			return f(stores)
		}
		tx, err := a.Ledger.db.BeginTx(ctx, nil)
		if err != nil {
			return err
		}
		defer tx.Rollback()
		if err := f(append(stores, tryStore{tx, a.Wire})); err != nil {
			return err
		}
		return tx.Commit()
	})
}

// tryStore is one of the two records. The machine's knows wires apart.
type tryStore struct {
	tx   *sql.Tx
	wire string
}

func (a Attempts) columns(s tryStore, i int) string {
	if i == 0 {
		return ""
	}
	return fmt.Sprintf(" AND wire='%s'", strings.ReplaceAll(s.wire, "'", "''"))
}

// spent gives the tries of a MAC in both records that are not known to have fitted, and
// brings back to now those that lie in the future: the clock was set back since.
func (a Attempts) spent(ctx context.Context, stores []tryStore, mac device.MAC) (out []store.Try, err error) {
	now := a.clock()
	boot, booted := bootMoment()
	seen := map[string]bool{}
	for i, s := range stores {
		list, err := readTries(ctx, s.tx, "SELECT "+tryColumns+" FROM try WHERE mac=? AND outcome<>'fitted'"+a.columns(s, i), mac.String())
		if err != nil {
			return nil, err
		}
		for _, t := range list {
			if age := t.Age(now, boot, booted); age < -time.Second || t.Boot == boot && t.Booted > booted {
				t.At, t.Boot, t.Booted = now, boot, booted
				if _, err := s.tx.ExecContext(ctx, "UPDATE try SET at=?, boot=?, boot_s=? WHERE id=?", stamp(now), boot, booted.Seconds(), t.ID); err != nil {
					return nil, err
				}
			}
			if !seen[t.ID] {
				seen[t.ID] = true
				out = append(out, t)
			}
		}
	}
	return out, nil
}

const tryColumns = "id, at, boot, boot_s, user, origin, outcome, hold_s"

func readTries(ctx context.Context, tx querier, query string, args ...any) (out []store.Try, err error) {
	rows, err := tx.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var t store.Try
		var at string
		var booted, hold float64
		if err := rows.Scan(&t.ID, &at, &t.Boot, &booted, &t.User, &t.Origin, &t.Outcome, &hold); err != nil {
			return nil, err
		}
		t.At, t.Booted, t.Hold = unstamp(at), seconds(booted), seconds(hold)
		t.User, t.Outcome = shown(t.User), shown(t.Outcome)
		out = append(out, t)
	}
	return out, rows.Err()
}

type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// judge gives how long the next try has to wait, and how many are left now.
func (a Attempts) judge(list []store.Try) (wait time.Duration, left int) {
	now := a.clock()
	boot, booted := bootMoment()
	var ages []time.Duration
	for _, t := range list {
		age := t.Age(now, boot, booted)
		if t.Outcome == store.TryLocked {
			wait = max(wait, min(t.Hold, secret.BudgetWindow)-max(age, 0))
			continue
		}
		ages = append(ages, age)
	}
	if wait > 0 {
		return max(wait, a.Budget.Wait(ages)), 0
	}
	return a.Budget.Wait(ages), a.Budget.Left(ages)
}

// Spend records a try before it is made, or says how long to wait.
func (a Attempts) Spend(ctx context.Context, p commission.Plan, k commission.Credential) (t commission.Try, wait time.Duration, err error) {
	err = a.inBoth(ctx, func(stores []tryStore) error {
		list, err := a.spent(ctx, stores, p.MAC)
		if err != nil {
			return err
		}
		if wait, _ = a.judge(list); wait > 0 {
			return nil
		}
		t = commission.Try(newTryID())
		return a.record(ctx, stores, p.MAC, store.Try{ID: string(t), User: k.User, Origin: k.Origin})
	})
	return t, wait, err
}

func newTryID() string {
	raw := make([]byte, 12)
	_, _ = rand.Read(raw) // never fails (crypto/rand)
	return hex.EncodeToString(raw)
}

func (a Attempts) record(ctx context.Context, stores []tryStore, mac device.MAC, t store.Try) error {
	boot, booted := bootMoment()
	for i, s := range stores {
		query, values := "INSERT INTO try (id, mac, at, boot, boot_s, user, origin, outcome, hold_s) VALUES (?,?,?,?,?,?,?,?,?)",
			[]any{t.ID, mac.String(), stamp(a.clock()), boot, booted.Seconds(), t.User, t.Origin, t.Outcome, t.Hold.Seconds()}
		if i > 0 {
			query, values = "INSERT INTO try (id, mac, at, boot, boot_s, user, origin, outcome, hold_s, wire) VALUES (?,?,?,?,?,?,?,?,?,?)", append(values, s.wire)
		}
		if _, err := s.tx.ExecContext(ctx, query, values...); err != nil {
			return err
		}
	}
	return nil
}

// Ended takes down how a try ended: one that fitted is given back, and no other.
func (a Attempts) Ended(ctx context.Context, t commission.Try, fitted bool) error {
	outcome := store.TryRefused
	if fitted {
		outcome = store.TryFitted
	}
	return a.inBoth(ctx, func(stores []tryStore) error {
		for _, s := range stores {
			if _, err := s.tx.ExecContext(ctx, "UPDATE try SET outcome=? WHERE id=?", outcome, string(t)); err != nil {
				return err
			}
		}
		return nil
	})
}

// Unmade takes back a try that was recorded and not made.
func (a Attempts) Unmade(ctx context.Context, t commission.Try) error {
	return a.inBoth(ctx, func(stores []tryStore) error {
		for _, s := range stores {
			if _, err := s.tx.ExecContext(ctx, "DELETE FROM try WHERE id=?", string(t)); err != nil {
				return err
			}
		}
		return nil
	})
}

// Remaining counts the tries that a device can still be offered now.
func (a Attempts) Remaining(ctx context.Context, p commission.Plan) (left int, err error) {
	err = a.inBoth(ctx, func(stores []tryStore) error {
		list, err := a.spent(ctx, stores, p.MAC)
		_, left = a.judge(list)
		return err
	})
	return left, err
}

// Locked has no try made for so long, and at most for the budget's window, which is also
// taken where the device does not say how long it is locked.
func (a Attempts) Locked(ctx context.Context, p commission.Plan, told evidence.Proven[time.Duration]) error {
	if !told.Stands() {
		return nil
	}
	wait := min(told.Is(), secret.BudgetWindow)
	if wait <= 0 {
		wait = secret.BudgetWindow
	}
	return a.inBoth(ctx, func(stores []tryStore) error {
		return a.record(ctx, stores, p.MAC, store.Try{ID: newTryID(), Outcome: store.TryLocked, Hold: wait})
	})
}

// Unlock forgets that a device said it was locked, on whatever wire. Tries that were made
// count as before.
func (a Attempts) Unlock(ctx context.Context, p commission.Plan) (had bool, err error) {
	err = a.inBoth(ctx, func(stores []tryStore) error {
		for _, s := range stores {
			r, err := s.tx.ExecContext(ctx, "DELETE FROM try WHERE mac=? AND outcome=?", p.MAC.String(), store.TryLocked)
			if err != nil {
				return err
			}
			n, err := r.RowsAffected()
			if err != nil {
				return err
			}
			had = had || n > 0
		}
		return nil
	})
	return had, err
}

// LockedUntil gives, by MAC, until when devices say that they answer no password, as of a moment.
func (r *Register) LockedUntil(ctx context.Context, now time.Time) (map[device.MAC]time.Time, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT mac, at, hold_s FROM try WHERE outcome=?", store.TryLocked)
	if err != nil {
		return nil, fmt.Errorf("register: %w", err)
	}
	defer rows.Close()
	out := map[device.MAC]time.Time{}
	for rows.Next() {
		var who, at string
		var hold float64
		if err := rows.Scan(&who, &at, &hold); err != nil {
			return nil, fmt.Errorf("register: %w", err)
		}
		mac, err := device.ParseMAC(who)
		if err != nil {
			continue
		}
		if until := unstamp(at).Add(time.Duration(hold * float64(time.Second))); until.After(now) && until.After(out[mac]) {
			out[mac] = until
		}
	}
	return out, rows.Err()
}

// Tries reads the tries on a MAC in this job, oldest first, for its story.
func (r *Register) Tries(ctx context.Context, mac device.MAC) ([]store.Try, error) {
	list, err := readTries(ctx, r.db, "SELECT "+tryColumns+" FROM try WHERE mac=?", mac.String())
	if err != nil {
		return nil, fmt.Errorf("register: %w", err)
	}
	slices.SortStableFunc(list, func(x, y store.Try) int { return x.At.Compare(y.At) })
	return list, nil
}
