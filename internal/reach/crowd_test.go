package reach

import (
	"context"
	"math/rand/v2"
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/speak/arp"
)

// passing decides what a switch lets pass of broadcasts.
type passing func(now time.Time) bool

// bySecond lets so many pass in each second; byToken has one more to spare every so often, and
// a few in store.
func bySecond(limit int) passing {
	var from time.Time
	n := 0
	return func(now time.Time) bool {
		if now.Sub(from) >= time.Second {
			from, n = now, 0
		}
		n++
		return n <= limit
	}
}

func byToken(limit, store int) passing {
	var last time.Time
	have := float64(store)
	return func(now time.Time) bool {
		have = min(float64(store), have+now.Sub(last).Seconds()*float64(limit))
		last = now
		if have < 1 {
			return false
		}
		have--
		return true
	}
}

// behind lays a cable to hosts behind a switch: those asked for answer after a millisecond.
func behind(c *cable, pass passing, hosts map[netip.Addr]device.MAC, lost func() bool) {
	var one sync.Mutex // frame at a time
	passes := func(p arp.Packet) bool {
		one.Lock()
		defer one.Unlock()
		return (p.To != device.Broadcast || pass == nil || pass(time.Now())) && (lost == nil || !lost())
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.hear = func(f []byte) {
		p, err := arp.Parse(f)
		if err != nil || p.Op != arp.Request || !passes(p) {
			return
		}
		if mac, ok := hosts[p.Target]; ok && (p.To == device.Broadcast || p.To == mac) {
			time.AfterFunc(time.Millisecond, func() {
				select {
				case c.in <- arp.ReplyTo(p, mac).Frame():
				case <-c.end:
				}
			})
		}
	}
}

func hostsFrom(first string, n int) map[netip.Addr]device.MAC {
	out := map[netip.Addr]device.MAC{}
	for i, a := 0, netip.MustParseAddr(first); i < n; i, a = i+1, a.Next() {
		out[a] = device.MAC{2, 0, 0, 1, 0, byte(i)}
	}
	return out
}

// sweep asks for n addresses, and gives when it began.
func sweep(t *testing.T, n *Net, from string, many int) time.Time {
	t.Helper()
	begun := time.Now()
	for i, a := 0, netip.MustParseAddr(from); i < many; i, a = i+1, a.Next() {
		require.NoError(t, n.Send(arp.Probe(own, a).Frame()))
	}
	return begun
}

// A limit on broadcasts shows by a host that is known to answer, of either kind of limit; then the
// pace drops below it and stays, and what was asked at the full pace is known not to have arrived.
func TestALimitOfTheSwitchShows(t *testing.T) {
	for name, pass := range map[string]func() passing{
		"100 in each second": func() passing { return bySecond(100) },
		"a token each 10 ms": func() passing { return byToken(100, 10) },
		"70, with a store":   func() passing { return byToken(70, 100) },
		"1000 in a second":   func() passing { return bySecond(1000) },
		"30 in a second":     func() passing { return bySecond(30) },
		"none at all":        func() passing { return func(time.Time) bool { return false } },
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				c := newCable()
				n := New(c)
				defer n.Close()
				told := make(chan string, 8)
				n.SetBroadcasts(0, 0, func(text string) { told <- text })
				hosts := hostsFrom("10.0.0.1", 3)
				behind(c, nil, hosts, nil)
				sweep(t, n, "10.0.0.1", 3) // they are known from before
				time.Sleep(100 * time.Millisecond)
				synctest.Wait()
				require.True(t, n.HasCanary())
				behind(c, pass(), hosts, nil)

				begun := sweep(t, n, "10.0.1.0", 4000)
				assert.True(t, n.Unheard(t.Context(), begun))
				rate, limited := n.Broadcasts()
				assert.True(t, limited)
				assert.LessOrEqual(t, rate, 60.0*4)
				assert.Contains(t, <-told, "storm control")

				if name == "none at all" {
					return // then nothing that is asked is known to arrive, at whatever pace
				}
				// From here on parts get through, and those that do not are known.
				through := 0
				for range 20 {
					if begun := sweep(t, n, "10.0.2.0", 48); !n.Unheard(t.Context(), begun) {
						through++
					}
				}
				assert.Greater(t, through, 8)
			})
		})
	}
}

// What is lost by chance is no limit.
func TestLossIsNoLimit(t *testing.T) {
	for seed := range uint64(20) {
		synctest.Test(t, func(t *testing.T) {
			c := newCable()
			n := New(c)
			defer n.Close()
			chance := rand.New(rand.NewPCG(seed, 1))
			behind(c, nil, hostsFrom("10.0.0.1", 3), func() bool { return chance.Float64() < 0.03 })
			for range 3 {
				sweep(t, n, "10.0.0.1", 3)
				time.Sleep(50 * time.Millisecond)
			}
			begun := sweep(t, n, "10.0.1.0", 6000)
			assert.False(t, n.Unheard(t.Context(), begun), "seed %d", seed)
			_, limited := n.Broadcasts()
			assert.False(t, limited, "seed %d", seed)
		})
	}
}

// A port that is shut for a storm is told from a host that is gone, and what was asked is asked again
// once it opens.
func TestAPortThatIsShut(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := newCable()
		n := New(c)
		defer n.Close()
		told := make(chan string, 8)
		n.SetBroadcasts(0, 0, func(text string) { told <- text })
		behind(c, nil, hostsFrom("10.0.0.1", 3), nil)
		sweep(t, n, "10.0.0.1", 3)
		time.Sleep(100 * time.Millisecond)
		var shut atomic.Bool
		behind(c, nil, hostsFrom("10.0.0.1", 3), shut.Load)
		begun := sweep(t, n, "10.0.1.0", 300)
		shut.Store(true)
		time.AfterFunc(6*time.Second, func() { shut.Store(false) })
		sweep(t, n, "10.0.2.0", 6000)
		assert.Contains(t, <-told, "has most likely shut this port")
		assert.True(t, n.Unheard(t.Context(), begun))
		sweep(t, n, "10.0.1.0", 1)
		assert.Greater(t, time.Since(begun), 6*time.Second, "it is waited for")
	})
}

// A moment of silence, as of a busy laptop, is no port that was shut: nobody is told, and the pace stays.
// What was asked in it is asked again.
func TestAMomentOfSilenceIsNoShutPort(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := newCable()
		n := New(c)
		defer n.Close()
		n.SetBroadcasts(0, 0, func(text string) { t.Error(text) })
		hosts := hostsFrom("10.0.0.1", 3)
		behind(c, nil, hosts, nil)
		sweep(t, n, "10.0.0.1", 3)
		time.Sleep(100 * time.Millisecond)
		var silent atomic.Bool
		behind(c, nil, hosts, silent.Load)
		begun := sweep(t, n, "10.0.1.0", 300)
		silent.Store(true)
		time.AfterFunc(2500*time.Millisecond, func() { silent.Store(false) })
		sweep(t, n, "10.0.2.0", 6000)
		assert.True(t, n.Unheard(t.Context(), begun))
		assert.False(t, n.WasShut())
		_, limited := n.Broadcasts()
		assert.False(t, limited)
	})
}

// Whoever is interrupted waits for no port, and no pace; a port that stays shut is waited for once.
func TestAnInterruptionWaitsForNoPort(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := newCable()
		n := New(c)
		defer n.Close()
		ctx, stop := context.WithCancel(t.Context())
		n.Until(ctx)
		behind(c, nil, hostsFrom("10.0.0.1", 3), nil)
		sweep(t, n, "10.0.0.1", 3)
		time.Sleep(100 * time.Millisecond)
		behind(c, nil, nil, nil)
		sweep(t, n, "10.0.1.0", 5000) // nothing is heard from here on, and it is noticed in the end
		begun := time.Now()
		sweep(t, n, "10.0.1.0", 20)
		assert.Less(t, time.Since(begun), 2*muteLimit, "once")
		time.AfterFunc(time.Second, stop)
		begun = time.Now()
		var err error
		for err == nil {
			err = n.Send(arp.Probe(own, netip.MustParseAddr("10.0.1.9")).Frame())
		}
		assert.ErrorIs(t, err, context.Canceled)
		assert.Less(t, time.Since(begun), 2*time.Second)
	})
}

// One canary that goes off the LAN says nothing, and is no reason to wait.
func TestACanaryThatIsGone(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := newCable()
		n := New(c)
		defer n.Close()
		hosts := hostsFrom("10.0.0.1", 1)
		behind(c, nil, hosts, nil)
		sweep(t, n, "10.0.0.1", 1)
		time.Sleep(100 * time.Millisecond)
		require.True(t, n.HasCanary())
		behind(c, nil, nil, nil)
		begun := sweep(t, n, "10.0.1.0", 4000)
		assert.False(t, n.Unheard(t.Context(), begun))
		assert.False(t, n.HasCanary())
		assert.Less(t, time.Since(begun), 4*time.Second)
	})
}

// What one is known by its MAC is asked by itself.
func TestWhoIsKnownIsAskedByItself(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := newCable()
		n := New(c)
		defer n.Close()
		v, err := n.Visit(t.Context(), subnet, netip.Addr{}, nil)
		require.NoError(t, err)
		before := len(c.sent())
		time.AfterFunc(20*time.Second, func() { c.in <- arp.Announce(first, dup).Frame() })
		_, err = n.WaitFor(t.Context(), first, []Place{{Address: dup, From: v}})
		require.NoError(t, err)
		loud, asked := 0, c.sent()[before:]
		for _, f := range asked {
			if device.MACFrom(f[0:6]) == device.Broadcast {
				loud++
			}
		}
		assert.Greater(t, len(asked), 35)
		assert.LessOrEqual(t, loud, 6)
	})
}
