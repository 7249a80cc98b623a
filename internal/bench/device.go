package bench

import (
	"cmp"
	"context"
	"crypto/sha1" //nolint:gosec // RFC 4122 name-based UUIDs demand SHA-1
	"crypto/tls"
	"fmt"
	"maps"
	mrand "math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// Device is a simulated camera, recorder, station or panel.
type Device struct {
	unit Unit
	host *host
	logs *Log
	ctx  context.Context // the site's life

	mu        sync.Mutex
	state     state
	guard     guard
	boots     int
	asked     int                 // requests so far
	served    int                 // requests to its service so far
	powered   time.Time           // when it last started
	woken     time.Time           // when it was first asked since
	kept      bool                // came up with a lease, and keeps it
	visits    map[string]string   // who is signed in at its pages, by cookie
	cert      *tls.Certificate    // it shows, where it has HTTPS
	tunnels   map[string]net.Conn // of viewers inside HTTP, by session
	flashFrom time.Time           // from when on it takes firmware; zero while it does not
	halved    atomic.Bool         // it has lost power over that, once
	swallowed bool                // an answer, once
	held      chan struct{}       // its service comes up once this is closed; nil is at once
	had       []string            // every password that was ever set
	winks     []string            // what it was told to show itself by
	paired    chan struct{}       // a station was told of another
	blinded   bool                // it has no stream now
	viewers   []net.Conn          // that watch it
	plays     net.Listener        // where they come to
	// What it serves over HTTP and HTTPS, once it is up; paging guards the two that serve it.
	pages, plainPages http.Handler
	paging            sync.Mutex
	plainly, securely *http.Server
	opened            serving       // as these were opened
	plainPort         atomic.Uint32 // likewise, other than the usual ones
	securePort        atomic.Uint32
	secureOnly        atomic.Bool // as its addresses are told, also while it is locked
	// registered is until when other stations are, by their serials; homeless ends what
	// was connected to a server that it is not to report to any more.
	registered map[string]time.Time
	homeless   chan struct{}
	poses      Pose        // of a stranger in its place
	usurped    *usurped    // what it was before that
	chance     *mrand.Rand // of faults
	faults     Faults
	restart    chan struct{} // asks for the stack to be brought up again
}

// state is what survives a restart.
type state struct {
	address  netip.Prefix
	gateway  netip.Addr
	dhcp     bool
	next     *netip.Prefix // takes effect at the next restart
	users    map[string]account
	offset   time.Duration // clock minus the true time
	scopes   []string      // configurable ones
	dns      []netip.Addr
	ntp      []netip.Addr
	byNTP    bool   // the clock follows NTP
	firmware string // its version; "" is the one that it was delivered with
	zone     string
	summer   bool   // daylight saving
	source   string // what its picture source is called
	osds     []osd  // on its screen
	rtsp     uint16 // the port that it plays at; 0 is the usual one
	serving  serving
	keystore keystore

	outward  outward
	recorder recorder // channels of a recorder
	hail     speaks
}

// UsualZone is the time zone that devices come with here, and that nobody is to change
// in passing.
const UsualZone = "CET-1CEST,M3.5.0,M10.5.0/3"

type account struct{ password, level string }

const scopeRoot = "onvif://www.onvif.org/"

// newDevice makes a device as delivered, or as someone left it.
func newDevice(ctx context.Context, sw *Switch, u Unit, logs *Log) *Device {
	d := &Device{
		unit: u, host: newHost(sw, u.ID, u.mac), logs: logs, ctx: ctx,
		guard:   guard{nonces: map[string]bool{}, issued: map[string]bool{}},
		restart: make(chan struct{}, 8), paired: make(chan struct{}, 1), visits: map[string]string{},
	}
	d.host.ipv6, d.host.closes = u.IPv6, slices.Contains(u.Manners, closesIdle)
	d.host.limits = limits{keepsOpen: !d.is(saysClose), idle: d.idle(), one: d.is(oneConnection), oldHTTP: d.is(oldHTTP), resets: d.is(resetsAfter)}
	d.host.closes = d.host.closes || d.is(resetsAfter)
	d.host.change(func() { d.host.heeds, d.host.deaf = u.model.Channels > 0, d.is(deafToGroups) }) // it is plugged in
	d.host.send, d.host.quiet = d.sends(d.host.port.Send), d.is(announcesNothing)
	d.host.vendor = strings.ToLower(u.model.Make) + " " + u.model.Firmware
	name := u.Name
	if name == "" {
		name = strings.ReplaceAll(u.model.Name, " ", "")
	}
	d.state = state{
		address: u.prefix, gateway: u.gateway, dhcp: u.DHCP, users: map[string]account{}, offset: u.Clock,
		scopes: []string{scopeRoot + "name/" + strings.ReplaceAll(name, " ", "%20"), scopeRoot + "location/"}, zone: cmp.Or(u.Zone, UsualZone), summer: true, source: "VideoSource_1", osds: osdsOf(&u.model), recorder: recorderOf(&u.model),
	}
	d.state.recorder.lay(&u)
	d.state.outward = d.outwardOf()
	d.serve(servingOf(u.model))
	if d.is(followsNTP) {
		d.state.byNTP, d.state.ntp = true, []netip.Addr{netip.MustParseAddr("10.61.8.9")}
	}
	if u.Password != "" {
		d.state.users["admin"] = account{u.Password, "Administrator"}
		d.had = append(d.had, u.Password)
	}
	if u.Guest != "" {
		d.state.users[u.Guest] = account{"left by someone", "User"}
	}
	if u.Locked {
		d.guard.locked = time.Now().Add(cmp.Or(u.Lock, lockFor))
	}
	d.cert = builtIn(u)
	return d
}

// Passwords gives every password that was ever set on the device.
func (d *Device) Passwords() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.Clone(d.had)
}

// Zone gives the time zone that the device is set to, and whether daylight saving is on.
func (d *Device) Zone() (zone string, summer bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.state.zone, d.state.summer
}

// Look gives where the device is, whether it has DHCP on, and the names of its users.
func (d *Device) Look() (at netip.Prefix, dhcp bool, users []string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.state.address, d.state.dhcp, slices.Sorted(maps.Keys(d.state.users))
}

// is reports whether a device has a manner.
func (d *Device) is(manner string) bool { return slices.Contains(d.unit.Manners, manner) }

// roll reports whether a fault of a share happens now. The lock is held.
func (d *Device) roll(share float64) bool { return share > 0 && d.chance.Float64() < share }

// Unplug takes the device off the LAN, as when its cable is pulled.
func (d *Device) Unplug() { d.host.down() }

// Plug starts a device that was unplugged.
func (d *Device) Plug() {
	select {
	case d.restart <- struct{}{}:
	case <-d.ctx.Done():
	}
}

// Restart restarts the device, as when its power fails for a moment.
func (d *Device) Restart() { d.again(d.unit.Restart, false) }

// Reset puts the device back into the state it was delivered in, as its reset
// button does, and restarts it.
func (d *Device) Reset() {
	d.mu.Lock()
	if p, err := netip.ParsePrefix(d.unit.model.Factory); err == nil {
		d.state.address = p
	}
	d.state.gateway, d.state.dhcp, d.state.next = netip.Addr{}, false, nil
	d.state.users, d.state.outward = map[string]account{}, d.outwardOf()
	d.state.source, d.state.osds = "VideoSource_1", osdsOf(&d.unit.model)
	d.state.recorder, d.state.hail = recorderOf(&d.unit.model), speaks{}
	d.state.scopes = []string{scopeRoot + "name/" + strings.ReplaceAll(d.unit.model.Name, " ", ""), scopeRoot + "location/"}
	d.state.dns, d.state.ntp, d.state.byNTP, d.state.rtsp = nil, nil, false, 0
	d.state.keystore = keystore{}
	d.serve(servingOf(d.unit.model))
	d.guard.wrong, d.guard.locked = 0, time.Time{}
	d.cert = selfSigned(d.unit)
	d.mu.Unlock()
	d.again(d.unit.Restart, false)
}

// Type is a person at the device's own screen: it gets an address, and starts anew.
func (d *Device) Type(address netip.Prefix, gateway netip.Addr) {
	d.mu.Lock()
	d.state.next, d.state.gateway = &address, gateway
	d.mu.Unlock()
	d.again(moveTime, false)
}

// again restarts the device after a moment, so that an answer can still leave,
// or at once, so that it is lost.
func (d *Device) again(down time.Duration, loseAnswer bool) {
	act := func() {
		if !loseAnswer && !sleep(d.ctx, 150*time.Millisecond) {
			return
		}
		d.host.down()
		if !sleep(d.ctx, down) {
			return
		}
		select {
		case d.restart <- struct{}{}:
		case <-d.ctx.Done():
		}
	}
	if loseAnswer {
		d.host.down() // at once, so that the answer about to be written goes nowhere
	}
	go act()
}

// clock is the device's own idea of the time. The lock is held.
func (d *Device) clock() time.Time { return time.Now().Add(d.state.offset) }

// fresh reports whether there is no administrator yet. The lock is held.
func (d *Device) fresh() bool {
	for _, a := range d.state.users {
		if a.level == "Administrator" {
			return false
		}
	}
	return true
}

func (d *Device) log(r *http.Request, what, op string, ok bool) {
	d.logs.add(Event{Host: d.unit.ID, From: r.RemoteAddr, What: what, Op: op, OK: ok})
}

// endpoint is the device's endpoint reference: a name-based UUID of its MAC
// (RFC 4122, 4.3), since it must stay the same over restarts.
func (d *Device) endpoint() string {
	of := d.unit.mac.String()
	if d.poses.Endpoint {
		of += " of a stranger"
	}
	h := sha1.Sum([]byte(of)) //nolint:gosec // as above
	h[6], h[8] = h[6]&0x0f|0x50, h[8]&0x3f|0x80
	return fmt.Sprintf("urn:uuid:%x-%x-%x-%x-%x", h[0:4], h[4:6], h[6:8], h[8:10], h[10:16])
}

// Meddle is someone else at the device's pages: a further user appears, and a new
// certificate.
func (d *Device) Meddle(user string) {
	d.mu.Lock()
	d.state.users[user] = account{"left by someone", "Operator"}
	d.cert = selfSigned(d.unit)
	d.mu.Unlock()
	d.again(d.unit.Restart, true)
}
