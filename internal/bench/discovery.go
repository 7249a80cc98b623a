package bench

import (
	"bytes"
	"crypto/rand"
	"encoding/xml"
	"fmt"
	mrand "math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv6"
)

// WS-Discovery's constants (2005/04, appendix I).
const (
	wsdPort     = 3702
	appMaxDelay = 500 * time.Millisecond
)

var (
	wsdGroup  = netip.MustParseAddr("239.255.255.250")
	wsdGroup6 = netip.MustParseAddr("ff02::c")
)

// targetService answers WS-Discovery for one host.
type targetService struct {
	host     *host
	logs     *Log
	dialect  string
	endpoint string
	types    func() [][2]string
	scopes   func() []string
	xaddr    func() string
	typed    bool        // ignores probes that name no type of its own
	silent   bool        // matches carry no XAddrs
	mute     bool        // says no Hello
	hidden   func() bool // says nothing at all; nil is never
	untyped  bool        // nor types, nor scopes
	shape    func(answer *node)
	toAll    bool                  // answers questions by multicast
	from     func() net.PacketConn // answers come from; nil is the port that was asked
	lazy     bool                  // answers every third question only
	asked    atomic.Int64
	instance int // grows with each boot
	number   atomic.Int64
	conns    []groupConn
	down     chan struct{} // closed when the host goes down
}

func (d *Device) startDiscovery(hello bool) error {
	t := &targetService{
		host: d.host, logs: d.logs, dialect: d.unit.model.Dialect, endpoint: d.endpoint(),
		types: func() [][2]string { return d.character().types },
		scopes: func() []string {
			d.mu.Lock()
			defer d.mu.Unlock()
			return d.allScopes()
		},
		xaddr: func() string {
			there := d.serviceURL(d.unit.model.Path)
			if d.is(deadAddress) {
				return fmt.Sprintf("http://%s:8899/onvif/device_service %s", d.host.address(), there)
			}
			return there
		},
		untyped: d.is(untyped),
		typed:   d.unit.model.TypedOnly,
		silent:  d.unit.model.NoXAddrs, mute: d.is(noHello), hidden: d.hidden,
		instance: d.boots, toAll: d.is(answersAll), lazy: d.is(seldomAnswers),
	}
	if d.is(otherPort) {
		t.from = func() net.PacketConn {
			c, err := d.host.bindUDP(ipv4.ProtocolNumber, 0)
			if err != nil {
				return nil
			}
			return c
		}
	}
	t.shape = func(answer *node) {
		for _, name := range d.unit.Manners {
			if m := manners[name]; m.match != nil {
				m.match(t, answer)
			}
		}
	}
	if err := t.start(); err != nil {
		return err
	}
	if hello {
		t.hello()
	}
	return nil
}

// groupConn is a socket joined to one of the groups.
type groupConn struct {
	net.PacketConn
	group netip.Addr
}

func (t *targetService) start() error {
	t.down = make(chan struct{})
	t.host.onDown(func() { close(t.down) })
	for _, network := range t.host.networks() {
		group := wsdGroup
		if network == ipv6.ProtocolNumber {
			group = wsdGroup6
		}
		c, err := t.host.listenUDP(wsdPort, group)
		if err != nil {
			return err
		}
		t.conns = append(t.conns, groupConn{c, group})
	}
	for _, c := range t.conns {
		go t.listen(c)
	}
	return nil
}

func (t *targetService) listen(c groupConn) {
	buf := make([]byte, 1<<16)
	for {
		n, from, err := c.ReadFrom(buf)
		select {
		case <-t.down:
			return
		default:
		}
		if err != nil {
			// An earlier answer could not be delivered: the socket tells it here once.
			t.logs.add(Event{Host: t.host.id, What: EventDiscovery, Op: err.Error()})
			continue
		}
		var msg element
		if t.mayAsk(buf[:n]) && xml.Unmarshal(buf[:n], &msg) == nil {
			t.take(c, &msg, from)
		}
	}
}

// mayAsk tells cheaply what may be a question to this host. A thousand devices that are
// switched on together hear a thousand Hellos each, and Resolves for all the others:
// parsing them all would be all that they do.
func (t *targetService) mayAsk(datagram []byte) bool {
	return bytes.Contains(datagram, []byte("Probe")) ||
		bytes.Contains(datagram, []byte("Resolve")) && bytes.Contains(datagram, []byte(t.endpoint))
}

func (t *targetService) take(c groupConn, msg *element, from net.Addr) {
	if t.hidden != nil && t.hidden() {
		return
	}
	var answer *node
	var action string
	body := msg.find("Body")
	if probe := body.find("Probe"); probe.XMLName.Space == wsdNS && t.matches(probe) {
		action, answer = "ProbeMatches", el(wsdNS, "ProbeMatches", t.match("ProbeMatch", !t.silent))
	} else if res := body.find("Resolve"); res.find("EndpointReference", "Address").value() == t.endpoint {
		action, answer = "ResolveMatches", el(wsdNS, "ResolveMatches", t.match("ResolveMatch", true))
	}
	if answer == nil || t.lazy && t.asked.Add(1)%3 != 0 {
		return
	}
	if t.shape != nil {
		t.shape(answer)
	}
	if t.toAll {
		from = &net.UDPAddr{IP: c.group.AsSlice(), Port: wsdPort}
	}
	if t.from != nil && c.group.Is4() {
		if other := t.from(); other != nil {
			defer func() { time.AfterFunc(appMaxDelay+time.Second, func() { _ = other.Close() }) }()
			c = groupConn{other, c.group}
		}
	}
	t.logs.add(Event{Host: t.host.id, From: from.String(), What: EventDiscovery, Op: action, OK: true})
	relates := msg.find("Header", "MessageID").value()
	// Answers to multicast are spread over APP_MAX_DELAY (2005/04, 2.4).
	time.AfterFunc(mrand.N(t.host.port.sw.pace.Of(appMaxDelay)), func() { t.send(c, action, relates, answer, from) })
}

// matches applies the rule of types: every one asked for must be ours.
func (t *targetService) matches(probe *element) bool {
	asked := strings.Fields(probe.find("Types").value())
	if len(asked) == 0 {
		return !t.typed
	}
	for _, q := range asked {
		_, local, _ := strings.Cut(q, ":")
		if !slices.ContainsFunc(t.types(), func(own [2]string) bool { return own[1] == local }) {
			return false
		}
	}
	return true
}

func (t *targetService) match(name string, withAddress bool) *node {
	var xaddrs *node
	if withAddress {
		xaddrs = el(wsdNS, "XAddrs", t.xaddr())
	}
	if t.untyped {
		return el(wsdNS, name, el(wsaNS, "EndpointReference", el(wsaNS, "Address", t.endpoint)), xaddrs, el(wsdNS, "MetadataVersion", 1))
	}
	return el(wsdNS, name,
		el(wsaNS, "EndpointReference", el(wsaNS, "Address", t.endpoint)),
		qnames(wsdNS, "Types", t.types()...),
		el(wsdNS, "Scopes", strings.Join(t.scopes(), " ")),
		xaddrs,
		el(wsdNS, "MetadataVersion", 1))
}

func (t *targetService) hello() {
	if t.mute || t.hidden != nil && t.hidden() {
		return
	}
	m := t.match("Hello", !t.silent)
	for _, c := range t.conns {
		t.send(c, "Hello", "", m, &net.UDPAddr{IP: c.group.AsSlice(), Port: wsdPort})
	}
}

func (t *targetService) send(c groupConn, action, relates string, body *node, to net.Addr) {
	var rel *node
	target := wsaNS + "/role/anonymous"
	if relates != "" {
		rel = el(wsaNS, "RelatesTo", relates)
	} else {
		target = "urn:schemas-xmlsoap-org:ws:2005:04:discovery"
	}
	head := el(envNS, "Header",
		el(wsaNS, "MessageID", newUUID()), rel,
		el(wsaNS, "To", target),
		el(wsaNS, "Action", wsdNS+"/"+action),
		el(wsdNS, "AppSequence").with("InstanceId", fmt.Sprint(t.instance)).with("MessageNumber", fmt.Sprint(t.number.Add(1))))
	if _, err := c.WriteTo(render(t.dialect, envelope(head, body)), to); err != nil {
		t.logs.add(Event{Host: t.host.id, From: to.String(), What: EventDiscovery, Op: err.Error()})
	}
}

func newUUID() string {
	var b [16]byte
	_, _ = rand.Read(b[:]) // never fails
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
	return fmt.Sprintf("urn:uuid:%x-%x-%x-%x-%x", b[0:4], b[4:6], b[6:8], b[8:10], b[10:])
}
