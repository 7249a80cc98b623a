package device

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var t0 = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

func mac(n int) MAC { return MAC{2, 0, 0, byte(n >> 16), byte(n >> 8), byte(n)} }

func at(s string) netip.Addr { return netip.MustParseAddr(s) }

func seen(n int, address, endpoint string, f Facts) Sighting {
	return Sighting{At: t0, By: "test", MAC: mac(n), Address: at(address), Endpoint: endpoint, Facts: f}
}

func TestMergeKeepsDevicesOnOneAddressApart(t *testing.T) {
	got := Merge([]Sighting{
		seen(2, "192.168.77.20", "urn:uuid:b", Facts{Serial: "B", Make: "Verrine"}),
		seen(1, "192.168.77.20", "urn:uuid:a", Facts{Serial: "A", Make: "Verrine"}),
		seen(3, "192.168.77.21", "", Facts{}),
		seen(1, "192.168.77.20", "", Facts{}),
	})
	require.Len(t, got, 3)
	assert.Equal(t, []string{"A", "B", ""}, []string{got[0].Serial, got[1].Serial, got[2].Serial})
	assert.Equal(t, []MAC{mac(2)}, got[0].Clashing)
	assert.Equal(t, []MAC{mac(1)}, got[1].Clashing)
	assert.Empty(t, got[2].Clashing)
}

func TestMergeNeverJoinsTwoMACsByAClonedIdentity(t *testing.T) {
	clone := Facts{Serial: "12345", Make: "Verrine"}
	got := Merge([]Sighting{seen(1, "10.0.0.1", "urn:uuid:same", clone), seen(2, "10.0.0.2", "urn:uuid:same", clone)})
	require.Len(t, got, 2)
	assert.Equal(t, []netip.Addr{at("10.0.0.1")}, got[0].Addresses)
}

func TestMergeJoinsThePortsOfOneDevice(t *testing.T) {
	both := []MAC{mac(1), mac(2)}
	got := Merge([]Sighting{
		seen(1, "10.0.0.1", "urn:uuid:nvr", Facts{OtherMAC: both}), seen(2, "10.0.0.2", "urn:uuid:nvr", Facts{OtherMAC: both}),
	})
	require.Len(t, got, 1)
	assert.Len(t, got[0].Addresses, 2)
	// A lie about another's MAC joins nothing: the other does not confirm it.
	got = Merge([]Sighting{seen(1, "10.0.0.1", "urn:uuid:nvr", Facts{OtherMAC: both}), seen(2, "10.0.0.2", "urn:uuid:nvr", Facts{OtherMAC: []MAC{mac(2)}})})
	assert.Len(t, got, 2)
}

// A recorder is given the stream that it takes; one that does not say is given the best.
func TestAStreamForARecorder(t *testing.T) {
	best := Stream{Path: "/new", Codec: "H265", Others: []Stream{{Path: "/main", Codec: "H264"}, {Path: "/old", Codec: "MP4V-ES"}}}
	for want, encodings := range map[string][]string{"/new": nil, "/main": {"JPEG", "h264"}, "/old": {"MPEG4"}} {
		got := best.For(encodings)
		assert.Equal(t, want, got.Path)
		assert.Equal(t, "/main", got.For([]string{"H264"}).Path, "another recorder may take it")
	}
	assert.Equal(t, "/new", best.For([]string{"VP8"}).Path, "the best has to do")
}

// Ports that answer ARP for each other's addresses are one device, whatever it tells of them.
func TestMergeKnowsPortsByWhatTheyDo(t *testing.T) {
	of := func(serial string, endpoint string, n int, addresses ...string) (out []Sighting) {
		for _, a := range addresses {
			out = append(out, seen(n, a, endpoint, Facts{Serial: serial, Make: "Verrine"}))
		}
		return out
	}
	for name, x := range map[string]struct {
		one, other []Sighting
		devices    int
	}{
		"each answers for the other":            {of("S", "urn:uuid:nvr", 1, "10.0.0.1", "10.0.0.2"), of("S", "urn:uuid:nvr", 2, "10.0.0.1", "10.0.0.2"), 1},
		"one answers for the other alone":       {of("S", "urn:uuid:nvr", 1, "10.0.0.1", "10.0.0.2"), of("S", "urn:uuid:nvr", 2, "10.0.0.2"), 2},
		"one says nothing of itself":            {of("S", "urn:uuid:nvr", 1, "10.0.0.1", "10.0.0.2"), of("", "", 2, "10.0.0.1", "10.0.0.2"), 1},
		"neither does":                          {of("", "", 1, "10.0.0.1", "10.0.0.2"), of("", "", 2, "10.0.0.1", "10.0.0.2"), 2},
		"another serial":                        {of("S", "urn:uuid:nvr", 1, "10.0.0.1", "10.0.0.2"), of("T", "urn:uuid:nvr", 2, "10.0.0.1", "10.0.0.2"), 2},
		"another identity":                      {of("S", "urn:uuid:nvr", 1, "10.0.0.1", "10.0.0.2"), of("S", "urn:uuid:old", 2, "10.0.0.1", "10.0.0.2"), 2},
		"one address, which both have":          {of("S", "urn:uuid:nvr", 1, "10.0.0.1"), of("S", "urn:uuid:nvr", 2, "10.0.0.1"), 2},
		"an address that any host may have too": {of("S", "urn:uuid:nvr", 1, "10.0.0.1", "169.254.1.1"), of("S", "urn:uuid:nvr", 2, "10.0.0.1", "169.254.1.1"), 2},
	} {
		got := Merge(append(x.one, x.other...))
		require.Len(t, got, x.devices, name)
		assert.Equal(t, x.devices > 1, len(got[0].Clashing) > 0, name)
	}
}

func TestMergeWithoutMACJoinsByEndpointThenSerial(t *testing.T) {
	unknown := Sighting{At: t0, Address: at("10.0.0.1"), Endpoint: "urn:uuid:a", Facts: Facts{Firmware: "2"}}
	bySerial := Sighting{At: t0, Address: at("10.0.0.9"), Facts: Facts{Serial: "S", Make: "verrine", Name: "Quay"}}
	got := Merge([]Sighting{unknown, bySerial, seen(1, "10.0.0.1", "urn:uuid:a", Facts{Serial: "S", Make: "Verrine"})})
	require.Len(t, got, 1)
	assert.Equal(t, mac(1), got[0].MAC)
	assert.Equal(t, "2", got[0].Firmware)
	assert.Equal(t, "Quay", got[0].Name)
}

func TestMergeDoesNotDependOnOrder(t *testing.T) {
	var s []Sighting
	for i := range 60 {
		one := seen(i%20, fmt.Sprintf("10.0.0.%d", i%7), fmt.Sprintf("urn:uuid:%d", i%20), Facts{Serial: fmt.Sprint(i % 20), Make: "Verrine"})
		one.At = t0.Add(time.Duration(i) * time.Second)
		one.Facts.Firmware = fmt.Sprint("fw", i)
		s = append(s, one)
	}
	want := Merge(s)
	require.Len(t, want, 20)
	chance := rand.New(rand.NewPCG(1, 1))
	for range 30 {
		chance.Shuffle(len(s), func(i, j int) { s[i], s[j] = s[j], s[i] })
		require.Equal(t, want, Merge(s))
	}
}

func TestConditionOf(t *testing.T) {
	site := netip.MustParsePrefix("10.61.8.0/23")
	in := func(address string, s *Settings) Device {
		d := Device{Facts: Facts{Settings: s}}
		if address != "" {
			d.Addresses = []netip.Addr{at(address)}
		}
		return d
	}
	static := func(address string) *Settings { return &Settings{Address: at(address), Prefix: 23} }
	settled := in("10.61.8.42", static("10.61.8.42"))
	settled.Allotted = static("10.61.8.42")
	clash := in("10.61.8.42", nil)
	clash.Clashing = []MAC{mac(1)}
	narrow := settled
	narrow.Settings = &Settings{Address: at("10.61.8.42"), Prefix: 24}
	for _, c := range []struct {
		name string
		d    Device
		site netip.Prefix
		want Condition
	}{
		{"bare", in("", nil), site, Bare},
		{"clash", clash, site, Clash},
		{"adrift", in("169.254.7.7", nil), site, Adrift},
		{"stray", in("192.168.77.20", nil), site, Stray},
		{"unknown", in("10.61.8.42", nil), site, ""},
		{"leased", in("10.61.8.42", &Settings{Address: at("10.61.8.42"), DHCP: true}), site, Leased},
		{"settled", settled, site, Settled},
		{"wrong mask is not settled", narrow, site, Static},
		{"static", in("10.61.8.42", static("10.61.8.42")), site, Static},
		{"nothing known of the site", in("10.61.8.42", static("10.61.8.42")), netip.Prefix{}, ""},
	} {
		assert.Equal(t, c.want, ConditionOf(&c.d, c.site), c.name)
	}
}

func TestReconcile(t *testing.T) {
	known := []Device{
		{ID: 1, Tag: "C01", InJob: Taken, MAC: mac(1), Addresses: []netip.Addr{at("10.0.0.1")}, SeenAt: t0, Facts: Facts{Access: Keyed, Firmware: "1", Serial: "A"}},
		{ID: 2, MAC: mac(2), Addresses: []netip.Addr{at("10.0.0.2")}, SeenAt: t0},
		{ID: 3, MAC: mac(3), SeenAt: t0.Add(-time.Hour)}, // gone before the last survey
		{ID: 4, MAC: mac(4), SeenAt: t0.Add(-time.Hour), Addresses: []netip.Addr{at("10.0.0.4")}},
	}
	later := t0.Add(time.Minute)
	found := []Device{
		{MAC: mac(1), Addresses: []netip.Addr{at("10.0.0.9")}, SeenAt: later, Facts: Facts{Access: Sealed, Firmware: "2"}},
		{MAC: mac(4), Addresses: []netip.Addr{at("10.0.0.4")}, SeenAt: later},
		{MAC: mac(5), SeenAt: later, Facts: Facts{Kind: Camera}},
	}
	all, changes := Reconcile(known, found, t0)
	require.Len(t, all, 5)
	first := all[0]
	assert.Equal(t, "C01", first.Tag)
	assert.Equal(t, Taken, first.InJob)
	assert.Equal(t, Keyed, first.Access, "discovery cannot tell keyed from sealed")
	assert.Equal(t, "A", first.Serial, "what was not said stays")
	assert.Equal(t, at("10.0.0.9"), first.Address())
	var text []string
	for _, c := range changes {
		text = append(text, c.MAC.String()[12:]+" "+c.What+" "+c.Text)
	}
	assert.Equal(t, []string{
		"00:01 changed address 10.0.0.1 → 10.0.0.9", "00:01 changed firmware 1 → 2",
		"00:04 back  at 10.0.0.4", "00:05 new camera at no address", "00:02 gone last at 10.0.0.2",
	}, text)
	assert.Equal(t, mac(3), all[2].MAC)
}

func TestReconcileDropsSettingsThatNoLongerHold(t *testing.T) {
	known := []Device{{MAC: mac(1), Addresses: []netip.Addr{at("10.0.0.1")}, Facts: Facts{Settings: &Settings{Address: at("10.0.0.1"), Prefix: 24}}}}
	all, _ := Reconcile(known, []Device{{MAC: mac(1), Addresses: []netip.Addr{at("10.0.0.1")}}}, t0)
	assert.NotNil(t, all[0].Settings)
	all, _ = Reconcile(known, []Device{{MAC: mac(1), Addresses: []netip.Addr{at("10.0.0.2")}}}, t0)
	assert.Nil(t, all[0].Settings)
}

func TestMAC(t *testing.T) {
	m, err := ParseMAC("02-E4-42-00-01-0A")
	require.NoError(t, err)
	assert.Equal(t, "02:e4:42:00:01:0a", m.String())
	assert.False(t, m.IsGroup())
	assert.True(t, Broadcast.IsGroup())
	for _, bad := range []string{"", "02:e4", "02:e4:42:00:01:0a:00:00", "zz:e4:42:00:01:0a"} {
		_, err := ParseMAC(bad)
		assert.Error(t, err, bad)
	}
	var back MAC
	b, err := m.MarshalText()
	require.NoError(t, err)
	require.NoError(t, back.UnmarshalText(b))
	assert.Equal(t, m, back)
}

// BenchmarkMerge merges 100,000 sightings of 10,000 devices.
func BenchmarkMerge(b *testing.B) {
	s := make([]Sighting, 100_000)
	for i := range s {
		n := i % 10_000
		s[i] = seen(n, fmt.Sprintf("10.%d.%d.%d", n>>16, n>>8&255, n&255), fmt.Sprintf("urn:uuid:%d", n), Facts{Serial: fmt.Sprint(n), Make: "Verrine"})
	}
	b.ReportAllocs()
	for b.Loop() {
		if got := Merge(s); len(got) != 10_000 {
			b.Fatal(len(got))
		}
	}
}

// However many hosts a stranger pretends to be, merging them takes time in proportion,
// and the device among them is told apart.
func TestMergeBearsAFlood(t *testing.T) {
	at, one := time.Now(), netip.MustParseAddr("10.61.8.60")
	var list []Sighting
	for i := range 20_000 {
		mac := MAC{2, 0x66, 0, byte(i >> 16), byte(i >> 8), byte(i)}
		list = append(list, Sighting{At: at, By: "arp", MAC: mac, Address: one})
		list = append(list, Sighting{At: at, By: "arp", MAC: MAC{2, 0x66, 1}, Address: netip.AddrFrom4([4]byte{10, 9, byte(i >> 8), byte(i)})})
	}
	ours := MAC{2, 0xe4, 0x42}
	list = append(list, Sighting{At: at, By: "device service", MAC: ours, Address: one, Facts: Facts{Kind: Camera, Serial: "A1"}})
	found := Merge(list)
	require.Len(t, found, 20_002)
	for _, d := range found {
		assert.LessOrEqual(t, len(d.Addresses), MaxAddresses)
		assert.LessOrEqual(t, len(d.Clashing), maxClashing)
		if d.MAC == ours {
			assert.Equal(t, "A1", d.Serial)
			assert.Len(t, d.Clashing, maxClashing)
		}
	}
}
