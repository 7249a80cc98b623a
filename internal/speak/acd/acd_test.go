package acd

import (
	"context"
	"errors"
	"net/netip"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/speak/arp"
)

var (
	own    = device.MAC{2, 0, 0, 0, 0, 1}
	other  = device.MAC{2, 0, 0, 0, 0, 2}
	wanted = netip.MustParseAddr("10.61.8.42")
)

// link is a medium in memory.
type link struct {
	mu    sync.Mutex
	sent  []time.Time
	held  []device.MAC // whose probes were answered
	ears  map[int]func(arp.Packet)
	count int
	fails error
}

func (l *link) Send(frame []byte) error {
	p, err := arp.Parse(frame)
	l.mu.Lock()
	defer l.mu.Unlock()
	if err == nil && p.Op == arp.Reply && p.Sender == wanted && p.SenderMAC == own {
		l.held = append(l.held, p.To)
		return l.fails
	}
	if err != nil || p != arp.Probe(own, wanted) {
		return errors.New("not the probe of RFC 5227")
	}
	l.sent = append(l.sent, time.Now())
	return l.fails
}

func (l *link) HearARP(_ netip.Addr, f func(arp.Packet)) func() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.ears == nil {
		l.ears = map[int]func(arp.Packet){}
	}
	l.count++
	n := l.count
	l.ears[n] = f
	return func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		delete(l.ears, n)
	}
}

func (l *link) say(p arp.Packet) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, f := range l.ears {
		f(p)
	}
}

func reply(from device.MAC) arp.Packet {
	p := arp.Announce(from, wanted)
	p.Op = arp.Reply
	return p
}

func TestAGivenAddressKeepsTheTimesOfTheStandard(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := &link{}
		begun := time.Now()
		require.NoError(t, Begin(t.Context(), l, Given, own, wanted).Wait(t.Context()))
		took := time.Since(begun)
		require.Len(t, l.sent, ProbeNum)
		for i := 1; i < ProbeNum; i++ {
			assert.GreaterOrEqual(t, l.sent[i].Sub(l.sent[i-1]), ProbeMin)
		}
		assert.Equal(t, AnnounceWait, begun.Add(took).Sub(l.sent[ProbeNum-1]))
		assert.Equal(t, Given.Lasts(), took)
	})
}

func TestABorrowedAddressIsProbedFourTimesInLessThanASecond(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := &link{}
		begun := time.Now()
		require.NoError(t, Begin(t.Context(), l, Borrowed, own, wanted).Wait(t.Context()))
		assert.Len(t, l.sent, 4)
		assert.Equal(t, 600*time.Millisecond, time.Since(begun))
		assert.Equal(t, Borrowed.Lasts(), time.Since(begun))
	})
}

func TestConflicts(t *testing.T) {
	probe := arp.Probe(other, wanted)
	for name, c := range map[string]struct {
		packet   arp.Packet
		allowed  []device.MAC
		conflict bool
	}{
		"a reply":                           {reply(other), nil, true},
		"an announcement":                   {arp.Announce(other, wanted), nil, true},
		"another's probe for it":            {probe, nil, true},
		"the device that is to have it":     {reply(other), []device.MAC{other}, false},
		"our own":                           {reply(own), nil, false},
		"a request for it by someone else":  {arp.Ask(other, netip.MustParseAddr("10.61.8.1"), wanted), nil, false},
		"a reply for some other address":    {arp.Announce(other, netip.MustParseAddr("10.61.8.43")), nil, false},
		"a probe by the device that may be": {probe, []device.MAC{other}, false},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				ctx, cancel := context.WithCancel(t.Context())
				defer cancel()
				l := &link{}
				p := Begin(ctx, l, Given, own, wanted, c.allowed...)
				time.AfterFunc(2500*time.Millisecond, func() { l.say(c.packet) })
				err := p.Wait(ctx)
				if !c.conflict {
					require.NoError(t, err)
					return
				}
				var conflict *ConflictError
				require.ErrorAs(t, err, &conflict)
				require.ErrorIs(t, err, ErrConflict)
				assert.Equal(t, other, conflict.Holder)
			})
		})
	}
}

func TestConflictAfterTheProbeIsStillTold(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		l := &link{}
		p := Begin(ctx, l, Given, own, wanted)
		time.Sleep(10 * time.Second) // of the fake clock: the probe is over, the device still busy
		l.say(reply(other))
		require.ErrorIs(t, p.Wait(ctx), ErrConflict)
	})
}

func TestAStaleWordIsNotTaken(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		l := &link{}
		p := Begin(ctx, l, Given, own, wanted)
		time.Sleep(time.Minute)
		require.NoError(t, p.Wait(ctx))
		assert.Len(t, l.sent, 2*ProbeNum, "probed again right before use")
	})
}

func TestEndsWithItsContextAndTheMedium(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		p := Begin(ctx, &link{}, Given, own, wanted)
		time.AfterFunc(time.Second, cancel)
		require.ErrorIs(t, p.Wait(ctx), context.Canceled)
		broken := errors.New("cable pulled")
		require.ErrorIs(t, Begin(t.Context(), &link{fails: broken}, Given, own, wanted).Wait(t.Context()), broken)
	})
}

// An address that was found free is held until the device that is to have it claims it:
// the probes of others are answered, and nothing else is.
func TestWhatIsFreeIsHeldUntilTheDeviceClaimsIt(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := &link{}
		dev := device.MAC{2, 0, 0, 0, 0, 7}
		p := Begin(t.Context(), l, Given, own, wanted, dev)
		require.NoError(t, p.Wait(t.Context()))
		l.say(arp.Probe(other, wanted))
		l.say(arp.Probe(dev, wanted))
		l.say(arp.Ask(other, netip.MustParseAddr("10.61.8.9"), wanted))
		synctest.Wait()
		assert.Equal(t, []device.MAC{other}, l.held, "the device's own probe is not answered, nor who only looks for it")
		require.NoError(t, p.Wait(t.Context()), "who probes takes nothing from us")
		l.say(arp.Announce(dev, wanted))
		l.say(arp.Probe(other, wanted))
		synctest.Wait()
		assert.Len(t, l.held, 1, "it answers for itself")

		l = &link{}
		b := Begin(t.Context(), l, Borrowed, own, wanted, dev)
		require.NoError(t, b.Wait(t.Context()))
		l.say(arp.Probe(other, wanted))
		synctest.Wait()
		assert.Empty(t, l.held, "what is only looked at is nobody's")
	})
}
