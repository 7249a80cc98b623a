package reach

import (
	"bytes"
	"context"
	"io"
	"net/netip"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/speak/arp"
	"janustat/internal/wire"
)

var (
	own    = device.MAC{2, 0, 0, 0, 0, 1}
	first  = device.MAC{2, 0, 0, 0, 1, 1}
	second = device.MAC{2, 0, 0, 0, 1, 2}
	subnet = netip.MustParsePrefix("192.168.77.0/29")
	dup    = netip.MustParseAddr("192.168.77.1")
)

// cable is a wire in memory: what is sent is recorded, what is put in is read.
type cable struct {
	mu   sync.Mutex
	out  [][]byte
	in   chan []byte
	once sync.Once
	end  chan struct{}
	hear func(frame []byte) // reacts to what is sent
}

func newCable() *cable { return &cable{in: make(chan []byte, 100), end: make(chan struct{})} }

func (c *cable) Read() ([]byte, error) {
	select {
	case f := <-c.in:
		return f, nil
	case <-c.end:
		return nil, io.EOF
	}
}

func (c *cable) Write(f []byte) error {
	c.mu.Lock()
	c.out = append(c.out, bytes.Clone(f))
	hear := c.hear
	c.mu.Unlock()
	if hear != nil {
		hear(f)
	}
	return nil
}

func (c *cable) Close() error { c.once.Do(func() { close(c.end) }); return nil }

func (c *cable) Facts() wire.Facts {
	return wire.Facts{Name: "test", MAC: own, MTU: 1500, Addresses: []netip.Prefix{netip.MustParsePrefix("192.168.77.5/29")}}
}

func (c *cable) sent() [][]byte {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.out)
}

func TestVisitTakesAFreeAddressAndAnswersForIt(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := newCable()
		n := New(c)
		defer n.Close()
		// .6 is at the top and in use: its holder answers the probe. .5 is the
		// laptop's own, .4 is to be avoided, .3 is free.
		taken := netip.MustParseAddr("192.168.77.6")
		c.hear = func(f []byte) {
			if p, err := arp.Parse(f); err == nil && p.Target == taken && p.Op == arp.Request {
				c.in <- arp.ReplyTo(p, first).Frame()
			}
		}
		avoid := func(a netip.Addr) bool { return a == netip.MustParseAddr("192.168.77.4") }
		v, err := n.Visit(t.Context(), subnet, netip.Addr{}, avoid)
		require.NoError(t, err)
		assert.Equal(t, "192.168.77.3", v.Address().String())
		again, err := n.Visit(t.Context(), subnet, netip.Addr{}, avoid)
		require.NoError(t, err)
		assert.Same(t, v, again, "callers share the visitor of a subnet")

		before := len(c.sent())
		c.in <- arp.Ask(first, dup, v.Address()).Frame()
		c.in <- arp.Ask(first, dup, netip.MustParseAddr("192.168.77.4")).Frame()
		synctest.Wait()
		out := c.sent()[before:]
		require.Len(t, out, 1, "only the visitor's own address is answered for")
		p, err := arp.Parse(out[0])
		require.NoError(t, err)
		assert.Equal(t, arp.Reply, p.Op)
		assert.Equal(t, v.Address(), p.Sender)
		assert.Equal(t, first, p.To)

		// Someone claims it: the visit is over.
		c.in <- arp.Announce(second, v.Address()).Frame()
		synctest.Wait()
		_, err = n.Open(v, first)
		require.ErrorIs(t, err, ErrNoVisitor)
	})
}

func TestCandidatesAreNearTheDevice(t *testing.T) {
	n := New(newCable())
	defer n.Close()
	var got []string
	for a := range n.candidates(netip.MustParsePrefix("192.168.50.0/24"), netip.MustParseAddr("192.168.50.10"), nil) {
		if got = append(got, a.String()[11:]); len(got) == 9 {
			break
		}
	}
	assert.Equal(t, []string{"11", "9", "14", "12", "13", "2", "3", "1", "6"}, got, "inside its /29 first, then its /28, never .8 or .15")
	count := 0
	for a := range n.candidates(netip.MustParsePrefix("10.0.0.0/20"), netip.Addr{}, nil) {
		require.True(t, netip.MustParsePrefix("10.0.0.0/20").Contains(a))
		count++
	}
	assert.Equal(t, 4096*6/8, count)
}

func TestVisitWithoutAFreeAddress(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n := New(newCable())
		defer n.Close()
		_, err := n.Visit(t.Context(), subnet, netip.Addr{}, func(netip.Addr) bool { return true })
		require.ErrorIs(t, err, ErrNoVisitor)
	})
}

func TestVisitEndsWithTheWire(t *testing.T) {
	c := newCable()
	n := New(c)
	time.AfterFunc(10*time.Millisecond, func() { c.Close() })
	_, err := n.Visit(t.Context(), subnet, netip.Addr{}, nil)
	require.ErrorIs(t, err, ErrClosed)
	n.Close()
}

func TestOwnFramesAreNotHeard(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := newCable()
		n := New(c)
		defer n.Close()
		var heard []device.MAC
		stop := n.HearARP(dup, func(p arp.Packet) { heard = append(heard, p.From) })
		c.in <- arp.Announce(own, dup).Frame()
		c.in <- arp.Announce(first, dup).Frame()
		c.in <- arp.Announce(second, dup.Next()).Frame() // about another address
		c.in <- []byte{1, 2, 3}
		synctest.Wait()
		stop()
		c.in <- arp.Announce(second, dup).Frame()
		synctest.Wait()
		assert.Equal(t, []device.MAC{first}, heard)
	})
}

func TestWaitForAsksAsAVisitorNotAsAProbe(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := newCable()
		n := New(c)
		defer n.Close()
		v, err := n.Visit(t.Context(), subnet, netip.Addr{}, nil)
		require.NoError(t, err)
		before := len(c.sent())
		time.AfterFunc(1200*time.Millisecond, func() {
			c.in <- arp.Announce(second, dup).Frame() // not the device waited for
			c.in <- arp.Announce(first, dup).Frame()
		})
		got, err := n.WaitFor(t.Context(), first, []Place{{Address: dup, From: v}})
		require.NoError(t, err)
		assert.Equal(t, dup, got)
		asked := c.sent()[before:]
		require.Len(t, asked, 3)
		for _, f := range asked {
			p, err := arp.Parse(f)
			require.NoError(t, err)
			assert.Equal(t, v.Address(), p.Sender, "a probe would make the device give its address up")
		}
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
		defer cancel()
		_, err = n.WaitFor(ctx, second, []Place{{Address: netip.MustParseAddr("192.168.77.2"), From: v}})
		require.ErrorIs(t, err, context.DeadlineExceeded)
	})
}

// udpFrame is a datagram from a device to the visitor, whole.
func udpFrame(from device.MAC, payload []byte) []byte {
	return datagramFrame(from, own, netip.AddrPortFrom(dup, 3702), netip.MustParseAddrPort("192.168.77.6:41702"), 64, payload)
}

// Where more is claimed than any site has hosts, an address that nobody defends is free.
func TestVisitWhereAFloodClaimsEveryAddress(t *testing.T) {
	t.Parallel()
	c := newCable()
	n := New(c)
	defer n.Close()
	subnet := netip.MustParsePrefix("192.168.50.0/24")
	heard := make(chan struct{}, 1)
	last := netip.AddrFrom4([4]byte{192, 168, 50, 255})
	defer n.Hear(func(h Heard) {
		if h.ARP != nil && h.ARP.Sender == last {
			heard <- struct{}{}
		}
	})()
	for i := range 4096 + 256 {
		at := netip.AddrFrom4([4]byte{192, 168, byte(50 - i>>8 + (4096+255)>>8), byte(i)})
		c.in <- arp.Announce(device.MAC{2, 0x66, 0, 0, byte(i >> 8), byte(i)}, at).Frame()
	}
	<-heard
	v, err := n.Visit(t.Context(), subnet, netip.MustParseAddr("192.168.50.10"), nil)
	require.NoError(t, err)
	assert.True(t, subnet.Contains(v.Address()))
}

// What was ours a short while ago is asked for first, and only where it may be taken.
func TestVisitAsksForTheLastOneFirst(t *testing.T) {
	last := netip.MustParseAddr("192.168.77.2")
	for want, avoided := range map[string]string{"192.168.77.2": "192.168.77.4", "192.168.77.1": "192.168.77.2"} {
		synctest.Test(t, func(t *testing.T) {
			n := New(newCable())
			defer n.Close()
			n.Prefer = map[netip.Prefix]netip.Addr{subnet: last}
			v, err := n.Visit(t.Context(), subnet, netip.Addr{}, func(a netip.Addr) bool { return a.String() == avoided })
			require.NoError(t, err)
			assert.Equal(t, want, v.Address().String())
			assert.Equal(t, map[netip.Prefix]netip.Addr{subnet: v.Address()}, n.Visitors())
		})
	}
}
