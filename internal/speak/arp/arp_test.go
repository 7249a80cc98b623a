package arp

import (
	"context"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
)

var (
	own   = device.MAC{2, 0, 0, 0, 0, 1}
	other = device.MAC{2, 0, 0, 0, 0, 2}
)

func TestFrameOnTheWire(t *testing.T) {
	// RFC 826's layout, byte by byte: a request of 10.0.0.1 for 10.0.0.2.
	want := []byte{
		0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 2, 0, 0, 0, 0, 1, 0x08, 0x06,
		0, 1, 8, 0, 6, 4, 0, 1,
		2, 0, 0, 0, 0, 1, 10, 0, 0, 1,
		0, 0, 0, 0, 0, 0, 10, 0, 0, 2,
	}
	got := Ask(own, netip.MustParseAddr("10.0.0.1"), netip.MustParseAddr("10.0.0.2")).Frame()
	assert.Len(t, got, 60, "padded to the shortest Ethernet frame")
	assert.Equal(t, want, got[:len(want)])
}

func TestParseGivesBackWhatFrameMade(t *testing.T) {
	target := netip.MustParseAddr("10.61.8.42")
	asked := Ask(other, netip.MustParseAddr("10.61.8.1"), target)
	for _, p := range []Packet{Probe(own, target), Announce(own, target), asked, ReplyTo(asked, own)} {
		got, err := Parse(p.Frame())
		require.NoError(t, err)
		assert.Equal(t, p, got)
	}
	reply := ReplyTo(asked, own)
	assert.Equal(t, other, reply.To, "a reply goes to who asked")
	assert.True(t, Probe(own, target).Sender.IsUnspecified(), "a probe claims nothing (RFC 5227, 2.1.1)")
}

func TestParseRefuses(t *testing.T) {
	good := Probe(own, netip.MustParseAddr("10.0.0.1")).Frame()
	for name, change := range map[string]func([]byte) []byte{
		"short":         func(b []byte) []byte { return b[:41] },
		"empty":         func([]byte) []byte { return nil },
		"ethertype":     func(b []byte) []byte { b[12] = 0x86; return b },
		"hardware type": func(b []byte) []byte { b[15] = 6; return b },
		"address size":  func(b []byte) []byte { b[18] = 8; return b },
		"operation":     func(b []byte) []byte { b[21] = 9; return b },
	} {
		_, err := Parse(change(slices.Clone(good)))
		assert.ErrorIs(t, err, ErrNotARP, name)
	}
}

func TestSweepAsksForEveryAddressOnce(t *testing.T) {
	want := []netip.Addr{netip.MustParseAddr("10.0.0.1"), netip.MustParseAddr("10.0.0.2"), netip.MustParseAddr("10.9.0.1")}
	var got []netip.Addr
	n, err := Sweep(t.Context(), func(f []byte) error {
		p, err := Parse(f)
		got = append(got, p.Target)
		return err
	}, own, slices.Values(want), 0)
	require.NoError(t, err)
	assert.Equal(t, 3, n)
	assert.Equal(t, want, got)
}

func TestSweepEndsWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	many := slices.Repeat([]netip.Addr{netip.MustParseAddr("10.0.0.1")}, 1000)
	n, err := Sweep(ctx, func([]byte) error { cancel(); return nil }, own, slices.Values(many), 1)
	require.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, 1, n)
}

func FuzzParse(f *testing.F) {
	f.Add(Probe(own, netip.MustParseAddr("10.0.0.1")).Frame())
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, frame []byte) {
		p, err := Parse(frame)
		if err != nil {
			return
		}
		again, err := Parse(p.Frame())
		require.NoError(t, err)
		require.Equal(t, p, again)
	})
}
