// Package kernelwire is a wire without raw frames: the kernel's own sockets, for those who have no
// permission to more, and for systems that have no packet sockets.
//
// It plays the switch and every host behind it. Who is asked for by ARP is looked up in the
// kernel's table of neighbours, after the kernel was given a reason to ask; connections and
// datagrams to it go out by the kernel's sockets, from the laptop's own address. So it meets
// what the laptop itself can reach, by IPv4: nobody without an address or on another subnet,
// and of several devices on one address the one that the kernel has chosen.
package kernelwire

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/stack"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"

	"janustat/core/device"
	"janustat/core/lan"
	"janustat/internal/nic"
	"janustat/internal/wire"
)

// Scheme begins the spec of a plain wire; an adapter may follow after a colon.
const Scheme = "plain"

// Is reports whether a spec names a plain wire.
func Is(spec string) bool { return spec == Scheme || strings.HasPrefix(spec, Scheme+":") }

// limits are what cannot be done on any plain wire, in words.
var limits = []string{
	"devices on other subnets than the laptop's own are not reached",
	"of several devices on one address only one is met",
	"devices without an address, or with IPv6 alone, are not found, except those that use Hail",
	"no DHCP offers are heard, and no leases given",
	"the laptop's own address is what devices see: give it one in the site's subnet first",
}

// Wire is a plain wire. It implements wire.Wire.
type Wire struct {
	facts wire.Facts
	iface net.Interface
	own   []netip.Prefix // IPv4

	frames chan []byte // to be read
	ctx    context.Context
	cancel context.CancelFunc
	work   sync.WaitGroup

	card  *nic.Endpoint
	stack *stack.Stack

	near *neighbours

	hail   *net.UDPConn // on Hail's group and port
	noHail error        // why there is none

	mu    sync.Mutex
	flows map[netip.AddrPort]*flow // datagrams, by who sends them
}

var _ wire.Wire = (*Wire)(nil)

// queued is how many frames wait to be read before further ones are dropped, as on a card.
const queued = 4096

// mtu is Ethernet's, in bytes of payload.
const mtu = 1500

// Open opens a plain wire on an adapter, or on the only one that is up.
func Open(spec string) (*Wire, error) {
	_, name, _ := strings.Cut(spec, ":")
	iface, own, err := adapter(name)
	if err != nil {
		return nil, err
	}
	w := &Wire{
		facts:  wire.Facts{Name: Scheme + ":" + iface.Name, MAC: device.MACFrom(iface.HardwareAddr), MTU: mtu, Addresses: own},
		iface:  *iface,
		own:    slices.DeleteFunc(slices.Clone(own), func(p netip.Prefix) bool { return !p.Addr().Is4() }),
		frames: make(chan []byte, queued), flows: map[netip.AddrPort]*flow{},
	}
	if len(w.own) == 0 {
		return nil, fmt.Errorf("%w: %s has no IPv4 address, and the plain wire uses the laptop's own: give it one in the site's subnet", wire.ErrNoAdapter, iface.Name)
	}
	w.ctx, w.cancel = context.WithCancel(context.Background())
	w.near = newNeighbours(w.ctx, iface.Name, w.own)
	if err := w.carry(); err != nil {
		w.cancel()
		return nil, err
	}
	w.listen()
	w.listenHail()
	return w, nil
}

// adapter finds the adapter of a name, or the only one that is up.
func adapter(name string) (*net.Interface, []netip.Prefix, error) {
	all, err := wire.Adapters()
	if err != nil {
		return nil, nil, err
	}
	var up []string
	for _, x := range all {
		if x.Up && (name == "" || x.Name == name) {
			up = append(up, x.Name)
		}
	}
	switch {
	case len(up) == 0 && name != "":
		return nil, nil, fmt.Errorf("%w: %s is not there, or down", wire.ErrNoAdapter, name)
	case len(up) == 0:
		return nil, nil, fmt.Errorf("%w: none is up", wire.ErrNoAdapter)
	case len(up) > 1:
		return nil, nil, fmt.Errorf("%w to choose: %s are up: name one, as --wire plain:%s", wire.ErrNoAdapter, strings.Join(up, ", "), up[0])
	}
	iface, err := net.InterfaceByName(up[0])
	if err != nil {
		return nil, nil, fmt.Errorf("%w: %w", wire.ErrNoAdapter, err)
	}
	at := slices.IndexFunc(all, func(x lan.Adapter) bool { return x.Name == up[0] })
	return iface, all[at].Addresses, nil
}

// Facts implements wire.Wire.
func (w *Wire) Facts() wire.Facts { return w.facts }

// errClosed ends a read of a closed wire.
var errClosed = errors.New("the wire is closed")

// Read implements wire.Wire.
func (w *Wire) Read() ([]byte, error) {
	select {
	case f := <-w.frames:
		return f, nil
	case <-w.ctx.Done():
		return nil, errClosed
	}
}

// Close implements wire.Wire.
func (w *Wire) Close() error {
	w.cancel()
	w.mu.Lock()
	for _, f := range w.flows {
		f.socket.Close()
	}
	w.mu.Unlock()
	w.stack.Destroy()
	w.work.Wait()
	return nil
}

// heard puts a frame where it is read; on a flood it is lost.
func (w *Wire) heard(frame []byte) {
	select {
	case w.frames <- frame:
	default:
	}
}

// Write implements wire.Wire: it does with a frame what the host would have done that it is
// for. What needs more than the kernel's sockets is lost, as on a wire where nobody is.
func (w *Wire) Write(frame []byte) error {
	if w.ctx.Err() != nil {
		return errClosed
	}
	if len(frame) < header.EthernetMinimumSize {
		return nil
	}
	eth := header.Ethernet(frame)
	switch eth.Type() {
	case header.ARPProtocolNumber:
		w.asked(frame[header.EthernetMinimumSize:])
	case header.IPv4ProtocolNumber:
		w.packet(frame)
	}
	return nil
}

// packet carries an IPv4 packet on.
func (w *Wire) packet(frame []byte) {
	ip := header.IPv4(frame[header.EthernetMinimumSize:])
	if !ip.IsValid(len(ip)) {
		return
	}
	to, ok := netip.AddrFromSlice(ip.DestinationAddressSlice())
	if !ok {
		return
	}
	mac := device.MACFrom(frame[0:6])
	switch ip.TransportProtocol() {
	case header.UDPProtocolNumber:
		w.datagram(ip, to, mac)
	case header.TCPProtocolNumber:
		if !w.near.onLink(to) { // told at once, so that nobody waits for it
			w.heard(unreachableFrame(mac, w.facts.MAC, w.own[0].Addr(), ip))
			return
		}
		// Only to whom it is meant for: the kernel may know another by this address.
		if known, ok := w.near.cached(to); !ok || known != mac {
			return
		}
		copied := slices.Clone(frame)
		own := w.facts.MAC
		copy(copied[0:6], own[:])
		w.card.Inject(copied)
	}
}

// carry brings up the far ends of connections.
func (w *Wire) carry() error {
	w.card = nic.NewPinned(w.facts.MAC, w.facts.MAC, mtu, w.fromFar)
	s, err := nic.Stack(w.card)
	if err != nil {
		return err
	}
	w.stack = s
	if err := s.SetPromiscuousMode(nic.ID, true); err != nil {
		return fmt.Errorf("plain wire: %s", err)
	}
	if err := s.SetSpoofing(nic.ID, true); err != nil {
		return fmt.Errorf("plain wire: %s", err)
	}
	s.AddRoute(tcpip.Route{Destination: header.IPv4EmptySubnet, NIC: nic.ID})
	f := tcp.NewForwarder(s, 0, maxWaiting, w.connect)
	s.SetTransportProtocolHandler(tcp.ProtocolNumber, f.HandlePacket)
	return nil
}

// fromFar takes a frame of a far end, and gives it the MAC of the host that it is for.
func (w *Wire) fromFar(frame []byte) {
	if len(frame) < header.EthernetMinimumSize+header.IPv4MinimumSize {
		return
	}
	ip := header.IPv4(frame[header.EthernetMinimumSize:])
	from, ok := netip.AddrFromSlice(ip.SourceAddressSlice())
	mac, known := w.near.cached(from)
	if !ok || !known {
		return
	}
	out := slices.Clone(frame)
	own := w.facts.MAC
	copy(out[0:6], own[:])
	copy(out[6:12], mac[:])
	w.heard(out)
}
