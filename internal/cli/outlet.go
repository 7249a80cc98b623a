package cli

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"sync"
)

// outlet is standard error. While a view redraws part of the terminal, or all of it, what is
// written goes through the view: lines of the log in the middle of a screen would destroy it.
type outlet struct {
	to io.Writer

	mu   sync.Mutex
	tell func(line string) // nil where there is no view
	rest []byte            // of a line, for tell
	hold bool              // the lines of the log are kept until the view is gone
	held [][]byte
	over int // lines that were not kept
}

// maxHeld is how many lines of the log are kept while a screen is there.
const maxHeld = 100

// outletOf makes an outlet of a writer, once.
func outletOf(w io.Writer) *outlet {
	if o, ok := w.(*outlet); ok {
		return o
	}
	return &outlet{to: w}
}

// Write writes, or tells the view.
func (o *outlet) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.tell == nil {
		return o.to.Write(p)
	}
	o.rest = append(o.rest, p...)
	for {
		line, rest, ok := bytes.Cut(o.rest, []byte("\n"))
		if !ok {
			return len(p), nil
		}
		o.rest = rest
		o.tell(string(bytes.TrimSpace(line)))
	}
}

// through gives what is written to a view until it is taken back. With hold the lines of the log
// wait until then.
func (o *outlet) through(tell func(line string), hold bool) (back func()) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.tell, o.hold = tell, hold
	return func() {
		o.mu.Lock()
		defer o.mu.Unlock()
		if o.tell == nil {
			return
		}
		o.tell, o.hold, o.rest = nil, false, nil
		for _, line := range o.held {
			_, _ = o.to.Write(line)
		}
		if o.over > 0 {
			fmt.Fprintf(o.to, "… and %d more\n", o.over)
		}
		o.held, o.over = nil, 0
	}
}

// logTo is where the log goes.
type logTo struct{ *outlet }

// Write writes a line of the log.
func (l logTo) Write(p []byte) (int, error) {
	_, tty := terminal(l.to)
	l.mu.Lock()
	defer l.mu.Unlock()
	switch {
	case l.tell == nil || !tty: // there is nothing that it could destroy
		return l.to.Write(p)
	case !l.hold: // it comes in whole lines
		for line := range bytes.Lines(p) {
			l.tell(string(bytes.TrimSpace(line)))
		}
	case len(l.held) < maxHeld:
		l.held = append(l.held, bytes.Clone(p))
	default:
		l.over++
	}
	return len(p), nil
}

// file is the terminal or file behind it, if it is one.
func (o *outlet) file() (*os.File, bool) {
	f, ok := o.to.(*os.File)
	return f, ok
}
