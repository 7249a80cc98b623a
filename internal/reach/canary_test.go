package reach

import (
	"math/rand/v2"
	"net/netip"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"janustat/core/device"
	"janustat/internal/speak/arp"
)

// Hosts that are slow for a while, each answer another time, are no limit of a switch: nothing that was
// sent to everyone counts as lost.
func TestHostsThatAreSlowNowAndThenAreNoLimit(t *testing.T) {
	for seed := range uint64(20) {
		synctest.Test(t, func(t *testing.T) {
			c := newCable()
			n := New(c)
			defer n.Close()
			n.SetBroadcasts(0, 0, func(text string) { t.Error(text) })
			chance := rand.New(rand.NewPCG(seed, 1))
			hosts := hostsFrom("10.0.0.1", 3)
			answered := map[device.MAC]time.Time{}
			c.hear = func(f []byte) { // in the order of the questions, as long as any takes
				p, err := arp.Parse(f)
				mac, ok := hosts[p.Target]
				if err != nil || !ok {
					return
				}
				at := time.Now().Add(time.Duration(25+chance.IntN(150)) * time.Millisecond)
				if last := answered[mac]; at.Before(last) {
					at = last.Add(time.Millisecond)
				}
				answered[mac] = at
				time.AfterFunc(time.Until(at), func() {
					select {
					case c.in <- arp.ReplyTo(p, mac).Frame():
					case <-c.end:
					}
				})
			}
			sweep(t, n, "10.0.0.1", 3)
			time.Sleep(100 * time.Millisecond)
			begun := sweep(t, n, "10.0.1.0", 4000)
			assert.False(t, n.Deaf(t.Context(), begun), "seed %d", seed)
			_, limited := n.Broadcasts()
			assert.False(t, limited, "seed %d", seed)
		})
	}
}

// A host that takes what is sent to it alone, and nothing that is sent to everyone, is not what the
// wire is judged by, though it was the first to be known.
func TestAHostThatTakesNoBroadcastsIsNoLimit(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := newCable()
		n := New(c)
		defer n.Close()
		n.SetBroadcasts(0, 0, func(text string) { t.Error(text) })
		odd := netip.MustParseAddr("10.0.0.1")
		hosts := hostsFrom("10.0.0.1", 4)
		behind(c, nil, hosts, nil)
		sweep(t, n, "10.0.0.1", 1)
		time.Sleep(100 * time.Millisecond)
		sweep(t, n, "10.0.0.2", 3)
		time.Sleep(100 * time.Millisecond)
		all := c.hear
		c.mu.Lock()
		c.hear = func(f []byte) {
			if p, err := arp.Parse(f); err == nil && p.Target == odd && p.To == device.Broadcast {
				return
			}
			all(f)
		}
		c.mu.Unlock()
		deaf := 0
		for range 20 {
			begun := sweep(t, n, "10.0.1.0", 128)
			if n.Deaf(t.Context(), begun) {
				deaf++
			}
		}
		assert.LessOrEqual(t, deaf, 1, "which is asked once more")
		_, limited := n.Broadcasts()
		assert.False(t, limited)
		assert.True(t, n.HasCanary())
	})
}
