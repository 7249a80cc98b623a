package commission

import (
	"context"
	"sync"

	"janustat/core/advice"
)

// Pilots lets one device of each model that the job has not met take its first password
// before the others of that model do: what a model does to passwords (cuts them, swallows
// them) is learnt on one. It is safe for use by several goroutines; nil has no order.
type Pilots struct {
	mu     sync.Mutex
	models map[string]*pilot
}

// pilot is how it stands with a model.
type pilot struct {
	flying int64         // who is under way; 0 nobody
	landed bool          // one was opened by the password it was given
	lost   string        // the tag of one that took a password and is not opened by it
	cut    int           // at how many characters it cuts; 0 at none
	turn   chan struct{} // closed when that changes
}

// NewPilots makes them for the devices of plans.
func NewPilots(plans []Plan) *Pilots {
	p := &Pilots{models: map[string]*pilot{}}
	for i := range plans {
		if m := plans[i].Model; m != "" && p.models[m] == nil {
			p.models[m] = &pilot{turn: make(chan struct{})}
		}
		if m := p.models[plans[i].Model]; m != nil && plans[i].Met {
			m.landed = true
		}
	}
	// One that an earlier run has sent a password is under way already.
	for i := range plans {
		if m := p.models[plans[i].Model]; m != nil && plans[i].Unconfirmed && m.flying == 0 {
			m.flying = plans[i].ID
		}
	}
	return p
}

// cut gives the length at which a model was seen to cut passwords; 0 is none.
func (p *Pilots) cut(model string) int {
	if p == nil {
		return 0
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if m := p.models[model]; m != nil {
		return m.cut
	}
	return 0
}

// may reports whether a device may take its first password now, or has to wait until
// later is closed. lost is the tag of one of its model whose password is lost.
func (p *Pilots) may(plan Plan) (now bool, later <-chan struct{}, lost string) {
	if p == nil {
		return true, nil, ""
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	m := p.models[plan.Model]
	switch {
	case m == nil || m.landed || m.flying == plan.ID:
		return true, nil, ""
	case m.lost != "":
		return false, nil, m.lost
	case m.flying == 0:
		m.flying = plan.ID
		return true, nil, ""
	}
	return false, m.turn, ""
}

// end tells how it went with a device. One that never came so far leaves its turn to the
// next; lost is one that took a password and is not opened by it.
func (p *Pilots) end(plan Plan, opened, lost bool, cut int) {
	if p == nil {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	m := p.models[plan.Model]
	if m == nil || m.flying != plan.ID && !opened {
		return
	}
	if m.cut == 0 {
		m.cut = cut
	}
	switch {
	case m.landed:
		return
	case opened:
		m.landed = true
	case lost:
		m.lost = plan.Tag
	}
	m.flying = 0
	close(m.turn)
	m.turn = make(chan struct{})
}

// awaitPilot waits until the first of its model has shown what that does to passwords.
func (r *run) awaitPilot(ctx context.Context) error {
	for {
		now, later, lost := r.Pilots.may(r.plan)
		switch {
		case now:
			return r.hold(ctx)
		case lost != "":
			return trouble(nil, advice.Say("see to %s first; then run %s again", lost, advice.Commission),
				"was given no password: "+lost+", the first of its model, has taken one and is not opened by it")
		}
		r.tell(StepAwait, "waiting for the first of its model to take its password")
		r.rest()
		stop := r.clock(StepAwait)
		select {
		case <-later:
		case <-ctx.Done():
		}
		stop()
		if err := ctx.Err(); err != nil {
			return err
		}
	}
}
