package lease

import (
	"context"
	"net"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/core/lan"
	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
	"janustat/internal/reach"
	"janustat/internal/reach/reachtest"
	"janustat/internal/speak/dhcp"
	"janustat/internal/survey"
	"janustat/internal/wire"
)

// bareSite is three devices that ask for an address; a printer has the one that
// the second is to get.
const bareSite = `
site: Bare
seed: 5
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: cube, model: tallow-cube, mac: "02:7a:11:00:09:01", serial: B, count: 3, address: none, dhcp: true, fallback: none, ask_every: 1s}
others:
  - {id: printer, role: printer, mac: "02:9d:00:00:00:30", address: 10.61.8.42/23}
`

type leasing struct {
	Server
	mu    sync.Mutex
	told  map[device.MAC][]string
	given []lan.Lease
}

func startLeasing(t *testing.T) (*leasing, string, *bench.Bench) {
	return startLeasingOn(t, bareSite, func(w wire.Wire) wire.Wire { return w })
}

func startLeasingOn(t *testing.T, text string, by func(wire.Wire) wire.Wire) (*leasing, string, *bench.Bench) {
	site, err := bench.Parse([]byte(text))
	require.NoError(t, err)
	hurried := benchtest.Hurry(site)
	path, _, b := benchtest.StartSite(t, site)
	w, err := wire.DialBench(path)
	require.NoError(t, err)
	n := reach.New(by(w))
	n.Pace = hurried
	t.Cleanup(func() { n.Close() })
	l := &leasing{told: map[device.MAC][]string{}}
	l.Server = Server{
		Net: n, Subnets: survey.NewSubnets(n.Facts().Addresses, netip.Prefix{}, nil, nil), For: time.Minute, Log: reachtest.Quiet(),
		Terms: dhcp.Lease{Subnet: netip.MustParsePrefix("10.61.8.0/23"), Gateway: netip.MustParseAddr("10.61.8.1"), Time: time.Hour},
		Clients: []Client{
			{MAC: device.MAC{2, 0x7a, 0x11, 0, 9, 1}, Address: netip.MustParseAddr("10.61.8.41"), Waiting: true},
			{MAC: device.MAC{2, 0x7a, 0x11, 0, 9, 2}, Address: netip.MustParseAddr("10.61.8.42"), Waiting: true},
		},
		Tell: func(c Client, text string) {
			l.mu.Lock()
			defer l.mu.Unlock()
			l.told[c.MAC] = append(l.told[c.MAC], text)
		},
		Given: func(r lan.Lease) error { l.given = append(l.given, r); return nil },
	}
	return l, path, b
}

func TestLeaseGivesToTheTakenAndProbesFirst(t *testing.T) {
	t.Parallel()
	l, _, _ := startLeasing(t)
	ended, err := l.Run(t.Context())
	require.NoError(t, err)
	leased := ended.Leased
	first, second := l.Clients[0].MAC, l.Clients[1].MAC
	assert.Equal(t, []device.MAC{first}, leased, "the second's address is a printer's; the third was not taken")
	require.NotEmpty(t, l.given)
	assert.Equal(t, netip.MustParseAddr("10.61.8.41"), l.given[0].Address)
	assert.Equal(t, time.Hour, l.given[0].Until.Sub(l.given[0].At))
	require.Len(t, l.told[second], 1)
	assert.Contains(t, l.told[second][0], "10.61.8.42 is in use by 02:9d:00:00:00:30")
	assert.Contains(t, ended.Why[second], "10.61.8.42 is in use by 02:9d:00:00:00:30")
	// It is there now, at the address it was given.
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	v, err := l.Net.Visit(ctx, l.Terms.Subnet, netip.Addr{}, nil)
	require.NoError(t, err)
	at, err := l.Net.WaitFor(ctx, first, []reach.Place{{Address: l.Clients[0].Address, From: v}})
	require.NoError(t, err)
	assert.Equal(t, l.Clients[0].Address, at)
}

// unconfirmed is a wire that loses the first confirmation of a lease.
type unconfirmed struct {
	wire.Wire
	lost atomic.Bool
}

func (u *unconfirmed) Write(frame []byte) error {
	const payload = 14 + 20 + 8
	if len(frame) > payload && frame[12] == 8 && frame[13] == 0 && frame[23] == 17 {
		if m, err := dhcpv4.FromBytes(frame[payload:]); err == nil && m.MessageType() == dhcpv4.MessageTypeAck && u.lost.CompareAndSwap(false, true) {
			return nil
		}
	}
	return u.Wire.Write(frame)
}

// A device that did not hear that it has its lease asks again: the service waits for it.
func TestLeaseWaitsForDevicesAtTheirAddresses(t *testing.T) {
	t.Parallel()
	var lossy *unconfirmed
	l, _, b := startLeasingOn(t, strings.Replace(bareSite, "ask_every: 1s", "ask_every: 2s", 1), func(w wire.Wire) wire.Wire {
		lossy = &unconfirmed{Wire: w}
		return lossy
	})
	l.Clients = l.Clients[:1]
	ended, err := l.Run(t.Context())
	require.NoError(t, err)
	leased := ended.Leased
	assert.True(t, lossy.lost.Load())
	assert.Equal(t, []device.MAC{l.Clients[0].MAC}, leased)
	at, _, _ := b.Devices()[0].Look()
	assert.Equal(t, l.Clients[0].Address, at.Addr())
}

// deaf is a wire on which no offer of a lease gets through.
type deaf struct{ wire.Wire }

func (d deaf) Write(frame []byte) error {
	const payload = 14 + 20 + 8
	if len(frame) > payload && frame[12] == 8 && frame[13] == 0 && frame[23] == 17 {
		if m, err := dhcpv4.FromBytes(frame[payload:]); err == nil && m.MessageType() == dhcpv4.MessageTypeOffer {
			return nil
		}
	}
	return d.Wire.Write(frame)
}

// One that asks for ever and takes nothing does not keep the service up.
func TestLeaseEndsForADeviceThatNeverTakesOne(t *testing.T) {
	t.Parallel()
	l, _, _ := startLeasingOn(t, bareSite, func(w wire.Wire) wire.Wire { return deaf{w} })
	l.Clients, l.For = l.Clients[:1], time.Hour
	ended, err := l.Run(t.Context())
	require.NoError(t, err)
	assert.Empty(t, ended.Leased)
	assert.Contains(t, ended.Why[l.Clients[0].MAC], "was offered 10.61.8.41")
	assert.Contains(t, ended.Why[l.Clients[0].MAC], "did not take it")
}

func TestLeaseStopsWhenAnotherServerAppears(t *testing.T) {
	t.Parallel()
	l, socket, _ := startLeasing(t)
	var on atomic.Bool
	reachtest.PlugIn(t, socket, func(w *wire.Frames, frame []byte) {
		const payload = 14 + 20 + 8
		if !on.Load() || len(frame) <= payload || frame[12] != 8 || frame[23] != 17 {
			return
		}
		ask, err := dhcpv4.FromBytes(frame[payload:])
		if err != nil || ask.MessageType() != dhcpv4.MessageTypeDiscover {
			return
		}
		m, err := dhcpv4.NewReplyFromRequest(ask, dhcpv4.WithMessageType(dhcpv4.MessageTypeOffer), dhcpv4.WithYourIP(net.IPv4(10, 61, 9, 9)),
			dhcpv4.WithOption(dhcpv4.OptServerIdentifier(net.IPv4(10, 61, 8, 9))))
		if err == nil {
			_ = w.Write(reachtest.UDP(reachtest.Villain, device.Broadcast, "10.61.8.9:67", "255.255.255.255:68", m.ToBytes()))
		}
	})
	l.Stay = true
	begun := make(chan struct{})
	l.Tell = func(Client, string) {
		select {
		case <-begun:
		default:
			close(begun)
		}
	}
	done := make(chan error, 1)
	go func() { _, err := l.Run(t.Context()); done <- err }()
	select {
	case <-begun:
	case err := <-done:
		require.NoError(t, err)
	}
	on.Store(true) // it was switched on after we looked
	select {
	case err := <-done:
		require.ErrorIs(t, err, ErrOtherServer)
		assert.Contains(t, err.Error(), "10.61.8.9 (02:66:00:00:00:01) has begun to answer")
	case <-time.After(20 * time.Second):
		t.Fatal("it goes on beside another server")
	}
}

// Frames that anybody may send end nothing: an offer that nobody asked for, a refusal and a
// request in the device's name. What is asked is asked again, and probed again.
func TestForgedFramesEndNoLease(t *testing.T) {
	t.Parallel()
	l, socket, _ := startLeasing(t)
	first := l.Clients[0]
	rogue := reachtest.PlugIn(t, socket, nil)
	say := func(kind dhcpv4.MessageType, from net.IP) []byte {
		m, err := dhcpv4.New(dhcpv4.WithMessageType(kind), dhcpv4.WithHwAddr(first.MAC[:]), dhcpv4.WithOption(dhcpv4.OptServerIdentifier(from)),
			dhcpv4.WithOption(dhcpv4.OptRequestedIPAddress(first.Address.AsSlice())))
		require.NoError(t, err)
		return m.ToBytes()
	}
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	go func() {
		ask, err := dhcpv4.NewDiscovery(first.MAC[:])
		if err != nil {
			return
		}
		offer, err := dhcpv4.NewReplyFromRequest(ask, dhcpv4.WithMessageType(dhcpv4.MessageTypeOffer), dhcpv4.WithYourIP(net.IPv4(10, 61, 9, 9)),
			dhcpv4.WithOption(dhcpv4.OptServerIdentifier(net.IPv4(10, 61, 8, 9))))
		if err != nil {
			return
		}
		for ctx.Err() == nil {
			_ = rogue.Write(reachtest.UDP(reachtest.Villain, device.Broadcast, "10.61.8.9:67", "255.255.255.255:68", offer.ToBytes()))
			for _, kind := range []dhcpv4.MessageType{dhcpv4.MessageTypeDecline, dhcpv4.MessageTypeRequest, dhcpv4.MessageTypeRelease} {
				_ = rogue.Write(reachtest.UDP(first.MAC, device.Broadcast, "0.0.0.0:68", "255.255.255.255:67", say(kind, net.IPv4(10, 61, 8, 9))))
			}
			time.Sleep(50 * time.Millisecond) // a pace of the attack, nothing waits for it
		}
	}()
	ended, err := l.Run(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []device.MAC{first.MAC}, ended.Leased)
}
