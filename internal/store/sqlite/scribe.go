package sqlite

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"sync"
)

// scribe writes what many want to have written at the same time in one transaction, and so with
// one sync of the disk: while one is under way the others gather for the next.
//
// Two sorts are told apart. An intent is on the disk before its writer goes on: what is sent to a
// device must never be forgotten, whatever happens to this machine. A result, or what was read, is
// with the system, which keeps it when this process is killed; where the power goes, it is lost with
// nothing but the last moments, and the next run finds the intent, looks, and reads again.
type scribe struct {
	db      *sql.DB
	mu      sync.Mutex
	waiting []*entry
	writing bool
}

type entry struct {
	write   func(context.Context, *sql.Tx) error
	durable bool
	done    chan error
}

// most entries that one transaction takes: the last of a crowd is not to wait for ever.
const mostEntries = 64

// note writes a result, or what was read.
func (r *Register) note(ctx context.Context, write func(context.Context, *sql.Tx) error) error {
	return r.scribe.do(ctx, write, false)
}

// pledge writes an intent, and ends when the disk has it.
func (r *Register) pledge(ctx context.Context, write func(context.Context, *sql.Tx) error) error {
	return r.scribe.do(ctx, write, true)
}

func (s *scribe) do(ctx context.Context, write func(context.Context, *sql.Tx) error, durable bool) error {
	if err := ctx.Err(); err != nil {
		return fmt.Errorf("register: %w", err)
	}
	e := &entry{write, durable, make(chan error, 1)}
	s.mu.Lock()
	s.waiting = append(s.waiting, e)
	lead := !s.writing
	s.writing = true
	s.mu.Unlock()
	if lead {
		// Whoever is first writes for all who come meanwhile, whether it is stopped or not.
		go s.run(context.WithoutCancel(ctx))
	}
	if err := <-e.done; err != nil {
		return fmt.Errorf("register: %w", err)
	}
	return nil
}

func (s *scribe) run(ctx context.Context) {
	for {
		s.mu.Lock()
		n := min(len(s.waiting), mostEntries)
		batch := s.waiting[:n:n]
		s.waiting = s.waiting[n:]
		if n == 0 {
			s.writing, s.waiting = false, nil
			s.mu.Unlock()
			return
		}
		s.mu.Unlock()
		for i, err := range s.write(ctx, batch) {
			batch[i].done <- err
		}
	}
}

// write has a batch written, and gives what became of each entry.
func (s *scribe) write(ctx context.Context, batch []*entry) []error {
	errs := make([]error, len(batch))
	all := func(err error) []error {
		for i := range errs {
			errs[i] = errors.Join(errs[i], err)
		}
		return errs
	}
	conn, err := s.db.Conn(ctx)
	if err != nil {
		return all(err)
	}
	defer conn.Close()
	durable := false
	for _, e := range batch {
		durable = durable || e.durable
	}
	if !durable {
		if _, err := conn.ExecContext(ctx, "PRAGMA synchronous=NORMAL"); err != nil {
			return all(err)
		}
		defer func() {
			if _, err := conn.ExecContext(ctx, "PRAGMA synchronous=FULL"); err != nil {
				_ = conn.Raw(func(any) error { return driver.ErrBadConn }) // nobody writes an intent by it
			}
		}()
	}
	tx, err := conn.BeginTx(ctx, nil)
	if err != nil {
		return all(err)
	}
	defer tx.Rollback()
	for i, e := range batch {
		errs[i] = apart(ctx, tx, e)
	}
	if err := tx.Commit(); err != nil {
		return all(err)
	}
	return errs
}

// apart writes one entry so that its failure takes back nothing of the others.
func apart(ctx context.Context, tx *sql.Tx, e *entry) error {
	if _, err := tx.ExecContext(ctx, "SAVEPOINT entry"); err != nil {
		return err
	}
	err := e.write(ctx, tx)
	if err != nil {
		if _, berr := tx.ExecContext(ctx, "ROLLBACK TO entry"); berr != nil {
			return errors.Join(err, berr)
		}
	}
	_, rerr := tx.ExecContext(ctx, "RELEASE entry")
	return errors.Join(err, rerr)
}
