package commission

import (
	"context"
	"errors"
	"sync"
)

// Stage is how far a device has come in a run. At one stage a device waits only for others
// to reach an earlier one, so that no two can ever wait for each other.
type Stage int

// The stages, in order.
const (
	Settled Stage = iota // it has its key, its name and its address, and was read back
	Joined               // it was told of those that it works with
	stages  = iota
)

// News is what a device tells of itself at a stage.
type News struct {
	Found Found
	At    Peer  // where it is met by others
	Err   error // why it does not get there
}

// Board is where the devices of one run tell each other how far they have come. It is safe
// for use by several goroutines.
type Board struct{ devices map[int64]*[stages]post }

type post struct {
	once    sync.Once
	reached chan struct{}
	news    News
}

// NewBoard makes one for the devices of plans.
func NewBoard(plans []Plan) *Board {
	b := &Board{devices: map[int64]*[stages]post{}}
	for i := range plans {
		var posts [stages]post
		for s := range posts {
			posts[s].reached = make(chan struct{})
		}
		b.devices[plans[i].ID] = &posts
	}
	return b
}

// Post tells that a device has reached a stage, or that it does not get there. Only the
// first word counts.
func (b *Board) Post(id int64, s Stage, n News) {
	if b == nil || b.devices[id] == nil {
		return
	}
	p := &b.devices[id][s]
	p.once.Do(func() {
		p.news = n
		close(p.reached)
	})
}

// Await waits until a device has reached a stage. absent is one that has no part in the run.
func (b *Board) Await(ctx context.Context, id int64, s Stage) (n News, absent bool, err error) {
	if b == nil || b.devices[id] == nil {
		return News{}, true, nil
	}
	p := &b.devices[id][s]
	select {
	case <-p.reached:
		return p.news, false, nil
	case <-ctx.Done():
		return News{}, false, ctx.Err()
	}
}

// finish tells of every stage that a device has not reached that it does not.
func (b *Board) finish(id int64, err error) {
	if b == nil {
		return
	}
	if err == nil {
		err = errors.New("it has no such part") // as one that has joined nobody
	}
	for s := range Stage(stages) {
		b.Post(id, s, News{Err: err})
	}
}
