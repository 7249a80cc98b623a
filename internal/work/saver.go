package work

import (
	"sync"

	"janustat/internal/keyring"
)

// saver keeps a keyring while devices are at work on it side by side. What one of them has
// learnt is on disk before it goes on; those that come while it is being written share the
// next writing, since each costs half a second of its passphrase.
type saver struct {
	keys *keyring.Keyring

	mu      sync.Mutex
	turn    sync.Cond
	writing bool
	changes int // so many were made
	saved   int // so many are on disk
}

func newSaver(keys *keyring.Keyring) *saver {
	s := &saver{keys: keys}
	s.turn.L = &s.mu
	return s
}

// keep makes a change, and returns once it is on disk, or at once where there was none.
func (s *saver) keep(change func() bool) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !change() {
		return nil
	}
	s.changes++
	mine := s.changes
	for s.saved < mine {
		if s.writing {
			s.turn.Wait()
			continue
		}
		if err := s.write(); err != nil {
			return err
		}
	}
	return nil
}

// write puts all changes so far on disk. The lock is held, but for the writing itself.
func (s *saver) write() error {
	these := s.changes
	write, err := s.keys.Ready()
	if err != nil {
		return err
	}
	s.writing = true
	s.mu.Unlock()
	err = write()
	s.mu.Lock()
	if s.writing = false; err == nil {
		s.saved = these
	}
	s.turn.Broadcast()
	return err
}
