package bench

import (
	"encoding/json"
	"io"
	"sync"
	"time"
)

// What happened to a host, as its log tells it.
const (
	EventDiscovery     = "discovery"      // answered a multicast question
	EventConnection    = "connection"     // a bystander accepted a TCP connection
	EventRead          = "read"           // an operation that only reads
	EventWrite         = "write"          // an operation that changes something
	EventPassword      = "password"       // a password fitted
	EventWrongPassword = "wrong password" // one did not
	EventRefusedViewer = "refused viewer" // a password did not, of who watches its pictures
	EventLocked        = "locked"         // too many did not
	EventBoot          = "boot"
)

// Event is one line of the bench's log.
type Event struct {
	At   time.Time `json:"at"`
	Host string    `json:"host"`
	From string    `json:"from,omitempty"`
	What string    `json:"what"`
	Op   string    `json:"op,omitempty"`
	OK   bool      `json:"ok"`
}

// Log collects what hosts experience, for tests of what a client did and did not do.
type Log struct {
	mu     sync.Mutex
	events []Event
	out    *json.Encoder
	told   map[int]func(Event)
	next   int
}

// NewLog makes a log that also writes JSON lines to w unless w is nil.
func NewLog(w io.Writer) *Log {
	l := &Log{}
	if w != nil {
		l.out = json.NewEncoder(w)
	}
	return l
}

// On has f told of every event as it happens, until stop is called.
func (l *Log) On(f func(Event)) (stop func()) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.told == nil {
		l.told = map[int]func(Event){}
	}
	l.next++
	n := l.next
	l.told[n] = f
	return func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		delete(l.told, n)
	}
}

func (l *Log) add(e Event) {
	e.At = time.Now().UTC()
	l.mu.Lock()
	defer l.mu.Unlock()
	l.events = append(l.events, e)
	for _, f := range l.told {
		f(e)
	}
	if l.out != nil {
		_ = l.out.Encode(e) // a log that cannot be written must not stop the site
	}
}

// Events gives a copy of what was logged so far.
func (l *Log) Events() []Event {
	l.mu.Lock()
	defer l.mu.Unlock()
	return append([]Event(nil), l.events...)
}
