package onvif

import (
	"context"
	"errors"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"janustat/internal/speak/soap"
)

// question is one of several that are read, in no order that matters.
type question struct {
	at        service
	op, inner string
	out       any
	soft      bool // it may be left unanswered
	kept      bool // its answer is to be recalled
}

// How slow a device has to be to be asked two questions side by side, or several: as many as its own
// page in a browser asks for.
const (
	slackAnswer = 100 * time.Millisecond
	slowAnswer  = 400 * time.Millisecond
	sides       = 6
)

// described are the questions by which a device tells what it is and how it is set.
var described = []string{"GetDeviceInformation", "GetNetworkInterfaces", "GetNetworkDefaultGateway", "GetScopes", "GetDNS", "GetNTP"}

// Ahead asks what is going to be read of the device, side by side where it takes its time over each
// answer and bears that; with all of it, its users and protocols too, and the whole has what it can do
// beside. What it does not answer is
// left to whoever reads it.
func (c *Client) Ahead(ctx context.Context, all, whole bool) {
	operations := slices.Clone(described)
	if !c.proven {
		operations = append(operations, "GetPasswordComplexityConfiguration")
	}
	if all {
		operations = append(operations, "GetUsers")
		if strings.HasPrefix(c.url, "http:") {
			operations = append(operations, "GetNetworkProtocols")
		}
	}
	var list []question
	if whole {
		operations = append(operations, "GetServiceCapabilities", "GetDiscoveryMode")
		if c.told["GetServices"] == nil && c.offered == nil {
			list = append(list, question{at: c.deviceService(), op: "GetServices", inner: withoutCapabilities, kept: true})
		}
	}
	for _, op := range operations {
		if c.told[op] == nil {
			list = append(list, question{at: c.deviceService(), op: op, kept: true})
		}
	}
	if took := c.answered.Sub(c.asked); took < slackAnswer || len(list) < 2 || c.noSides || !c.mayAsk() {
		return
	} else if took < slowAnswer {
		c.noSides = len(c.besides(ctx, list, 2)) > 0
	} else {
		c.noSides = len(c.besides(ctx, list, sides)) > 0
	}
}

// mayAsk reports whether a question offers nothing that is not known to fit.
func (c *Client) mayAsk() bool { return (c.proven || c.scheme == anonymous) && c.shut == nil }

// side asks several questions: one after the other, and side by side of a device that takes its
// time over each, so that a recorder of many channels is read within the minute. A device that
// does not bear that is asked what is left one after the other.
func (c *Client) side(ctx context.Context, list []question) error {
	for len(list) > 0 {
		slow := c.answered.Sub(c.asked) >= slowAnswer && c.mayAsk()
		if slow && len(list) > 1 && !c.noSides {
			left := c.besides(ctx, list, sides)
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
func (c *Client) besides(ctx context.Context, list []question, lanes int) (left []question) {
	next := make(chan question)
	var mu sync.Mutex
	failed := false
	var wg sync.WaitGroup
	for range min(lanes, len(list)) {
		lane := *c // what it learns of the device stays with it
		lane.judging = true
		wg.Go(func() {
			for q := range next {
				mu.Lock()
				over := failed
				mu.Unlock()
				err := ctx.Err()
				if !over {
					err = q.ask(ctx, &lane)
				}
				var fault *soap.Fault
				switch {
				case over:
				case q.kept && errors.As(err, &fault):
					continue // whoever reads it hears that again
				case q.kept && err == nil:
					mu.Lock()
					c.hold(q.op, lane.answer)
					mu.Unlock()
					continue
				case err == nil:
					continue
				}
				if q.out != nil {
					reflect.ValueOf(q.out).Elem().SetZero() // of what was half read
				}
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
