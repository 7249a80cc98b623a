package wire

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"
)

// Linked is a wire that knows whether the laptop's own end of it is there.
type Linked interface {
	// Fault says what is wrong with the link, or nil.
	Fault() error
	// Await waits until the link is there, or until it is not, or ctx ends.
	Await(ctx context.Context, up bool) error
	// DownSince reports whether the link was gone at any time since.
	DownSince(t time.Time) bool
}

// Counted is a wire that knows how many frames came and could not be taken in time.
type Counted interface{ Dropped() uint64 }

// Under gives what a wire is wrapped around, as far as that is a T.
func Under[T any](w Wire) (out T, ok bool) {
	for {
		if out, ok = w.(T); ok {
			return out, true
		}
		around, is := w.(interface{ Under() Wire })
		if !is {
			return out, false
		}
		w = around.Under()
	}
}

// lookEvery is how often the link is looked at.
const lookEvery = 400 * time.Millisecond

// steady is a wire that outlives its link: frames are lost while the cable is out, or
// the adapter or the bench is gone, and come again when it is back.
type steady struct {
	open  func() (Wire, error)
	facts Facts
	ended chan struct{}

	mu      sync.Mutex
	now     Wire  // nil while it is gone
	fault   error // of the link, or nil
	down    time.Time
	changed chan struct{} // closed at each change
	closed  bool
	dropped uint64 // by wires that are gone
}

// newSteady wraps a way to open a wire.
func newSteady(open func() (Wire, error)) (Wire, error) {
	w, err := open()
	if err != nil {
		return nil, err
	}
	s := &steady{open: open, facts: w.Facts(), now: w, ended: make(chan struct{}), changed: make(chan struct{})}
	s.look()
	go s.watch()
	return s, nil
}

// Facts implements Wire.
func (s *steady) Facts() Facts { return s.facts }

// Read implements Wire.
func (s *steady) Read() ([]byte, error) {
	for {
		s.mu.Lock()
		w, changed, closed := s.now, s.changed, s.closed
		s.mu.Unlock()
		switch {
		case closed:
			return nil, errClosed
		case w == nil:
			<-changed
			continue
		}
		frame, err := w.Read()
		if err == nil {
			return frame, nil
		}
		s.lose(w, err)
	}
}

var errClosed = errors.New("the wire is closed")

// Write implements Wire. What is sent while the link is gone is lost, as on a cable.
func (s *steady) Write(frame []byte) error {
	s.mu.Lock()
	w, closed := s.now, s.closed
	s.mu.Unlock()
	switch {
	case closed:
		return errClosed
	case w == nil:
		return nil
	}
	err := w.Write(frame)
	if err != nil && (s.look() != nil || gone(err)) {
		return nil
	}
	return err
}

// Close implements Wire.
func (s *steady) Close() error {
	s.mu.Lock()
	if s.closed {
		s.mu.Unlock()
		return nil
	}
	s.closed = true
	w := s.now
	close(s.ended)
	close(s.changed)
	s.mu.Unlock()
	if w == nil {
		return nil
	}
	return w.Close()
}

// lose takes down that a wire is gone; it is opened again by the watch.
func (s *steady) lose(w Wire, err error) {
	s.mu.Lock()
	if s.now != w || s.closed {
		s.mu.Unlock()
		return
	}
	if c, ok := w.(Counted); ok {
		s.dropped += c.Dropped()
	}
	s.now = nil
	s.set(fmt.Errorf("%s is gone (%w)", s.facts.Name, err))
	s.mu.Unlock()
	w.Close()
}

// set notes a fault, or none. The lock is held.
func (s *steady) set(fault error) {
	if fault != nil {
		s.down = time.Now()
	}
	if (fault == nil) != (s.fault == nil) || s.now == nil || fault == nil {
		s.fault = fault
		if !s.closed {
			close(s.changed)
			s.changed = make(chan struct{})
		}
	}
}

// look asks the wire for its link.
func (s *steady) look() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	l, ok := s.now.(interface{ Link() error })
	if !ok || s.closed {
		return s.fault
	}
	err := l.Link()
	if (err == nil) != (s.fault == nil) {
		s.set(err)
	} else if err != nil {
		s.down = time.Now()
	}
	return err
}

// watch looks at the link, and opens the wire again where it is gone.
func (s *steady) watch() {
	again := time.NewTicker(lookEvery)
	defer again.Stop()
	for {
		select {
		case <-s.ended:
			return
		case <-again.C:
		}
		s.mu.Lock()
		w := s.now
		s.mu.Unlock()
		switch err := s.look(); {
		case w == nil:
			s.reopen()
		case errors.Is(err, errReplaced):
			s.lose(w, err) // another adapter has its name by now
		}
	}
}

func (s *steady) reopen() {
	w, err := s.open()
	if err != nil {
		s.mu.Lock()
		s.down = time.Now()
		s.mu.Unlock()
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed || w.Facts().MAC != s.facts.MAC {
		w.Close()
		return
	}
	s.now = w
	s.set(nil)
}

// errReplaced is that the adapter a socket was opened on is gone, though one of its name is there.
var errReplaced = errors.New("is not the adapter it was")

// Fault implements Linked.
func (s *steady) Fault() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.fault
}

// Await implements Linked.
func (s *steady) Await(ctx context.Context, up bool) error {
	for {
		s.mu.Lock()
		fault, changed, closed := s.fault, s.changed, s.closed
		s.mu.Unlock()
		switch {
		case closed:
			return errClosed
		case (fault == nil) == up:
			return nil
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// DownSince implements Linked.
func (s *steady) DownSince(t time.Time) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.fault != nil || s.down.After(t)
}

// Dropped implements Counted.
func (s *steady) Dropped() uint64 {
	s.mu.Lock()
	w, before := s.now, s.dropped
	s.mu.Unlock()
	if c, ok := w.(Counted); ok {
		return before + c.Dropped()
	}
	return before
}
