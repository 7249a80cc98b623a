package bench

import (
	"context"
	"sync"
	"time"

	"janustat/core/device"
	"janustat/internal/speak/arp"
)

// Storm is what a switch lets pass of frames for everyone, at each of its ports (commonly called
// storm control, or rate limiting of broadcasts).
type Storm struct {
	Broadcasts int `yaml:"broadcasts"` // a second, at each port; 0 is without end
	Multicasts int `yaml:"multicasts"` // likewise
	// Shut is for how long a port takes no frame any more, in neither direction, once its limit of
	// broadcasts was passed; 0 drops what is above the limit.
	Shut time.Duration `yaml:"shut"`
}

// meter is how much of it a port has used up.
type meter struct {
	mu     sync.Mutex
	from   time.Time // when the second began that is counted
	counts [2]int    // broadcasts, multicasts
	shut   time.Time // until when
}

// passes reports whether a frame for an address gets through a port now.
func (m *meter) passes(s Storm, to device.MAC, now time.Time) bool {
	if s == (Storm{}) {
		return true
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if now.Before(m.shut) {
		return false
	}
	kind, limit := 1, s.Multicasts
	switch {
	case !to.IsGroup():
		return true
	case to == device.Broadcast:
		kind, limit = 0, s.Broadcasts
	}
	if now.Sub(m.from) >= time.Second {
		m.from, m.counts = now, [2]int{}
	}
	if m.counts[kind]++; limit == 0 || m.counts[kind] <= limit {
		return true
	}
	if kind == 0 && s.Shut > 0 {
		m.shut = now.Add(s.Shut)
	}
	return false
}

// closedNow reports whether a port is shut.
func (m *meter) closedNow(now time.Time) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return now.Before(m.shut)
}

// startQuiet plugs in a host that answers who has its address, and nothing else.
func (b *Bench) startQuiet(ctx context.Context, o *Bystander) {
	var port *Port
	ready := make(chan struct{})
	port = b.sw.Plug(func(frame []byte) {
		if p, err := arp.Parse(frame); err == nil && p.Op == arp.Request && p.Target == o.prefix.Addr() {
			<-ready
			port.Send(arp.ReplyTo(p, o.mac).Frame())
		}
	}, func(g glance) bool { return g.to == o.mac || g.to == device.Broadcast && g.asks == o.prefix.Addr() })
	port.hear(interest{answers: o.prefix.Addr()})
	close(ready)
	context.AfterFunc(ctx, port.Unplug)
}
