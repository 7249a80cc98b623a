package commission

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
)

func camera(id int64, tag string) Link {
	return Link{Step: StepChannel, Peer: Peer{ID: id, Tag: tag, Address: netip.AddrFrom4([4]byte{10, 61, 8, byte(id)}), Endpoint: "urn:" + tag}}
}

func numbers(links []Link) map[string]int {
	out := map[string]int{}
	for _, l := range links {
		out[l.Peer.Tag] = l.Number
	}
	return out
}

func TestAssign(t *testing.T) {
	c1, c2, c3, c4 := camera(41, "C01"), camera(42, "C02"), camera(43, "C03"), camera(44, "C04")
	foreign := Channel{Number: 1, Source: netip.MustParseAddr("10.61.8.99")}
	fixed := c4
	fixed.Number = 2
	for name, x := range map[string]struct {
		bays []Bay
		auto []Link
		want map[int64]map[string]int
		left []string
	}{
		"in order, one recorder after the other": {
			[]Bay{{ID: 1, Recording: Recording{Room: 2}}, {ID: 2, Recording: Recording{Room: 2}}},
			[]Link{c1, c2, c3},
			map[int64]map[string]int{1: {"C01": 1, "C02": 2}, 2: {"C03": 1}},
			nil,
		},
		"what is there already stays, by its identity and not its address": {
			[]Bay{{ID: 1, Recording: Recording{Room: 4, Channels: []Channel{{Number: 3, Of: "urn:C02", Source: c1.Peer.Address}}}}},
			[]Link{c1, c2, c3},
			map[int64]map[string]int{1: {"C01": 1, "C02": 3, "C03": 2}},
			nil,
		},
		"by its address where no identity is told": {
			[]Bay{{ID: 1, Recording: Recording{Room: 4, Channels: []Channel{{Number: 4, Source: c1.Peer.Address}}}}},
			[]Link{c1, c2},
			map[int64]map[string]int{1: {"C01": 4, "C02": 1}},
			nil,
		},
		"somebody else's channel is not taken": {
			[]Bay{{ID: 1, Recording: Recording{Room: 2, Channels: []Channel{foreign, {Number: 2}}}}},
			[]Link{c1, c2},
			map[int64]map[string]int{1: {"C01": 2}},
			[]string{"C02"},
		},
		"what the sheet names goes first": {
			[]Bay{{ID: 1, Recording: Recording{Room: 3}, Fixed: []Link{fixed}}},
			[]Link{c1, c2, c3},
			map[int64]map[string]int{1: {"C01": 1, "C02": 3, "C04": 2}},
			[]string{"C03"},
		},
		"a recorder that does not tell its room": {
			[]Bay{{ID: 1}}, []Link{c1, c2}, map[int64]map[string]int{1: {"C01": 1, "C02": 2}}, nil,
		},
	} {
		t.Run(name, func(t *testing.T) {
			got, left := Assign(x.bays, x.auto)
			for id, want := range x.want {
				assert.Equal(t, want, numbers(got[id]), id)
			}
			var tags []string
			for _, l := range left {
				tags = append(tags, l.Peer.Tag)
			}
			assert.Equal(t, x.left, tags)
			again, _ := Assign(x.bays, x.auto)
			assert.Equal(t, got, again)
		})
	}
}

func TestABoardTellsTheFirstWordAndEndsEveryWait(t *testing.T) {
	b := NewBoard([]Plan{{ID: 1}, {ID: 2}})
	b.Post(1, Settled, News{At: Peer{Tag: "C01"}})
	b.Post(1, Settled, News{Err: errors.New("later")})
	n, absent, err := b.Await(t.Context(), 1, Settled)
	require.NoError(t, err)
	assert.False(t, absent)
	assert.Equal(t, "C01", n.At.Tag)
	_, absent, _ = b.Await(t.Context(), 9, Settled)
	assert.True(t, absent)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, _, err = b.Await(ctx, 2, Joined)
	require.ErrorIs(t, err, context.Canceled)
	b.finish(2, nil)
	n, _, err = b.Await(t.Context(), 2, Joined)
	require.NoError(t, err)
	require.Error(t, n.Err)
	var none *Board
	none.Post(1, Settled, News{})
	_, absent, _ = none.Await(t.Context(), 1, Settled)
	assert.True(t, absent)
}

// station is a toy that can be paired, in the tongue that it is opened in or in another.
type station struct {
	*toySession
	has   *[]Link
	ready *atomic.Bool
}

func (s station) Pairs(_ context.Context, links []Link) (out []Tie, err error) {
	for _, l := range links {
		set := slices.ContainsFunc(*s.has, func(h Link) bool { return h.Peer.Address == l.Peer.Address })
		state := Waiting
		if set && s.ready.Load() {
			state = Registered
		}
		out = append(out, Tie{Link: l, Set: set, State: state})
	}
	return out, nil
}

func (s station) SetPair(_ context.Context, l Link) error {
	s.note("pair %s at %s", l.Peer.Tag, l.Peer.Address)
	*s.has = append(*s.has, l)
	return nil
}

// street is a site of two stations, of which one is opened in a tongue that has no pairs.
type street struct {
	siteFunc
	mu    *sync.Mutex
	has   map[int64]*[]Link
	ready *atomic.Bool
}

func (s street) Open(ctx context.Context, p Plan, at netip.Addr) (Session, error) {
	x, err := s.siteFunc.Open(ctx, p, at)
	if err != nil || p.Tongues[0] == "plain" {
		return x, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.has[p.ID] == nil {
		s.has[p.ID] = &[]Link{}
	}
	return station{x.(*toySession), s.has[p.ID], s.ready}, nil
}

func pairOf(id int64, tag string, peer int64, other string, tongues ...device.Tongue) Plan {
	p := plan()
	p.ID, p.Tag, p.Tongues = id, tag, tongues
	p.Peer = Peer{ID: id, Tag: tag}
	p.Links = []Link{{Step: StepPair, Peer: Peer{ID: peer, Tag: other}, Flat: "101"}}
	return p
}

// Two that need each other are told of each other where each ended up, in whichever tongue
// can be told that; neither waits for ever, and one that fails is named to the other.
func TestTwoThatNeedEachOther(t *testing.T) {
	ready := atomic.Bool{}
	ready.Store(true)
	make := func(fail bool) ([]Result, street) {
		all := make(chan struct{})
		close(all)
		s := street{siteFunc{newToy, func() {}, all, &sync.Map{}}, &sync.Mutex{}, map[int64]*[]Link{}, &ready}
		plans := []Plan{pairOf(1, "D01", 2, "I01", "plain", "rich"), pairOf(2, "I01", 1, "D01", "rich")}
		if fail {
			plans[1].Stop = &Trouble{Reason: "is not there"}
		}
		w := Worker{Place: NewPlaces(1), Site: s, Journal: noNotes{}, Attempts: noNotes{}}
		return RunAll(t.Context(), w, plans, func(f func()) { go f() }, nil), s
	}
	results, s := make(false)
	for _, r := range results {
		assert.Equal(t, Done, r.Status, r.Reason)
		assert.Equal(t, Registered, r.Left.Ties[0].State)
	}
	assert.Equal(t, plan().Target.Address, (*s.has[1])[0].Peer.Address)

	results, _ = make(true)
	assert.Equal(t, NeedsYou, results[0].Status)
	assert.Contains(t, results[0].Reason, "the pair with I01 waits for I01, which needs you")
	assert.Equal(t, NeedsYou, results[1].Status)
}

// slow is a street on which a pair registers only once it was told twice, if ever, and
// whose time goes on with every question.
type slow struct {
	street
	now   *time.Time
	never bool
}

func (s slow) Now() time.Time {
	*s.now = s.now.Add(100 * time.Millisecond)
	if a := s.has[1]; a != nil && len(*a) > 1 && !s.never {
		s.ready.Store(true)
	}
	return *s.now
}

// A pair that does not register in its time is told once more, and then reported.
func TestAPairThatDoesNotRegisterIsNudged(t *testing.T) {
	for _, never := range []bool{false, true} {
		all := make(chan struct{})
		close(all)
		now := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
		s := slow{street{siteFunc{newToy, func() {}, all, &sync.Map{}}, &sync.Mutex{}, map[int64]*[]Link{}, &atomic.Bool{}}, &now, never}
		p := pairOf(1, "D01", 2, "I01", "rich")
		p.Links[0].Peer.Known = true // set up by an earlier run, and no part of this one
		w := Worker{Place: NewPlaces(1), Site: s, Journal: noNotes{}, Attempts: noNotes{}}
		r := w.Run(t.Context(), p)
		assert.Len(t, *s.has[1], 2, "told, and told once more")
		if never {
			assert.Equal(t, NeedsYou, r.Status)
			assert.Contains(t, r.Reason, "the pair with I01 is not connected")
			continue
		}
		assert.Equal(t, Done, r.Status, r.Reason)
	}
}

func TestAnAbilityThatNoTongueHas(t *testing.T) {
	s := &toySession{toy: newToy()}
	_, err := Ability[Winker](t.Context(), &Talk{Main: s, Plan: Plan{Tongues: []device.Tongue{"plain"}}}, "wink")
	var unable *UnableError
	require.ErrorAs(t, err, &unable)
	ties, err := (&Talk{Main: s}).Ties(t.Context(), []Link{{Step: StepReport}, {Step: StepPair}})
	require.NoError(t, err)
	require.Len(t, ties, 2)
	assert.Equal(t, ToType, ties[0].State)
}

// What is on a channel and none of the job's is told, and goes only where a person has said so.
func TestAStrangeChannelIsNotTaken(t *testing.T) {
	link := camera(41, "C01")
	link.Number = 1
	foreign := Recording{Channels: []Channel{{Number: 1, Used: true, Of: "urn:theirs"}}}
	assert.Len(t, (&Channels{}).Strange(foreign, []Link{link}), 1)
	assert.Empty(t, (&Channels{Replace: true}).Strange(foreign, []Link{link}))
	own := Recording{Channels: []Channel{{Number: 1, Used: true, Of: link.Peer.Endpoint}}}
	assert.Empty(t, (&Channels{}).Strange(own, []Link{link}))
}

// A recorder that has no source left gets no camera, however many channels it has.
func TestARecorderWithoutSourcesGetsNoCamera(t *testing.T) {
	out, left := Assign([]Bay{{ID: 1, Recording: Recording{Offers: true, Room: 8, Free: 1}}}, []Link{camera(41, "C01"), camera(42, "C02")})
	assert.Equal(t, map[string]int{"C01": 1}, numbers(out[1]))
	assert.Equal(t, []Link{camera(42, "C02")}, left)
}

// viewing is a recorder whose channel is set, and shows nothing by any way.
type viewing struct {
	Session
	ways *[]bool // of each time it was told: whether over UDP
}

func (v viewing) Recording(context.Context) (Recording, error) { return Recording{Offers: true}, nil }

func (v viewing) Channels(_ context.Context, links []Link) (out []Tie, err error) {
	for _, l := range links {
		out = append(out, Tie{Link: l, Set: true, State: Waiting})
	}
	return out, nil
}

func (v viewing) SetChannel(_ context.Context, l Link) error {
	*v.ways = append(*v.ways, l.Datagrams)
	return nil
}

func (v viewing) Park(context.Context, Link) error { return nil }

// A recorder that shows nothing is told once more, then by the other way, and then the first again: it is
// not left with a way that its camera may not have.
func TestAChannelIsNotLeftByAWayThatBringsNothing(t *testing.T) {
	var ways []bool
	links := []Link{{Step: StepChannel, Number: 1, Peer: Peer{Tag: "C01"}}}
	d := newToy()
	w := Worker{Place: NewPlaces(1), Site: d, Journal: noNotes{}, Attempts: noNotes{}}
	r := &run{Worker: w, plan: plan(), mended: map[string]bool{}, result: Result{Spent: map[Step]time.Duration{}}}
	talk := &Talk{Main: viewing{&toySession{d}, &ways}}
	ties, err := talk.Main.(ChannelKeeper).Channels(t.Context(), links)
	require.NoError(t, err)
	for nth := range len(nudgesAfter) {
		require.NoError(t, r.nudge(t.Context(), talk, ties, nth+1))
	}
	assert.Equal(t, []bool{false, true, false}, ways)
	for i := 1; i < len(nudgesAfter); i++ {
		assert.Greater(t, nudgesAfter[i].after-nudgesAfter[i-1].after, 9*time.Second, "a recorder tries every few seconds")
	}
	assert.Greater(t, FareLimit-nudgesAfter[len(nudgesAfter)-1].after, 9*time.Second)
}
