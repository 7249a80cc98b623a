package device

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/evidence"
)

var (
	morning = time.Date(2026, 11, 25, 9, 0, 0, 0, time.UTC)
	home    = netip.MustParseAddr("10.61.8.42")
)

// proved is a device of the job that is set up and proved.
func proved() Device {
	d := Device{MAC: MAC{2, 1}, Tag: "C01", Endpoint: "urn:uuid:1", SeenAt: morning, Addresses: []netip.Addr{home}}
	d.Facts = Facts{Kind: Camera, Make: "Verrine", Model: "Dome", Serial: "A1", TLS: &TLS{Port: 443, Fingerprint: "aaaa"}}
	left := Settings{Address: home, Prefix: 23}
	read, _ := evidence.Prove(evidence.Of(evidence.ByPath), Facts{Settings: &left})
	d.Apply(Allotment{At: morning, Settings: left, Why: "next free"}, Opened{At: morning}, Commissioned{At: morning, Left: left, Facts: read}, Proving{At: morning, Held: true})
	return d
}

// What was proved is proved until the next write, not longer.
func TestEveryWriteVoidsTheProof(t *testing.T) {
	later := morning.Add(time.Hour)
	for name, c := range map[string]struct {
		event Event
		holds bool
	}{
		"a write":                   {Written{later}, false},
		"another address":           {Allotment{At: later, Settings: Settings{Address: home.Next(), Prefix: 23}}, false},
		"the same address":          {Allotment{At: later, Settings: Settings{Address: home, Prefix: 23}, Why: "allotted earlier"}, true},
		"a reset":                   {Reset{later, true}, false},
		"what may have been one":    {Reset{later, false}, false},
		"an alarm":                  {Alarmed{later, "says that it is fresh"}, false},
		"restoring":                 {Restored{later, Device{MAC: MAC{2, 2}}, false}, false},
		"a proof that does not":     {Proving{At: later}, false},
		"another proof":             {Proving{At: later, Held: true}, true},
		"commissioned, no change":   {Commissioned{At: later, Left: Settings{Address: home, Prefix: 23}}, true},
		"being judged":              {Judged{Site: netip.MustParsePrefix("10.61.8.0/23")}, true},
		"a first reading, too late": {Found{Settings{Address: home}}, true},
	} {
		d := proved()
		d.Apply(c.event)
		assert.Equal(t, c.holds, !d.Proved.IsZero(), name)
	}
}

func TestAReservationStays(t *testing.T) {
	d := proved()
	d.Apply(Reserved{morning})
	require.True(t, d.Allotted.DHCP)
	d.Apply(Allotment{At: morning, Settings: Settings{Address: home, Prefix: 23}})
	assert.True(t, d.Allotted.DHCP)
	d.Apply(Allotment{At: morning, Settings: Settings{Address: home.Next(), Prefix: 23}})
	assert.True(t, d.Allotted.DHCP, "its new address is to be reserved as well")
}

func TestAResetDeviceIsShownAsReset(t *testing.T) {
	d := proved()
	d.Apply(Reset{morning.Add(time.Minute), true}, Judged{Site: netip.MustParsePrefix("10.61.8.0/23")})
	assert.Equal(t, Fresh, d.Access)
	assert.False(t, d.Commissioned())
	assert.Empty(t, d.Condition)
	assert.Equal(t, morning.Add(time.Minute), d.ResetAt)
	d.Apply(Opened{At: morning.Add(time.Hour)})
	assert.Zero(t, d.ResetAt)
}

// A survey takes nobody's word who is not as it was when it was opened.
func TestASurveyRaisesTheAlarm(t *testing.T) {
	secure := &TLS{Port: 443, Fingerprint: "aaaa"}
	for name, c := range map[string]struct {
		found Device
		alarm string
	}{
		"as it was":           {Device{Facts: Facts{Access: Sealed, TLS: secure, Serial: "A1"}}, ""},
		"fresh again":         {Device{Facts: Facts{Access: Fresh, TLS: secure}}, "says that it has no password"},
		"fresh, by HTTP":      {Device{Facts: Facts{Access: Fresh, NoTLS: true}}, "says that it has no password"},
		"another certificate": {Device{Facts: Facts{Access: Sealed, TLS: &TLS{Port: 443, Fingerprint: "bbbb"}}}, "shows another certificate"},
		"one of the site's":   {Device{Facts: Facts{Access: Sealed, TLS: &TLS{Port: 443, Fingerprint: "cccc", OfSite: true}}}, ""},
		"no HTTPS":            {Device{Facts: Facts{Access: Sealed, NoTLS: true}}, "no longer offers HTTPS"},
		"slow HTTPS":          {Device{Facts: Facts{Access: Sealed, MuteTLS: "no answer"}}, ""},
		"another serial":      {Device{Facts: Facts{Access: Sealed, TLS: secure, Serial: "Z9"}}, "another serial number"},
		"another endpoint":    {Device{Endpoint: "urn:uuid:9", Facts: Facts{Access: Sealed, TLS: secure}}, "another endpoint"},
		"heard by ARP alone":  {Device{Facts: Facts{Access: Unmanaged}}, ""},
	} {
		known, f := proved(), c.found
		f.MAC, f.SeenAt = known.MAC, morning.Add(time.Hour)
		all, changes := Reconcile([]Device{known}, []Device{f}, morning)
		d := all[0]
		if c.alarm == "" {
			assert.Empty(t, d.Alarm, name)
			assert.NotZero(t, d.Proved, name)
		} else {
			assert.Contains(t, d.Alarm, c.alarm, name)
			assert.Zero(t, d.Proved, name)
			assert.Equal(t, "alarm", changes[0].What, name)
			assert.Equal(t, "A1", d.Serial, "%s: what is known of the device itself stays", name)
		}
		assert.Equal(t, Keyed, d.Access, name)
		assert.Equal(t, "aaaa", d.TLS.Fingerprint, "%s: the pin stays", name)
		// The device itself is back: its password shows that, and no word of anybody's.
		back := Device{MAC: known.MAC, SeenAt: morning.Add(2 * time.Hour), Facts: Facts{Access: Sealed, TLS: secure, Serial: "A1"}, Endpoint: "urn:uuid:1"}
		all, _ = Reconcile(all, []Device{back}, morning.Add(time.Hour))
		assert.Equal(t, c.alarm == "", all[0].Alarm == "", name)
		all[0].Apply(Opened{At: morning.Add(3 * time.Hour)})
		assert.Empty(t, all[0].Alarm, name)
	}
}

func TestTheKindThatAPersonSaidStays(t *testing.T) {
	d := Device{MAC: MAC{2, 1}, Facts: Facts{Kind: Camera}}
	d.Apply(Named{morning, Recorder})
	all, _ := Reconcile([]Device{d}, []Device{{MAC: d.MAC, Facts: Facts{Kind: Camera, Access: Fresh}}}, morning)
	assert.Equal(t, Recorder, all[0].Kind)
}

// Nothing that a device says is kept as it came.
func TestFactsAreHarmless(t *testing.T) {
	nasty := "C07\x1b[2J\r\nnew row\u202e" + string(make([]byte, 1<<16))
	found := Merge([]Sighting{{At: morning, MAC: MAC{2, 1}, Endpoint: nasty, Facts: Facts{
		Make: nasty, Model: nasty, Serial: nasty, Firmware: nasty, Name: nasty, Host: nasty, Service: nasty, Offers: make([]string, 1000), Ports: make([]uint16, 1000),
		Settings: &Settings{Name: nasty, Zone: nasty}, Asks: &DHCPClient{VendorClass: nasty, Host: nasty},
	}}})
	d := found[0]
	for _, s := range []string{d.Endpoint, d.Make, d.Model, d.Serial, d.Firmware, d.Name, d.Host, d.Service, d.Settings.Name, d.Settings.Zone, d.Asks.VendorClass, d.Asks.Host} {
		assert.LessOrEqual(t, len(s), 300)
		assert.NotRegexp(t, `[\x00-\x1f\x7f\x{202e}]`, s)
		assert.NotEmpty(t, s)
	}
	assert.LessOrEqual(t, len(d.Offers), maxKept)
}

// What is announced of a device that proves itself by a key enters nothing that is kept of
// it: what it told under its key stays, or nothing.
func TestAnnouncementsOfAKeyedDeviceAreNotKept(t *testing.T) {
	pin := map[Tongue]string{"bell": "2." + strings.Repeat("ab", 32)}
	d := Device{MAC: MAC{2, 9}, Tag: "P01", SeenAt: morning, Addresses: []netip.Addr{home}}
	d.Facts = Facts{Make: "Tallow", Firmware: "1.0 announced", Pins: pin}
	read, _ := evidence.Prove(evidence.Of(evidence.ByKey), Facts{Make: "Tallow", Model: "Gate", Serial: "G1"})
	d.Apply(Opened{At: morning, Facts: read, Pins: pin})
	assert.Empty(t, d.Firmware, "it was never told under the key")
	read, _ = evidence.Prove(evidence.Of(evidence.ByKey), Facts{Firmware: "1.0"})
	d.Apply(Opened{At: morning, Facts: read})
	found := Device{MAC: d.MAC, SeenAt: morning.Add(time.Hour), Addresses: []netip.Addr{home}}
	found.Facts = Facts{Access: Sealed, Make: "Thief", Model: "T", Serial: "T1", Firmware: "9.9 forged", Name: "forged", Pins: map[Tongue]string{"bell": pin["bell"] + ".00"}}
	all, _ := Reconcile([]Device{d}, []Device{found}, morning)
	assert.Equal(t, "1.0", all[0].Firmware)
	assert.Equal(t, "Tallow", all[0].Make)
	assert.Equal(t, "G1", all[0].Serial)
	assert.Empty(t, all[0].Alarm, "a salt is no key")
	assert.Equal(t, pin, all[0].Pins)
}

// An alarm is taken back by a password that opens the device, and not by a survey in which
// nobody says anything strange.
func TestAnAlarmStaysUntilTheDeviceIsOpened(t *testing.T) {
	d := proved()
	d.Apply(Alarmed{morning, "says that it has no password, and was opened by one before"})
	all, _ := Reconcile([]Device{d}, []Device{{MAC: d.MAC, SeenAt: morning.Add(time.Hour), Facts: Facts{Access: Sealed, Serial: "A1"}}}, morning)
	assert.NotEmpty(t, all[0].Alarm)
	all[0].Apply(Opened{At: morning.Add(2 * time.Hour)})
	assert.Empty(t, all[0].Alarm)
}

// Two keys that are announced for one MAC are neither's.
func TestTwoKeysForOneMACAreNotChosenFrom(t *testing.T) {
	a, b := strings.Repeat("aa", 32), strings.Repeat("bb", 32)
	say := func(pin string, at time.Duration) Sighting {
		return Sighting{At: morning.Add(at), By: "bell", MAC: MAC{2, 9}, Facts: Facts{Pins: map[Tongue]string{"bell": pin}}}
	}
	for _, order := range [][]Sighting{{say(a, 1), say(b, 2)}, {say(b, 1), say(a, 2)}, {say(a, 1), say(b, 2), say(a, 3)}} {
		assert.Equal(t, TwoKeys, Merge(order)[0].Pins["bell"])
	}
	assert.Equal(t, a, Merge([]Sighting{say(a, 1), say(a, 2)})[0].Pins["bell"])
}

// What was read says more than what only was not, in whatever order they come; what is known
// stands while a device does not answer.
func TestAccessThatWasReadStands(t *testing.T) {
	for _, c := range []struct{ was, found, want Access }{
		{"", Unmanaged, Unmanaged},
		{"", Unread, Unread},
		{Unmanaged, Unread, Unread},
		{Unread, Unmanaged, Unread},
		{Unread, Fresh, Fresh},
		{Fresh, Unread, Fresh},
		{Sealed, Unmanaged, Sealed},
		{Keyed, Unread, Keyed},
		{Sealed, Fresh, Fresh},
	} {
		d := Device{Facts: Facts{Access: c.was}}
		assert.Equal(t, c.want, d.accessBy(Device{Facts: Facts{Access: c.found}}), "%s, and %s found", c.was, c.found)
		merged := Facts{Access: c.was}
		merged.Absorb(Facts{Access: c.found})
		assert.Equal(t, c.want, merged.Access, "%s, then %s", c.was, c.found)
	}
}
