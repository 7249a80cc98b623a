package onvif

import (
	"context"
	"reflect"
	"sync"
	"time"
)

// question is one of several that are read, in no order that matters.
type question struct {
	at        service
	op, inner string
	out       any
	soft      bool // it may be left unanswered
}

// How slow a device has to be to be asked several questions side by side, and how many: as many
// as its own page in a browser asks for.
const (
	slowAnswer = 400 * time.Millisecond
	sides      = 6
)

// side asks several questions: one after the other, and side by side of a device that takes its
// time over each, so that a recorder of many channels is read within the minute. A device that
// does not bear that is asked what is left one after the other.
func (c *Client) side(ctx context.Context, list []question) error {
	for len(list) > 0 {
		slow := c.answered.Sub(c.asked) >= slowAnswer && (c.proven || c.scheme == anonymous) && c.shut == nil
		if slow && len(list) > 1 && !c.noSides {
			left := c.besides(ctx, list)
			c.noSides = len(left) > 0
			list = left
			continue
		}
		q := list[0]
		if err := q.ask(ctx, c); err != nil {
			return err
		}
		list = list[1:]
	}
	return nil
}

func (q question) ask(ctx context.Context, c *Client) error {
	err := c.callOf(ctx, q.at, q.op, q.inner, q.out)
	if q.soft {
		err = unlessFault(err)
	}
	return err
}

// besides asks questions side by side, and gives those that are to be asked again. A refusal is
// not judged here: that takes the conversation for itself.
func (c *Client) besides(ctx context.Context, list []question) (left []question) {
	next := make(chan question)
	var mu sync.Mutex
	failed := false
	var wg sync.WaitGroup
	for range min(sides, len(list)) {
		lane := *c // what it learns of the device stays with it
		lane.judging = true
		wg.Go(func() {
			for q := range next {
				mu.Lock()
				over := failed
				mu.Unlock()
				if !over && q.ask(ctx, &lane) == nil {
					continue
				}
				reflect.ValueOf(q.out).Elem().SetZero() // of what was half read
				mu.Lock()
				failed, left = true, append(left, q)
				mu.Unlock()
			}
		})
	}
	for _, q := range list {
		next <- q
	}
	close(next)
	wg.Wait()
	return left
}
