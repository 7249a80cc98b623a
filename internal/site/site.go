// Package site is where commissioning and proving meet devices: it finds them, opens conversations
// with them, and probes addresses.
package site

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/lan"
	"janustat/core/secret"
	"janustat/internal/authority"
	"janustat/internal/pace"
	"janustat/internal/reach"
	"janustat/internal/speak/acd"
	"janustat/internal/survey"
)

// Site carries commissioning out over reach. It implements commission.Site.
type Site struct {
	Net     *reach.Net
	Subnets *survey.Subnets
	Avoid   func(netip.Addr) bool
	Veil    *secret.Veil // blanks passwords out of what devices say
	// Signs gives the site's authority, nil where it has none; it may be nil itself.
	Signs func() *authority.Authority

	memory sync.Map
}

var _ commission.Site = (*Site)(nil)

// Timing of meeting devices.
const (
	fareEvery = 1 * time.Second  // between questions how links fare
	awayAfter = 2 * time.Second  // silence that means it is away
	staysPut  = 15 * time.Second // it was told to go and did not
)

// Pause implements commission.Site.
func (s *Site) Pause(ctx context.Context) error {
	t := time.NewTimer(s.Net.Pace.Of(fareEvery))
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-s.Net.Done():
		return s.Net.Err()
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Now implements commission.Site.
func (*Site) Now() time.Time { return time.Now() }

// Tethered implements commission.Site.
func (s *Site) Tethered(ctx context.Context, since time.Time) (again bool, err error) {
	if !s.Net.LinkDownSince(since.Add(-linkNoticed)) {
		return false, nil
	}
	return true, s.Net.AwaitLink(ctx, true)
}

// linkNoticed is how much later than it goes a link is noticed to be gone.
const linkNoticed = time.Second

// Arrive takes visitors in the subnets of the device's old and new addresses.
func (s *Site) Arrive(ctx context.Context, p commission.Plan) error {
	at := []netip.Addr{p.Target.Address}
	if p.From.IsValid() && !p.From.IsUnspecified() {
		at = append(at, p.From)
	}
	_, err := s.places(ctx, at)
	return err
}

// Warm begins to take visitors in the subnets of addresses, and waits for none.
func (s *Site) Warm(ctx context.Context, at []netip.Addr) {
	begun := map[netip.Prefix]bool{}
	for _, a := range at {
		if of := s.Subnets.Of(a); s.Subnets.Askable(a) && !begun[of] {
			begun[of] = true
			go func() { _, _ = s.Visitor(ctx, a) }() // told by whoever needs it
		}
	}
}

// places pairs addresses with visitors to ask from, taking them side by side.
func (s *Site) places(ctx context.Context, addresses []netip.Addr) ([]reach.Place, error) {
	out, errs := make([]reach.Place, len(addresses)), make([]error, len(addresses))
	var wait sync.WaitGroup
	for i, a := range addresses {
		wait.Go(func() {
			v, err := s.Visitor(ctx, a)
			out[i], errs[i] = reach.Place{Address: a, From: v}, err
		})
	}
	wait.Wait()
	return out, errors.Join(errs...)
}

// Find implements commission.Site.
func (s *Site) Find(ctx context.Context, p commission.Plan, addresses []netip.Addr) (netip.Addr, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	shown := make(chan netip.Addr, 1)
	located := s.locate(ctx, p, shown)
	addresses = slices.DeleteFunc(slices.Clone(addresses), func(a netip.Addr) bool { return !a.IsValid() })
	places, err := s.places(ctx, addresses)
	if err != nil {
		return netip.Addr{}, err
	}
	if !located {
		return s.Net.WaitFor(ctx, p.MAC, places)
	}
	type met struct {
		at  netip.Addr
		err error
	}
	answered := make(chan met, 1)
	go func() {
		at, err := s.Net.WaitFor(ctx, p.MAC, places)
		answered <- met{at, err}
	}()
	select {
	case m := <-answered:
		return m.at, m.err
	case at := <-shown:
		return at, nil
	}
}

// Return implements commission.Site.
func (s *Site) Return(ctx context.Context, p commission.Plan, was netip.Addr, addresses []netip.Addr) (at netip.Addr, stayed bool, err error) {
	return s.comeBack(ctx, p, returning{was: was, places: addresses, anywhere: p.Anywhere}, addresses)
}

// Repowered implements commission.Site.
func (s *Site) Repowered(ctx context.Context, p commission.Plan, was netip.Addr, addresses []netip.Addr) (netip.Addr, error) {
	at, _, err := s.comeBack(ctx, p, returning{was: was, places: addresses, patient: true, anywhere: p.Anywhere}, addresses)
	return at, err
}

func (s *Site) comeBack(ctx context.Context, p commission.Plan, watch returning, addresses []netip.Addr) (at netip.Addr, stayed bool, err error) {
	places, err := s.places(ctx, addresses)
	if err != nil {
		return at, false, err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	type coming struct {
		at     netip.Addr
		stayed bool
	}
	back := make(chan coming, 1)
	watch.begun, watch.last, watch.pace = time.Now(), time.Now(), s.Net.Pace
	stop := s.Net.HearClaims(p.MAC, func(c reach.Claim) {
		if c.MAC == p.MAC && watch.heard(c, time.Now()) {
			select {
			case back <- coming{c.Address, watch.stayed}:
			default:
			}
		}
	})
	defer stop()
	asked := make(chan error, 1)
	go func() { asked <- s.Net.Ask(ctx, p.MAC, places) }()
	select {
	case c := <-back:
		return c.at, c.stayed, nil
	case err := <-asked:
		return at, false, err // asking ends only with an error
	case <-ctx.Done():
		return at, false, context.Cause(ctx)
	}
}

// returning judges the claims to an address of a device that was told to go. It is used by
// one goroutine.
type returning struct {
	was         netip.Addr
	places      []netip.Addr
	begun, last time.Time // last: when it was last heard at was
	pace        pace.Pace
	anywhere    bool // it may be back at any address
	patient     bool // one that stays where it is has not been away
	stayed      bool // it has not been away for as long as it was waited for
}

// heard reports whether a claim means that the device is back.
func (r *returning) heard(c reach.Claim, now time.Time) bool {
	if !slices.Contains(r.places, c.Address) {
		return r.anywhere && c.Address.Is4() && !c.Address.IsUnspecified()
	}
	if c.Address != r.was || c.Announced {
		return true
	}
	silence, away := now.Sub(r.last), r.pace.Of(awayAfter)
	r.last = now
	r.stayed = silence <= away && !r.patient && now.Sub(r.begun) > r.pace.Of(staysPut)
	return silence > away || r.stayed
}

// Claim implements commission.Site. The device's own MAC is no conflict.
func (s *Site) Claim(ctx context.Context, p commission.Plan) commission.Claim {
	return claim{s.Net, netip.PrefixFrom(p.Target.Address, p.Target.Prefix), acd.Begin(ctx, s.Net, acd.Given.At(s.Net.Pace), s.Net.Facts().MAC, p.Target.Address, append(slices.Clone(p.Ports), p.MAC)...)}
}

// Alone implements commission.Site.
func (s *Site) Alone(ctx context.Context, p commission.Plan) commission.Claim {
	return claim{s.Net, netip.PrefixFrom(p.Target.Address, p.Target.Prefix), acd.Begin(ctx, s.Net, acd.Borrowed.At(s.Net.Pace), s.Net.Facts().MAC, p.Target.Address, append(slices.Clone(p.Ports), p.MAC)...)}
}

type claim struct {
	net *reach.Net
	in  netip.Prefix
	*acd.Probe
}

// Wait implements commission.Claim.
func (c claim) Wait(ctx context.Context) error {
	err := c.Probe.Wait(ctx)
	var conflict *acd.ConflictError
	if errors.As(err, &conflict) {
		if c.net.AnswersForAny(ctx, conflict.Holder, c.in) {
			return fmt.Errorf("%w: %w, %s", commission.ErrInUse, err, lan.GraspText(conflict.Holder))
		}
		return fmt.Errorf("%w: %w", commission.ErrInUse, err)
	}
	return err
}

// Dialer gives the way to a device's TCP ports, by its MAC, until ctx ends.
func (s *Site) Dialer(ctx context.Context, mac device.MAC, at netip.Addr) (func(context.Context, uint16) (net.Conn, error), error) {
	v, err := s.Visitor(ctx, at)
	if err != nil {
		return nil, err
	}
	path, err := s.Net.Open(v, mac)
	if err != nil {
		return nil, err
	}
	context.AfterFunc(ctx, path.Close)
	return func(ctx context.Context, port uint16) (net.Conn, error) {
		return path.Dial(ctx, netip.AddrPortFrom(at, port))
	}, nil
}
