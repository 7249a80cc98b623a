package bench

import (
	"crypto/md5" //nolint:gosec // HTTP Digest
	"encoding/hex"
	"fmt"
	"maps"
	"net/http"
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
	noHello        = "no hello"
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
	for _, some := range []map[string]manner{ownManners, httpManners, xmlManners, userManners, linkManners, restManners, recorderManners, outsideManners, secureManners, keystoreManners, backupManners, firmwareManners} {
		maps.Copy(manners, some)
	}
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
