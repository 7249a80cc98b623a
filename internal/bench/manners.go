package bench

import (
	"crypto/md5" //nolint:gosec // HTTP Digest
	"encoding/hex"
	"fmt"
	"maps"
	"net/http"
	"net/netip"
	"regexp"
	"strings"
	"time"

	"github.com/icholy/digest"
)

// manner is a way of a device's own, beside its model's, that the standards allow or
// that practice knows.
type manner struct {
	stands string // which of these it stands for
	// refuse may refuse an operation before it is carried out. The lock is held.
	refuse func(d *Device, op string, req *element) *fault
	// shape may change an answer.
	shape func(d *Device, op string, answer *node)
	// blame may change a fault.
	blame func(f *fault) (*fault, *node)
	// octets may change an answer as it is written, and head what HTTP says of it.
	octets func(out []byte) []byte
	head   func(h http.Header)
	// login may change a challenge of HTTP Digest, without its scheme.
	login func(challenge string) []string
	// match may change an answer to discovery.
	match func(t *targetService, answer *node)
	// frames gives what is sent in the place of a frame.
	frames func(frame []byte) [][]byte
	// boot changes what the device is, when it starts again.
	boot func(d *Device)
	// As a trait of drawn devices: how often, which group, what else it takes, and what it
	// brings along.
	weight int
	group  string
	needs  func(Model) bool
	brings func(*Model, *Unit)
	excuse string
}

// The manners that others look for by name.
const (
	gatewayFirst   = "gateway first"
	gatewayInside  = "gateway inside"
	forgetsGateway = "forgets gateway"
	silentRestart  = "silent restart"
	lateRestart    = "late restart"
	lateService    = "late service"
	hidesUsers     = "hides users"
	listsUsers     = "lists users"
	oldFaults      = "old faults"
	securityFaults = "security faults"
	forbids        = "forbids"
	secretClock    = "secret clock"
	sessionDigest  = "session digest"
	junk           = "junk"
	deadAddress    = "dead address"
	noDiscovery    = "no discovery"
	leadsToHTTPS   = "leads to https"
	untyped        = "untyped"
	blind          = "blind"
	muteJobs       = "mute jobs"
	noStill        = "no still"
	frozenStill    = "frozen still"
	blackStill     = "black still"
)

// How late the late ones are.
const (
	restartLate = 18 * time.Second
	serviceLate = 10 * time.Second
	busyEvery   = 6 // requests, of which one is turned away
)

var prohibited = &fault{code: "Sender", sub: "OperationProhibited", reason: "Operation prohibited"}

var notThere = &fault{code: "Receiver", sub: "ActionNotSupported", reason: "Optional action not implemented"}

// What devices keep of a password, and what they answer when one is set.
const (
	cuts8     = "cuts 8"
	cuts12    = "cuts 12"
	swallows  = "swallows"
	saysOK    = "says ok"
	saysBlank = "says nothing"
	saysCut   = "says half"
	saysGo    = "says elsewhere"
	saysMuch  = "says anything"
	lateKeys  = "late passwords"
	lateUsers = "late users"

	ntpClosed    = "ntp closed"
	noGateway    = "no gateway"
	emptyAnswers = "empty answers"
	closesIdle   = "closes idle"
	leadsToPath  = "leads to a path"
	leadsToPort  = "leads to a port"
	leadsAway    = "leads away"
	keepsFactory = "keeps factory"
	deafToKeys   = "keeps factory in silence"

	mumblesAlways = "so with every write"

	nonceOnce  = "nonce once"
	nonceStale = "nonce stale"
)

// settleLate is how long after it was confirmed a password opens a device that is late with it.
const settleLate = 4 * time.Second

// keeps is what a device keeps of a password that it is given. The lock is held.
func (d *Device) keeps(password string) string {
	for name, n := range map[string]int{cuts8: 8, cuts12: 12} {
		if d.is(name) && len(password) > n {
			return password[:n]
		}
	}
	return password
}

// manners are all there are, by name.
var manners = map[string]manner{}

func init() {
	for _, some := range []map[string]manner{ownManners, httpManners, xmlManners, userManners, linkManners, restManners, recorderManners} {
		maps.Copy(manners, some)
	}
}

// ownManners are those that other files look for by name, and the like of them.
var ownManners = map[string]manner{
	gatewayFirst: {
		stands: "practice: an address is taken only with its gateway in place",
		refuse: func(d *Device, op string, req *element) *fault {
			to, err := netip.ParsePrefix(req.find("NetworkInterface", "IPv4", "Manual", "Address").value() + "/" + req.find("NetworkInterface", "IPv4", "Manual", "PrefixLength").value())
			if op == "SetNetworkInterfaces" && (err != nil || !to.Contains(d.state.gateway)) {
				return invalid("InvalidIPv4Address", "The gateway is not in this subnet")
			}
			return nil
		},
	},
	gatewayInside: {
		stands: "practice: a gateway is taken only in the subnet the device is in now",
		refuse: func(d *Device, op string, req *element) *fault {
			a, err := netip.ParseAddr(req.find("IPv4Address").value())
			if op == "SetNetworkDefaultGateway" && (err != nil || !d.state.address.Contains(a)) {
				return invalid("InvalidGatewayAddress", "The gateway is not in the subnet")
			}
			return nil
		},
	},
	cuts8:         {stands: "seen: a password is kept up to its 8th character, and nothing is said"},
	cuts12:        {stands: "seen: likewise, up to the 12th"},
	swallows:      {stands: "seen: a user is created, and the connection closed without an answer, once"},
	saysOK:        {stands: "seen: CreateUsers is carried out and answered by 200 and the text OK"},
	saysBlank:     {stands: "RFC 9110, 15.3.5: CreateUsers is carried out and answered by 204"},
	saysCut:       {stands: "seen: the answer to CreateUsers ends in the middle of its envelope"},
	saysGo:        {stands: "RFC 9110, 15.4.3: CreateUsers is carried out, and leads to a page"},
	saysMuch:      {stands: "seen: something that is no device answers every request with one and the same envelope, and does nothing"},
	mumblesAlways: {stands: "seen: what it answers to a password that is set, it answers to every write"},
	lateKeys:      {stands: "seen: a password is confirmed, and opens the device seconds later"},
	lateUsers:     {stands: "seen: a user is confirmed, and is there seconds later"},
	keepsFactory: {
		stands: "seen: the password from the factory cannot be changed over the LAN",
		refuse: func(_ *Device, op string, _ *element) *fault {
			if op == "SetUser" {
				return &fault{code: "Receiver", sub: "ActionNotSupported", reason: "Optional action not implemented"}
			}
			return nil
		},
	},
	closesIdle: {stands: "practice: keep-alive is said, and the connection closed after each answer"},
	ntpClosed: {
		stands: "seen: the NTP servers are refused to administrators too",
		refuse: func(_ *Device, op string, _ *element) *fault {
			if op == "GetNTP" || op == "SetNTP" {
				return &fault{code: "Sender", sub: "NotAuthorized", reason: "The action requires authorization", auth: true}
			}
			return nil
		},
	},
	noGateway: {
		stands: "seen: the default gateway is not offered",
		refuse: func(_ *Device, op string, _ *element) *fault {
			if op == "GetNetworkDefaultGateway" || op == "SetNetworkDefaultGateway" {
				return &fault{code: "Receiver", sub: "ActionNotSupported", reason: "Optional action not implemented"}
			}
			return nil
		},
	},
	emptyAnswers: {
		stands: "seen: what it does not have is answered by 200 and nothing",
		refuse: func(_ *Device, op string, _ *element) *fault {
			if op == "GetDNS" || op == "GetNetworkProtocols" || op == "GetScopes" {
				return notThere
			}
			return nil
		},
	},
	leadsToPath:    {stands: "RFC 9110, 15.4.8: the service is at another path, given relatively"},
	leadsToPort:    {stands: "RFC 9110, 15.4.9: the service is at another port"},
	leadsAway:      {stands: "seen: a device leads to its maker's pages"},
	deafToKeys:     {stands: "seen: a change of the password from the factory is confirmed, and not carried out"},
	nonceOnce:      {stands: "practice: a nonce is good for one request, and nothing is said of that"},
	nonceStale:     {stands: "RFC 7616, 3.3: a nonce is good for one request, and stale is said of the next"},
	muteJobs:       {stands: "Recording Control Service Specification, RecordingJobStateTrack: Error is optional"},
	noStill:        {stands: "Media Service Specification, 5.13: GetSnapshotUri is not offered"},
	frozenStill:    {stands: "practice: a picture that hangs"},
	blackStill:     {stands: "practice: a cap left on the lens"},
	blind:          {stands: "practice: a camera that answers and has no stream"},
	forgetsGateway: {stands: "practice: an address of its own clears the gateway"},
	"servers static": {
		stands: "practice: DNS and NTP servers are taken only with DHCP off",
		refuse: func(d *Device, op string, _ *element) *fault {
			if (op == "SetDNS" || op == "SetNTP") && d.state.dhcp {
				return invalid("SettingConflict", "DHCP is on")
			}
			return nil
		},
	},
	"lease first off": {
		stands: "practice: DHCP is switched off before another address is taken",
		refuse: func(d *Device, op string, req *element) *fault {
			if op == "SetNetworkInterfaces" && d.state.dhcp && req.find("NetworkInterface", "IPv4", "Manual", "Address").value() != d.state.address.Addr().String() {
				return invalid("SettingConflict", "DHCP is on")
			}
			return nil
		},
	},
	silentRestart: {stands: "practice: a restart is wanted for an address, and RebootNeeded is false"},
	lateRestart:   {stands: "practice: SystemReboot is acted on after a while"},
	lateService:   {stands: "practice: ARP is answered long before the device service"},
	hidesUsers:    {stands: "Core Specification, access classes: GetUsers wants a password, whether there is a user or not"},
	listsUsers:    {stands: "practice: GetUsers is open to everyone"},
	oldFaults:     {stands: "SOAP 1.1, 4.4: faultcode and faultstring"},
	securityFaults: {
		stands: "SOAP Message Security 1.0, 12: the faults of WS-Security",
	},
	forbids: {stands: "RFC 9110, 15.5.4: 403, and no message"},
	"busy": {
		stands: "RFC 9110, 15.6.4: 503 with Retry-After",
		refuse: func(d *Device, _ string, _ *element) *fault {
			if d.asked++; d.asked%busyEvery == 0 {
				return &fault{code: "Receiver", sub: "Action", reason: "Busy", status: http.StatusServiceUnavailable, retry: time.Second}
			}
			return nil
		},
	},
	"prohibits names": {
		stands: "Core Specification, OperationProhibited: a refusal for good",
		refuse: func(_ *Device, op string, _ *element) *fault {
			if op == "SetScopes" {
				return prohibited
			}
			return nil
		},
	},
	"no clock": {
		stands: "practice: the clock cannot be set",
		refuse: func(_ *Device, op string, _ *element) *fault {
			if op == "SetSystemDateAndTime" {
				return noSuchSetting
			}
			return nil
		},
	},
	secretClock: {stands: "practice: GetSystemDateAndTime wants a password, though it is PRE_AUTH"},
	"no UTC": {
		stands: "Core Specification, tt:SystemDateTime: UTCDateTime is optional",
		shape: func(_ *Device, op string, answer *node) {
			if op == "GetSystemDateAndTime" {
				answer.remove("UTCDateTime")
			}
		},
	},
	sessionDigest: {stands: "RFC 7616, 3.4.2: MD5-sess"},
	"capital users": {
		stands: "practice: names of users in capitals",
		shape: func(_ *Device, op string, answer *node) {
			if op == "GetUsers" {
				answer.each("Username", func(n *node) { n.text = strings.ToUpper(n.text) })
			}
		},
	},
	"masks": {
		stands: "practice: a mask where a prefix length belongs, and leading zeros",
		shape: func(d *Device, op string, answer *node) {
			if op != "GetNetworkInterfaces" {
				return
			}
			answer.each("PrefixLength", func(n *node) {
				n.text = map[int]string{23: "255.255.254.0", 24: "255.255.255.0"}[d.state.address.Bits()]
			})
			answer.each("Address", func(n *node) {
				n.text = regexp.MustCompile(`\b\d{1,2}\b`).ReplaceAllStringFunc(n.text, func(s string) string { return strings.Repeat("0", 3-len(s)) + s })
			})
		},
	},
	junk:         {stands: "practice: octets after the envelope, a NUL and a bare ampersand in it"},
	deadAddress:  {stands: "WS-Discovery 2005/04, 5.3: several XAddrs, the first of which does not answer"},
	noDiscovery:  {stands: "practice: discovery switched off, video and the device service at their usual ports"},
	leadsToHTTPS: {stands: "RFC 9110, 15.4.2: port 80 leads to HTTPS"},
	untyped:      {stands: "WS-Discovery 2005/04, 5.3: Types and Scopes are optional in a match"},
	"two ports": {
		stands: "practice: a recorder with an inner network of its own",
		shape: func(_ *Device, op string, answer *node) {
			if op != "GetNetworkInterfaces" {
				return
			}
			inner := el(devNS, "NetworkInterfaces",
				el(typNS, "Enabled", true),
				el(typNS, "Info", el(typNS, "Name", "poe"), el(typNS, "HwAddress", "02:00:5e:00:00:99"), el(typNS, "MTU", 1500)),
				el(typNS, "IPv4", el(typNS, "Enabled", true), el(typNS, "Config",
					el(typNS, "Manual", el(typNS, "Address", "10.254.0.1"), el(typNS, "PrefixLength", 16)), el(typNS, "DHCP", false)))).with("token", "poe")
			answer.kids = append([]*node{inner}, answer.kids...)
		},
	},
	"two addresses": {
		stands: "Core Specification, tt:IPv4Configuration: several manual addresses on one interface",
		shape: func(d *Device, op string, answer *node) {
			if op == "GetNetworkInterfaces" && !d.state.dhcp {
				answer.each("Config", func(n *node) {
					n.kids = append([]*node{el(typNS, "Manual", el(typNS, "Address", "172.30.30.30"), el(typNS, "PrefixLength", 24))}, n.kids...)
				})
			}
		},
	},
}

// checkManners refuses names that are none.
func checkManners(list []string) error {
	for _, m := range list {
		if _, ok := manners[m]; !ok {
			return fmt.Errorf("no manner %q", m)
		}
	}
	return nil
}

// refuses asks the device's manners whether an operation is refused. The lock is held.
func (d *Device) refuses(op string, req *element) *fault {
	for _, name := range d.unit.Manners {
		if m := manners[name]; m.refuse != nil {
			if f := m.refuse(d, op, req); f != nil {
				return f
			}
		}
	}
	return nil
}

// shape changes an answer as the device's manners have it. The lock is held.
func (d *Device) shape(op string, answer *node) {
	for _, name := range d.unit.Manners {
		if m := manners[name]; m.shape != nil && answer != nil {
			m.shape(d, op, answer)
		}
	}
}

// blames changes a fault as the device's manners have it.
func (d *Device) blames(f *fault) (*fault, *node) {
	for _, name := range d.unit.Manners {
		if m := manners[name]; m.blame != nil {
			return m.blame(f)
		}
	}
	return f, f.node()
}

// octets changes an answer as it is written.
func (d *Device) octets(out []byte) []byte {
	for _, name := range d.unit.Manners {
		if m := manners[name]; m.octets != nil {
			out = m.octets(out)
		}
	}
	return out
}

// heads changes what HTTP says of an answer.
func (d *Device) heads(h http.Header) {
	for _, name := range d.unit.Manners {
		if m := manners[name]; m.head != nil {
			m.head(h)
		}
	}
}

// sends gives how a device sends frames.
func (d *Device) sends(plain func([]byte)) func([]byte) {
	for _, name := range d.unit.Manners {
		if m := manners[name]; m.frames != nil {
			next := plain
			plain = func(frame []byte) {
				for _, f := range m.frames(frame) {
					next(f)
				}
			}
		}
	}
	return plain
}

// old gives a fault as SOAP 1.1 has it.
func (f *fault) old() *node {
	return el(envNS, "Fault", el("", "faultcode", "SOAP-ENV:Client"), el("", "faultstring", f.reason))
}

// each calls f for every element of a name below n.
func (n *node) each(name string, f func(*node)) {
	for _, k := range n.kids {
		if k.name == name {
			f(k)
		}
		k.each(name, f)
	}
}

// remove takes every element of a name out.
func (n *node) remove(name string) {
	kept := n.kids[:0]
	for _, k := range n.kids {
		if k.name != name {
			k.remove(name)
			kept = append(kept, k)
		}
	}
	n.kids = kept
}

// session works out the response to a challenge for MD5-sess (RFC 7616, 3.4.2).
func session(cred *digest.Credentials, realm, method, password string) string {
	sum := func(s string) string {
		h := md5.Sum([]byte(s)) //nolint:gosec // as above
		return hex.EncodeToString(h[:])
	}
	a1 := sum(sum(cred.Username+":"+realm+":"+password) + ":" + cred.Nonce + ":" + cred.Cnonce)
	return sum(fmt.Sprintf("%s:%s:%08x:%s:%s:%s", a1, cred.Nonce, cred.Nc, cred.Cnonce, cred.QOP, sum(method+":"+cred.URI)))
}
