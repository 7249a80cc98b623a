// Package device says what a device is: its kind, access and condition, what was
// seen of it, how sightings become devices, and how devices are chosen by selectors.
//
// It has no I/O and no clock; times come in with the sightings.
package device

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"janustat/core/secret"
	"janustat/core/setting"
)

// Kind is what a device is for.
type Kind string

// The kinds, in the order in which addresses are allotted.
const (
	Recorder Kind = "recorder"
	Panel    Kind = "panel"
	Intercom Kind = "intercom"
	Camera   Kind = "camera"
	Other    Kind = "other" // a bystander: not ours to configure
)

// Kinds lists every kind in allotment order.
var Kinds = []Kind{Recorder, Panel, Intercom, Camera, Other}

// Order gives the kind's place in Kinds; unknown kinds come last.
func (k Kind) Order() int {
	if i := slices.Index(Kinds, k); i >= 0 {
		return i
	}
	return len(Kinds)
}

// Access says whether and how a device can be opened.
type Access string

// The access states.
const (
	Fresh     Access = "fresh"     // no password set yet
	Factory   Access = "factory"   // a known factory password opens it
	Keyed     Access = "keyed"     // a password on the keyring opens it
	Sealed    Access = "sealed"    // protected, and no key fits
	Unread    Access = "unread"    // says that it is a device, and did not answer yet when it was asked what it is
	Mute      Access = "mute"      // looks like a device by its open ports, and answers nothing that can be configured
	Unmanaged Access = "unmanaged" // speaks nothing that can be configured
)

// Dumb reports whether nothing is spoken that could be configured.
func (a Access) Dumb() bool { return a == Unmanaged || a == Mute }

// Over reports whether a says more than b: what was read says more than what only was not.
func (a Access) Over(b Access) bool { return a.said() > b.said() }

func (a Access) said() int {
	switch a {
	case "":
		return 0
	case Unmanaged, Mute:
		return 1
	case Unread:
		return 2
	}
	return 3
}

// Condition is the state of a device's address.
type Condition string

// The conditions. The zero value means that nothing can be said yet.
const (
	Settled Condition = "settled" // static, as allotted
	Static  Condition = "static"  // static, in the site subnet, not allotted by this job
	Leased  Condition = "leased"  // from DHCP
	Stray   Condition = "stray"   // outside the site subnet
	Clash   Condition = "clash"   // more than one MAC answers for the address
	Adrift  Condition = "adrift"  // 169.254/16 or fe80::/10 only
	Bare    Condition = "bare"    // no address at all
)

// Settings are the network settings and the name of a device.
type Settings struct {
	Address netip.Addr `json:"address,omitzero"`
	Prefix  int        `json:"prefix,omitempty"` // bits, 1 to 32; 0 is not known
	Gateway netip.Addr `json:"gateway,omitzero"`
	DHCP    bool       `json:"dhcp"`
	Name    string     `json:"name,omitempty"`
	// The servers it is set to ask, in order; left out where it was not asked.
	DNS []netip.Addr `json:"dns,omitempty"`
	NTP []netip.Addr `json:"ntp,omitempty"`
	// Zone is the time zone, as POSIX writes it (IEEE 1003.1, 8.3); "" is not known.
	Zone string `json:"timezone,omitempty"`
	// Values are those of other settings, by name.
	Values setting.Values `json:"values,omitempty"`
}

// Equal reports whether two settings are the same.
func (s Settings) Equal(o Settings) bool {
	return s.Address == o.Address && s.Prefix == o.Prefix && s.Gateway == o.Gateway && s.DHCP == o.DHCP && s.Name == o.Name && s.Zone == o.Zone && maps.Equal(s.Values, o.Values) &&
		slices.Equal(s.DNS, o.DNS) && slices.Equal(s.NTP, o.NTP)
}

// TLS tells where the device service is met over HTTPS.
type TLS struct {
	Port        uint16 `json:"port"`
	Fingerprint string `json:"fingerprint"` // SHA-256 of its certificate, hexadecimal
	// Weak says what is weak about the encryption, in the standards' words.
	Weak []string `json:"weak,omitempty"`
	// OfSite tells that the site's own authority made that certificate for the device.
	OfSite bool `json:"of_site,omitempty"`
	// Ends is until when it is valid.
	Ends time.Time `json:"ends,omitzero"`
}

// Facts is what one protocol could say about a device. Empty fields were not said.
type Facts struct {
	Kind     Kind          `json:"kind,omitempty"`
	Make     string        `json:"make,omitempty"`
	Model    string        `json:"model,omitempty"`
	Serial   string        `json:"serial,omitempty"`
	Firmware string        `json:"firmware,omitempty"`
	Hardware string        `json:"hardware,omitempty"` // its revision
	Name     string        `json:"name,omitempty"`
	Access   Access        `json:"access,omitempty"`
	Settings *Settings     `json:"settings,omitempty"`
	Rules    *secret.Rules `json:"rules,omitempty"`    // the password rules it publishes
	Service  string        `json:"service,omitempty"`  // path of its device service, after ":port" where that is not 80
	TLS      *TLS          `json:"tls,omitempty"`      // its device service over HTTPS, where it offers that
	NoTLS    bool          `json:"no_tls,omitempty"`   // it was asked over HTTPS, and its port is closed
	MuteTLS  string        `json:"mute_tls,omitempty"` // it offers HTTPS, and why it could not be spoken with
	Writes   *Outlook      `json:"writes,omitempty"`   // what it told of settings that are not in Settings
	Ports    []uint16      `json:"ports,omitempty"`
	Indoor   bool          `json:"indoor,omitempty"`    // an intercom without a door or a picture
	KindSaid bool          `json:"kind_said,omitempty"` // the kind is a person's word
	OtherMAC []MAC         `json:"other_mac,omitempty"`
	Host     string        `json:"host,omitempty"`     // the name it goes by on the LAN
	Offers   []string      `json:"offers,omitempty"`   // services it announces: DNS-SD, SSDP or WS-Discovery types
	Registry string        `json:"registry,omitempty"` // whom IEEE gave the MAC's prefix to
	Asks     *DHCPClient   `json:"asks,omitempty"`     // it asks for an address by DHCP
	Tongues  []Tongue      `json:"tongues,omitempty"`  // by which it can be set up
	// Pins are the fingerprints of keys that it has in tongues without certificates.
	Pins map[Tongue]string `json:"pins,omitempty"`
	// Login is how it was logged in to: LoginDigest, or LoginToken.
	Login  Login   `json:"login,omitempty"`
	Stream *Stream `json:"stream,omitempty"` // its picture, as others watch it
	// Backup is its own backup that was kept last.
	Backup *Backup `json:"backup,omitempty"`
	// Former are the serial numbers of units that had its place before it, the last one at the end.
	Former []string `json:"former,omitempty"`
	// Encodings are what a recorder records, as its standard calls them; none is not known.
	Encodings []string `json:"encodings,omitempty"`
	Room      *Room    `json:"room,omitempty"`  // what a recorder has of channels; nil is not known
	Links     []Link   `json:"links,omitempty"` // what it knows of other devices, and how that fares
}

// Room is what a recorder has of channels, as it told.
type Room struct {
	Channels int `json:"channels"` // that it can have, at least 1
	Used     int `json:"used"`     // that have something on them, whether that is understood or not
}

// Outlook is what a device told before anything was written to it, from which it can be
// said what will be.
type Outlook struct {
	ClockS  float64 `json:"clock_s"`            // its clock minus ours, in seconds
	ByNTP   bool    `json:"by_ntp"`             // its clock follows NTP
	DNS     bool    `json:"dns"`                // it has that setting, and told it
	NTP     bool    `json:"ntp"`                // likewise
	DNSAuto bool    `json:"dns_auto,omitempty"` // DNS servers by DHCP
	NTPAuto bool    `json:"ntp_auto,omitempty"` // NTP servers by DHCP
	Partial bool    `json:"partial,omitempty"`  // it refuses to tell the rest without a password
	// Pictures are its picture sources; none where they were not asked for.
	Pictures []Picture `json:"pictures,omitempty"`
}

// Login is how a device of the standard service is logged in to.
type Login string

// The logins, the stronger one first.
const (
	LoginDigest Login = "digest" // HTTP Digest (RFC 7616)
	LoginToken  Login = "token"  // WS-Security UsernameToken, made by the device's clock
)

// Stream is a picture that others can watch.
type Stream struct {
	// Scheme is that of its URI where that is not rtsp: rtsps (over TLS), or http or https (the
	// conversation of RTSP inside that of HTTP).
	Scheme string `json:"scheme,omitempty"`
	Path   string `json:"path"`            // of its URI (RTSP), with its query; the host is where the device is met
	Port   uint16 `json:"port"`            // likewise
	Codec  string `json:"codec,omitempty"` // as SDP names it (RFC 8866, 6.6)
	Width  int    `json:"width,omitempty"` // in pixels; 0 is not known
	Height int    `json:"height,omitempty"`
	// Others are its streams in other codecs, the best of each.
	Others []Stream `json:"others,omitempty"`
}

// For gives the stream for a recorder that takes some encodings, as its standard calls them
// (RecordingCapabilities, Encoding: H264, H265, MPEG4, JPEG); none means that it does not say.
// Where it takes none of them, the best has to do.
func (s Stream) For(encodings []string) Stream {
	for _, x := range append([]Stream{s}, s.Others...) {
		codec := x.Codec
		if strings.EqualFold(codec, "MP4V-ES") { // RFC 6416, 5.1
			codec = "MPEG4"
		}
		if slices.ContainsFunc(encodings, func(e string) bool { return strings.EqualFold(e, codec) }) {
			x.Others = s.Others
			return x
		}
	}
	return s
}

// Size tells width and height, "" where they are not known.
func (s *Stream) Size() string {
	if s.Width == 0 {
		return ""
	}
	return fmt.Sprintf("%d×%d", s.Width, s.Height)
}

// Link is what a device knows of another, and how that fares.
type Link struct {
	Kind   string `json:"kind"` // channel, pair or report
	Peer   string `json:"peer"` // tag of the other device, or address of a server
	Number int    `json:"number,omitempty"`
	State  string `json:"state"`
	Why    string `json:"why,omitempty"`
	// Shown is how a recorder shows the source of a channel that was set, where it shows it
	// otherwise than it was told.
	Shown *Shown `json:"shown,omitempty"`
	// Keeps is how long a recorder keeps the pictures of a channel, in the form of XML Schema's
	// durations (P30D; PT0S is as long as there is room); empty where it does not tell.
	Keeps string `json:"keeps,omitempty"`
}

// Shown is how a recorder shows the source of a channel.
type Shown struct {
	Source string `json:"source"`
	Name   string `json:"name"`
	For    string `json:"for"` // the name that it was told
}

// Picture is one picture source of a device, and what it shows.
type Picture struct {
	Name  string `json:"name,omitempty"`  // of the source
	Text  string `json:"text,omitempty"`  // on the screen
	Named bool   `json:"named,omitempty"` // the source can be named
	Shows bool   `json:"shows,omitempty"` // text can be shown
}

// DHCPClient is what a device says of itself when it asks for an address by DHCP
// (RFC 2132, sections 9.13, 9.14 and 3.14).
type DHCPClient struct {
	VendorClass string     `json:"vendor_class,omitempty"`
	ClientID    string     `json:"client_id,omitempty"` // hexadecimal
	Host        string     `json:"host,omitempty"`
	Wants       netip.Addr `json:"wants,omitzero"` // the address it asked for by name, if any
}

// Sighting is one observation of a device on the wire, by one protocol, at one moment.
type Sighting struct {
	At       time.Time
	By       string // arp, nd, wsd, mdns, ssdp, dhcp, icmp, tcp, dns, device service
	MAC      MAC    // sender of the frame
	Address  netip.Addr
	Endpoint string // WS-Discovery endpoint reference (WS-Addressing), often urn:uuid:…
	Facts    Facts
}

// Device is one physical thing with a network port.
type Device struct {
	ID       int64
	Version  int64 // of what is kept of it, as it was read: 1 for a device that has just begun
	Tag      string
	InJob    Choice
	MAC      MAC
	Endpoint string
	Facts
	Addresses []netip.Addr // all it answers for, lowest first
	Condition Condition
	Clashing  []MAC // the other MACs that answer for its address
	FirstSeen time.Time
	SeenAt    time.Time
	NotOurs   bool      // on a subnet that the job sheet says is another's; never stored
	SetUpBy   string    // why it is somebody's, who set it up outside this job; "" where nothing says so; never stored
	Allotted  *Settings // what this job gives it, once allotted; DHCP means by a reservation
	Why       string    // the reason for the allotted address, in words
	Asked     bool      // that was asked for, in place of one that the device had by right
	AsFound   *Settings // before the job touched it
	AsLeft    *Settings // after
	Proved    time.Time // when every check last held, if nothing was written since; else zero
	OpenedAt  time.Time // when a password of the job last opened it; zero if never
	ResetAt   time.Time // when it was put back into its factory state, if not restored since; else zero
	ChangedAt time.Time // when what a record tells of it last changed
	Alarm     string    // why nothing of the keyring is offered to it, though it was opened before
}

// Choice is whether a device belongs to the job.
type Choice string

// The choices. Undecided devices are treated as not in the job.
const (
	Undecided Choice = ""
	Taken     Choice = "taken"
	Left      Choice = "left"
)

// Address is the address the device is met at: what it says of itself where
// that is one of those it answers for, else the lowest it answers for.
func (d *Device) Address() netip.Addr {
	if s := d.Settings; s != nil && slices.Contains(d.Addresses, s.Address) {
		return s.Address
	}
	if len(d.Addresses) > 0 {
		return d.Addresses[0]
	}
	return netip.Addr{}
}

// ByHand reports whether the device can only be set up by a person: it speaks
// nothing that can be configured, and has no address that was leased to it.
func (d *Device) ByHand() bool {
	return d.Access.Dumb() && d.Condition != Bare && (d.Allotted == nil || !d.Allotted.DHCP)
}

// Ports that tell a device: where a device service may be, and where video (RTSP, RFC 7826) or calls
// (SIP, RFC 3261) come from beside it.
var (
	servicePorts = []uint16{80, 443}
	mediaPorts   = []uint16{554, 5060}
)

// LooksLike reports whether ports that are open make a host look like a device, whatever it answers.
func LooksLike(open func(port uint16) bool) bool {
	return slices.ContainsFunc(servicePorts, open) && slices.ContainsFunc(mediaPorts, open)
}

// Configurable reports whether the device speaks something that can be configured and is open to it.
func (d *Device) Configurable() bool {
	return d.Access == Fresh || d.Access == Factory || d.Access == Keyed
}

// Label names the device for a person: its tag, else its serial, else its MAC.
func (d *Device) Label() string {
	switch {
	case d.Tag != "":
		return d.Tag
	case d.Serial != "":
		return d.Serial
	default:
		return d.MAC.String()
	}
}

// Wording says in a few words what an unmanaged device may be, by what it
// announced of itself: its host name, or what its DHCP client says.
func (d *Device) Wording() string {
	switch {
	case d.Model != "":
		return d.Model
	case d.Host != "":
		return d.Host
	case d.Asks != nil && d.Asks.VendorClass != "":
		return d.Asks.VendorClass
	}
	return ""
}

// TagLetter is the letter a tag of this device begins with.
func (d *Device) TagLetter() string {
	switch d.Kind {
	case Recorder:
		return "R"
	case Panel:
		return "P"
	case Camera:
		return "C"
	case Intercom:
		if d.Indoor {
			return "I"
		}
		return "D"
	default:
		return "X"
	}
}
