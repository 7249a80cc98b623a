package commission

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"janustat/core/device"
	"janustat/core/evidence"
	"janustat/core/ground"
	"janustat/core/setting"
)

// Found is one reading of a device.
type Found struct {
	Make, Model string
	Serial      string
	MACs        []device.MAC // of its network interfaces
	Firmware    string
	Hardware    string // its revision
	Service     string // where its service was met; "" is not told
	Settings    device.Settings
	Clock       time.Duration // device's clock minus ours
	ClockDoubt  time.Duration // how far off that may be, for the time that reading it took
	ByNTP       bool          // the clock follows NTP
	DNS, NTP    Servers
	Values      setting.Values // of settings that are folders of their own
	Accounts    []Account
	// Certificate is the fingerprint of the certificate it showed, "" without HTTPS.
	Certificate string
	// Vouched tells that it is one that the site's own authority has made for it.
	Vouched bool
	// TLS is where it is spoken with over HTTPS; nil where it is not.
	TLS      *device.TLS
	Pictures []Picture // its picture sources; none where they were not asked for
	Stream   *device.Stream
	// NoStream says why there is none, though others are to watch it.
	NoStream  string
	Recording Recording    // of a recorder whose channels are planned
	Ties      []Tie        // what it knows of other devices
	Login     device.Login // how it was logged in to for this reading
	// Lacks are settings that it says it has not: nothing of them is asked of it, or proved.
	Lacks map[Step]bool
	// Unread are settings that it does not tell, or not so that it can be read: whether it has
	// them is not known. Each is written once at most, and not proved.
	Unread map[Step]bool
	// By is the witness of the reading.
	By evidence.Witness
}

// Proven gives what the reading says, where the device has proved who it is.
func (f Found) Proven() evidence.Proven[device.Facts] {
	p, _ := evidence.Prove(f.By, f.Facts())
	return p
}

// Servers are the servers of one sort that a device is set to ask.
type Servers struct {
	Told      bool // the device has this setting
	FromDHCP  bool
	Addresses []netip.Addr // in the order asked
}

// Identity is what a device tells of itself without a password. Empty fields were not told.
type Identity struct {
	Serial   string
	Endpoint string
}

// wanted reports whether servers are to be set, and can be.
func (s Servers) wanted(want []netip.Addr) bool { return s.Told && len(want) > 0 }

// differ reports whether servers are not those wanted, where any are.
func (s Servers) differ(want []netip.Addr) bool {
	return s.wanted(want) && (s.FromDHCP || !slices.Equal(s.Addresses, want))
}

// String lists the servers, or says where they come from.
func (s Servers) String() string {
	switch {
	case s.FromDHCP:
		return "from DHCP"
	case len(s.Addresses) == 0:
		return "none"
	}
	return ground.List(s.Addresses)
}

// Facts gives what the reading says, in the form that a device keeps.
func (f Found) Facts() device.Facts {
	s := f.Settings
	return device.Facts{
		Make: f.Make, Model: f.Model, Serial: f.Serial, Firmware: f.Firmware, Hardware: f.Hardware, Service: f.Service, Name: s.Name, Settings: &s, Login: f.Login,
		TLS: f.TLS, Stream: f.Stream, Links: f.linkFacts(), Encodings: f.Recording.Encodings, Room: f.Recording.roomFact(),
		Writes: &device.Outlook{
			Pictures: f.pictureFacts(),
			ClockS:   f.Clock.Seconds(), ByNTP: f.ByNTP, DNS: f.DNS.Told, DNSAuto: f.DNS.FromDHCP, NTP: f.NTP.Told, NTPAuto: f.NTP.FromDHCP,
		},
	}
}

func (f Found) linkFacts() (out []device.Link) {
	for _, t := range f.Ties {
		out = append(out, device.Link{Kind: string(t.Link.Step), Peer: t.Link.peerName(), Number: t.Link.Number, State: string(t.State), Why: t.Why, Shown: t.Link.Shown, Keeps: cmp.Or(t.Link.Keeps, t.Keeps)})
	}
	return out
}

// Untold takes down a setting that the device does not tell.
func (f *Found) Untold(s Step) {
	if f.Unread == nil {
		f.Unread = map[Step]bool{}
	}
	f.Unread[s] = true
}
