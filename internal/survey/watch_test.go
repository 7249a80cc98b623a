package survey

import (
	"context"
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
	"janustat/internal/reach"
	"janustat/internal/reach/reachtest"
	"janustat/internal/speak/arp"
	"janustat/internal/wire"
)

func TestWatchTellsWhoComesAndGoes(t *testing.T) {
	t.Parallel()
	site, err := bench.Parse([]byte(`
site: Watched
seed: 2
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, restart: 1s}
  - {id: late, model: tallow-cube, mac: "02:7a:11:00:04:02", serial: B}
`))
	require.NoError(t, err)
	hurried := benchtest.Hurry(site)
	path, logs, b := benchtest.StartSite(t, site)
	late := b.Device("late")
	late.Unplug() // before anyone hears it
	w, err := wire.DialBench(path)
	require.NoError(t, err)
	n := reach.New(w)
	n.Pace = hurried
	t.Cleanup(func() { n.Close() })
	survey := Survey{
		Net: n, Subnets: NewSubnets(n.Facts().Addresses, netip.Prefix{}, nil, nil), Listen: DefaultListen, Rate: arp.DefaultRate,
		Log: reachtest.Quiet(), Tell: func(string) {},
	}
	found, err := survey.Run(t.Context())
	require.NoError(t, err)
	known := device.Merge(found.Sightings)
	require.Len(t, known, 1)

	events := make(chan Event, 32)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() {
		_, err := Watch{Survey: survey, Known: known, Event: func(e Event) { events <- e }}.Run(ctx)
		done <- err
	}()
	next := func(what EventKind, mac device.MAC) Event {
		t.Helper()
		select {
		case e := <-events:
			require.Equal(t, what, e.What, e.Device.MAC)
			require.Equal(t, mac, e.Device.MAC)
			return e
		case <-time.After(40 * time.Second):
			require.Fail(t, "nothing happened", "expected %s", what)
		}
		return Event{}
	}
	// described is one that has arrived, once it is known what it is: on a busy machine that is
	// told after it.
	described := func(mac device.MAC) device.Device {
		t.Helper()
		e := next(Arrived, mac)
		if e.Device.Make == "" {
			e = next(Described, mac)
		}
		return e.Device
	}
	late.Plug()
	d := described(late.MAC())
	assert.Equal(t, device.Camera, d.Kind)
	assert.Equal(t, "Tallow & Pike", d.Make)
	b.Device("dome").Restart()
	next(Restarted, b.Device("dome").MAC())
	late.Unplug()
	next(Gone, late.MAC())
	late.Plug()
	e := next(Back, late.MAC())
	assert.Greater(t, e.Away, hurried.Of(goneAfter))
	cancel()
	require.NoError(t, <-done)
	for _, e := range logs.Events() {
		assert.NotEqual(t, bench.EventWrite, e.What)
	}
}

// A newcomer that answers ARP long before its service is told at once, and once more when it has
// told what it is, though it says no Hello then.
func TestANewcomerThatStartsSlowlyIsDescribedLater(t *testing.T) {
	t.Parallel()
	mac := device.MAC{0x02, 0x7a, 0x11, 0x00, 0x04, 0x02}
	surveyed := device.Device{MAC: mac, Facts: device.Facts{Access: device.Unread, Kind: device.Other}}
	surveyed.Addresses = []netip.Addr{netip.MustParseAddr("192.168.77.20")}
	for _, c := range []struct {
		name  string
		known []device.Device
	}{{"unknown before", nil}, {"the survey met it, and had no answer", []device.Device{surveyed}}} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			startsSlowly(t, c.known)
		})
	}
}

func startsSlowly(t *testing.T, known []device.Device) {
	manners := "no hello"
	if known != nil { // nothing is told of it before it is described
		manners += ", late service"
	}
	site, err := bench.Parse([]byte(`
site: Slow to start
seed: 3
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: late, model: tallow-cube, mac: "02:7a:11:00:04:02", serial: B, manners: [` + manners + `]}
`))
	require.NoError(t, err)
	hurried := benchtest.Hurry(site)
	path, _, b := benchtest.StartSite(t, site)
	late := b.Device("late")
	late.Unplug()
	release := func() {}
	if known == nil {
		release = late.HoldService()
	}
	w, err := wire.DialBench(path)
	require.NoError(t, err)
	n := reach.New(w)
	n.Pace = hurried
	t.Cleanup(func() { n.Close() })
	s := Survey{
		Net: n, Subnets: NewSubnets(n.Facts().Addresses, netip.Prefix{}, nil, nil), Listen: DefaultListen, Rate: arp.DefaultRate,
		Log: reachtest.Quiet(), Tell: func(string) {},
		Enough: func(f *Findings) bool {
			return slices.ContainsFunc(f.Sightings, func(s device.Sighting) bool { return s.Facts.Kind == device.Camera })
		},
	}
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	var events []Event
	late.Plug()
	found, err := Watch{Survey: s, Known: known, Event: func(e Event) {
		events = append(events, e)
		release()
	}}.Run(ctx)
	require.NoError(t, err)
	assert.True(t, found.Enough, "what is expected is there once it has told what it is")
	require.NotEmpty(t, events)
	if known == nil {
		assert.Equal(t, Arrived, events[0].What)
		assert.Empty(t, events[0].Device.Make)
	}
	last := events[len(events)-1]
	assert.Equal(t, Described, last.What)
	assert.Equal(t, device.Camera, last.Device.Kind)
	assert.Equal(t, "Tallow & Pike", last.Device.Make)
}

// Silence of a device that could not be asked does not say that it has gone.
func TestNobodyIsGoneWhoWasNotAsked(t *testing.T) {
	t.Parallel()
	n, b, _ := reachtest.Plugged(t, pair, "")
	survey := Survey{
		Net: n, Subnets: NewSubnets(n.Facts().Addresses, netip.Prefix{}, nil, nil), Listen: DefaultListen, Rate: arp.DefaultRate,
		Log: reachtest.Quiet(), Tell: func(string) {},
	}
	found, err := survey.Run(t.Context())
	require.NoError(t, err)
	known := device.Merge(found.Sightings)
	require.Len(t, known, 2)
	far, left := device.MAC{2, 0, 0, 0, 0, 1}, device.MAC{2, 0, 0, 0, 0, 2}
	known = append(known,
		device.Device{MAC: far, Addresses: []netip.Addr{netip.MustParseAddr("2001:db8::7")}}, // not of the link
		device.Device{MAC: left, Addresses: []netip.Addr{netip.MustParseAddr("10.61.8.77")}})
	gone := make(chan device.MAC, 32)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() {
		_, err := Watch{Survey: survey, Known: known, Event: func(e Event) {
			if e.What == Gone {
				gone <- e.Device.MAC
			}
		}}.Run(ctx)
		done <- err
	}()
	assert.Equal(t, left, <-gone)
	for _, d := range b.Devices() {
		d.Unplug()
		assert.Equal(t, d.MAC(), <-gone)
	}
	cancel()
	require.NoError(t, <-done)
}

// Where most fall silent at once it is rather the wire: none of them is gone for a good while, and one
// alone is at once.
func TestManyThatFallSilentAtOnceAreWaitedFor(t *testing.T) {
	if testing.Short() {
		t.Skip("what it races is raced by others, and the detector makes it slow")
	}
	t.Parallel()
	n, b, _ := reachtest.Plugged(t, `
site: Crowd
seed: 6
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 8}
`, "")
	survey := Survey{
		Net: n, Subnets: NewSubnets(n.Facts().Addresses, netip.Prefix{}, nil, nil), Listen: DefaultListen, Rate: arp.DefaultRate,
		Log: reachtest.Quiet(), Tell: func(string) {},
	}
	found, err := survey.Run(t.Context())
	require.NoError(t, err)
	known := device.Merge(found.Sightings)
	require.Len(t, known, 8)
	gone := make(chan device.MAC, 32)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() {
		_, err := Watch{Survey: survey, Known: known, Event: func(e Event) {
			if e.What == Gone {
				gone <- e.Device.MAC
			}
		}}.Run(ctx)
		done <- err
	}()
	b.Device("dome-1").Unplug()
	assert.Equal(t, b.Device("dome-1").MAC(), <-gone)
	begun := time.Now()
	for i := range 6 {
		b.Device(fmt.Sprint("dome-", i+2)).Unplug()
	}
	<-gone
	assert.Greater(t, time.Since(begun), n.Pace.Of(crowdExcused))
	for range 5 {
		<-gone
	}
	cancel()
	require.NoError(t, <-done)
}

func TestASurveyEndsOnceEnoughIsThere(t *testing.T) {
	t.Parallel()
	n, _, _ := reachtest.Plugged(t, pair, "")
	begun := time.Now()
	f, err := Survey{
		Net: n, Subnets: NewSubnets(n.Facts().Addresses, netip.Prefix{}, nil, nil), Listen: time.Hour, Rate: arp.DefaultRate, Log: reachtest.Quiet(), Tell: func(string) {},
		Enough: func(f *Findings) bool { return cameras(device.Merge(f.Sightings)) == 2 },
	}.Run(t.Context())
	require.NoError(t, err)
	assert.True(t, f.Enough)
	assert.Less(t, time.Since(begun), time.Minute)
}

// A replay of a survey's capture finds what the survey found, without a network.
func TestAReplayFindsWhatTheSurveyFound(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "site.pcapng")
	n, _, _ := reachtest.Plugged(t, `
site: Kept
seed: 4
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 3}
  - {id: eye, model: oakhollow-eye, mac: "02:0a:c0:00:03:01", serial: C, ipv6: true}
  - {id: bullet, model: verrine-bullet, mac: "02:e4:41:00:02:01", serial: B, password: Some-One-7}
others:
  - {id: pc, role: computer, mac: "02:9d:00:00:00:31", address: 10.61.8.52/23, host: office-pc, offers: [_workstation._tcp], ports: [445]}
`, path)
	live := device.Merge(findings(t, n).Sightings)
	require.NoError(t, n.Close())
	f, facts, err := Survey{Subnets: NewSubnets(nil, netip.Prefix{}, nil, nil), Log: reachtest.Quiet(), Tell: func(string) {}}.Replay(t.Context(), path)
	require.NoError(t, err)
	assert.Equal(t, device.MAC{2, 0x1a, 0x70, 0, 0, 1}, facts.MAC)
	again := device.Merge(f.Sightings)
	require.Len(t, again, len(live))
	for i := range live {
		a, b := live[i], again[i]
		a.FirstSeen, a.SeenAt, b.FirstSeen, b.SeenAt = time.Time{}, time.Time{}, time.Time{}, time.Time{}
		// What was said over HTTPS cannot be read from a capture.
		assert.Equal(t, i == 0, a.TLS != nil)
		a.TLS, a.NoTLS = nil, false
		// Open ports were asked about by the survey itself; the answers are in the capture.
		a.Writes, b.Writes = nil, nil // a replay knows nothing of clocks
		assert.Equal(t, a, b)
	}
	_, _, err = Survey{Subnets: NewSubnets(nil, netip.Prefix{}, nil, nil), Log: reachtest.Quiet(), Tell: func(string) {}}.Replay(t.Context(), filepath.Join(t.TempDir(), "none"))
	assert.Error(t, err)
}
