package cli

import (
	"fmt"
	"sync"
	"time"
)

// counting shows how many of a number are through, on one line that is drawn anew. Without
// a terminal it shows nothing.
type counting struct {
	mu       sync.Mutex
	app      *App
	what     string
	done, of int
	begun    time.Time
	shown    bool
	live     bool
	stop     chan struct{}
	stopped  sync.WaitGroup
}

// counting begins to count to a number.
func (a *App) counting(what string, of int) *counting {
	_, tty := terminal(a.Err)
	c := &counting{app: a, what: what, of: of, begun: time.Now(), live: tty && !a.quiet && a.colour(a.Err), stop: make(chan struct{})}
	if !c.live {
		return c
	}
	c.stopped.Go(func() {
		tick := time.NewTicker(time.Second)
		defer tick.Stop()
		for {
			select {
			case <-c.stop:
				return
			case <-tick.C:
				c.draw(0)
			}
		}
	})
	return c
}

func (c *counting) one() { c.draw(1) }

func (c *counting) draw(more int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.done += more
	if !c.live {
		return
	}
	spent := time.Since(c.begun)
	text := fmt.Sprintf("%d of %d %s   %.0f s", c.done, c.of, c.what, spent.Seconds())
	if c.done > 0 && c.done < c.of {
		if left := (spent/time.Duration(c.done)*time.Duration(c.of) - spent).Round(time.Second); left > 0 {
			text += ", about " + secondsText(left) + " left"
		}
	}
	fmt.Fprintf(c.app.Err, "\r%s\x1b[K", text)
	c.shown = true
}

// end takes the line away.
func (c *counting) end() {
	close(c.stop)
	c.stopped.Wait()
	if c.shown {
		fmt.Fprint(c.app.Err, "\r\x1b[K")
	}
}
