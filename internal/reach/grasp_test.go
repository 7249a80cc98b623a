package reach

import (
	"errors"
	"net/netip"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/speak/arp"
)

// Somebody who claims a visitor's address a moment after it was taken is told from one that answers for
// any, whatever was heard of it before.
func TestWhoTakesAVisitorsAddressIsToldFromWhoAnswersForAny(t *testing.T) {
	culprit := device.MAC{2, 0xba, 0xd0, 2, 2, 2}
	at, subnet := netip.MustParseAddr("10.61.8.14"), netip.MustParsePrefix("10.61.8.0/24")
	for name, any := range map[string]bool{"any": true, "one": false} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				c := newCable()
				n := New(c)
				defer n.Close()
				c.mu.Lock()
				c.hear = func(f []byte) {
					if p, err := arp.Parse(f); err == nil && p.Op == arp.Request && (any || p.Target == at) {
						time.AfterFunc(time.Millisecond, func() {
							select {
							case c.in <- arp.ReplyTo(p, culprit).Frame():
							case <-c.end:
							}
						})
					}
				}
				c.mu.Unlock()
				v := &Visitor{subnet: subnet, address: at, ready: make(chan struct{})}
				n.mu.Lock()
				n.visitors[subnet] = v
				n.mu.Unlock()
				told := make(chan error, 1)
				go func() {
					_, err := n.Visit(t.Context(), subnet, netip.Addr{}, nil)
					told <- err
				}()
				synctest.Wait()
				v.lose(culprit)
				close(v.ready)
				err := <-told
				require.ErrorIs(t, err, ErrNoVisitor)
				var grasps *GraspError
				assert.Equal(t, any, errors.As(err, &grasps), "%v", err)
				assert.ErrorContains(t, err, culprit.String())
			})
		})
	}
}
