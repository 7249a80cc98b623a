package bench

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	mrand "math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"

	"janustat/core/device"
	"janustat/internal/wire"
)

// Bench is a running site.
type Bench struct {
	site    *Site
	sw      *Switch
	logs    *Log
	devices []*Device
	cancel  context.CancelFunc
	running sync.WaitGroup
	pulled  atomic.Bool // the clients' cable is out
}

// Start brings a site up and returns once every host answers. Stop ends it.
func Start(ctx context.Context, site *Site, logs *Log) (*Bench, error) {
	ctx, cancel := context.WithCancel(ctx)
	sw := NewSwitch(site.Loss, site.Delay, site.Seed)
	sw.pace, sw.storm = site.Pace, site.Storm
	b := &Bench{site: site, sw: sw, logs: logs, cancel: cancel}
	for i := range site.Others {
		if err := b.startOther(ctx, &site.Others[i]); err != nil {
			b.Stop()
			return nil, err
		}
	}
	ready := make(chan error, len(site.Devices))
	for _, u := range site.Devices {
		d := newDevice(ctx, b.sw, u, logs)
		d.faults, d.chance = site.Faults, mrand.New(mrand.NewPCG(site.Seed, uint64(len(b.devices)))) //nolint:gosec // to be repeated
		b.devices = append(b.devices, d)
		b.running.Go(func() {
			if err := d.run(func() { ready <- nil }); err != nil {
				ready <- err
			}
		})
	}
	for range site.Devices {
		select {
		case err := <-ready:
			if err != nil {
				b.Stop()
				return nil, err
			}
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	return b, nil
}

// Stop takes every host down.
func (b *Bench) Stop() {
	b.cancel()
	b.running.Wait()
}

// Devices gives every device of the site.
func (b *Bench) Devices() []*Device { return b.devices }

// Device gives a device by its id, or nil.
func (b *Bench) Device(id string) *Device {
	for _, d := range b.devices {
		if d.unit.ID == id {
			return d
		}
	}
	return nil
}

// MAC gives the device's MAC.
func (d *Device) MAC() device.MAC { return d.unit.mac }

// Hosts counts the devices and the bystanders.
func (b *Bench) Hosts() (devices, others int) { return len(b.site.Devices), len(b.site.Others) }

// startOther brings a bystander up: something on the LAN that must be left alone.
func (b *Bench) startOther(ctx context.Context, o *Bystander) error {
	if o.Role == "quiet" {
		b.startQuiet(ctx, o)
		return nil
	}
	h := newHost(b.sw, o.ID, o.mac)
	if o.Role == "dhcp" {
		pool, err := parseRange(o.Pool)
		if err != nil {
			return fmt.Errorf("%s: %w", o.ID, err)
		}
		gateway, _ := netip.ParseAddr(o.Gateway) // none is allowed
		s := &dhcpServer{host: h, subnet: o.prefix, gateway: gateway, pool: pool, leases: map[device.MAC]netip.Addr{}, dns: ips(o.DNS), ntp: ips(o.NTP)}
		h.change(func() { h.raw = s.take })
	}
	h.ipv6 = o.IPv6
	if o.Role == "tagged" {
		go h.chatter(ctx, o.VLAN, o.prefix.Addr())
		return nil
	}
	if err := h.up(o.prefix, netip.Addr{}); err != nil {
		return err
	}
	context.AfterFunc(ctx, h.down)
	if o.Host != "" {
		if err := h.tellNames(o.Host, o.Offers); err != nil {
			return err
		}
	}
	if o.Role == "server" {
		for _, port := range o.Ports {
			if err := h.serveHome(port, func(serial, from string) {
				b.logs.add(Event{Host: o.ID, From: from, What: EventConnection, Op: serial, OK: true})
			}); err != nil {
				return err
			}
		}
		return nil
	}
	for _, port := range o.Ports {
		if err := h.serve(port, http.NotFoundHandler(), func(from string) { b.logs.add(Event{Host: o.ID, From: from, What: EventConnection, OK: true}) }); err != nil {
			return err
		}
	}
	if o.Role != "printer" && o.Role != "router" {
		return nil
	}
	err := h.serve(80, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		what := EventRead
		if r.Method == http.MethodPost || r.Method == http.MethodPut {
			what = EventWrite
		}
		b.logs.add(Event{Host: o.ID, From: r.RemoteAddr, What: what, Op: r.URL.Path, OK: true})
		fmt.Fprintln(w, "<title>"+o.Role+"</title>")
	}), func(from string) { b.logs.add(Event{Host: o.ID, From: from, What: EventConnection, OK: true}) })
	if err != nil || o.Role != "printer" {
		return err
	}
	t := &targetService{
		host: h, logs: b.logs, dialect: "declared", endpoint: newUUID(),
		types:  func() [][2]string { return [][2]string{{printerNS, "PrintQueue"}} },
		scopes: func() []string { return nil },
		xaddr:  func() string { return "http://" + o.prefix.Addr().String() + "/print" },
	}
	return t.start()
}

// Serve lets clients plug in through a Unix socket until ctx ends. Each gets a
// port of its own, as specified at wire.Hello.
func (b *Bench) Serve(ctx context.Context, l net.Listener) error {
	if _, err := b.hello(0); err != nil {
		return err
	}
	var clients places
	stop := context.AfterFunc(ctx, func() { l.Close() })
	defer stop()
	for {
		c, err := l.Accept()
		switch {
		case ctx.Err() != nil:
			return nil
		case err != nil:
			return fmt.Errorf("bench socket: %w", err)
		}
		go func() {
			n := clients.take()
			defer clients.give(n)
			hello, err := b.hello(n)
			if err != nil {
				c.Close()
				return
			}
			b.plug(ctx, wire.NewFrames(c, wire.Facts{}), hello)
		}()
	}
}

// places numbers the clients that are plugged in, from 0.
type places struct {
	mu    sync.Mutex
	taken []bool
}

func (p *places) take() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	at := slices.Index(p.taken, false)
	if at < 0 {
		at, p.taken = len(p.taken), append(p.taken, true)
	}
	p.taken[at] = true
	return at
}

func (p *places) give(n int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.taken[n] = false
}

// hello is what a client is told of its port. Each has a MAC and addresses of its own, so
// that two programs at once are two laptops.
func (b *Bench) hello(n int) ([]byte, error) {
	mac, err := device.ParseMAC(b.site.Laptop.MAC)
	if err != nil {
		return nil, fmt.Errorf("laptop: %w", err)
	}
	last := binary.BigEndian.Uint16(mac[4:]) + uint16(n)
	binary.BigEndian.PutUint16(mac[4:], last)
	h := wire.Hello{Bench: wire.BenchVersion, Site: b.site.Name, MAC: mac}
	for _, a := range b.site.Laptop.Addresses {
		p, err := netip.ParsePrefix(a)
		if err != nil {
			return nil, fmt.Errorf("laptop: %w", err)
		}
		for range n {
			p = netip.PrefixFrom(p.Addr().Next(), p.Bits())
		}
		h.Addresses = append(h.Addresses, p)
	}
	return json.Marshal(h)
}

// plug joins a wire to the switch until either ends.
func (b *Bench) plug(ctx context.Context, w *wire.Frames, hello []byte) {
	defer w.Close()
	stop := context.AfterFunc(ctx, func() { w.Close() })
	defer stop()
	if w.Write(hello) == nil {
		_ = b.Join(w) // ends when the client goes
	}
}

// Pull has the cable of the clients out, or in again: nothing of what is sent arrives.
func (b *Bench) Pull(out bool) { b.pulled.Store(out) }

// Join connects a wire to the switch and carries frames until the wire ends.
func (b *Bench) Join(w wire.Wire) error {
	port := b.sw.Plug(func(frame []byte) {
		if !b.pulled.Load() {
			_ = w.Write(frame) // a full buffer loses frames, as a cable would
		}
	}, nil)
	defer port.Unplug()
	for {
		frame, err := w.Read()
		if err != nil {
			if errors.Is(err, net.ErrClosed) {
				return nil
			}
			return err
		}
		if !b.pulled.Load() {
			port.Send(frame)
		}
	}
}

// Attach joins the site to a network adapter until ctx ends, so that it is met
// on a real wire.
func (b *Bench) Attach(ctx context.Context, adapter string) error {
	w, err := wire.OpenBridge(adapter)
	if err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() { w.Close() })
	defer stop()
	err = b.Join(w)
	if ctx.Err() != nil {
		return nil
	}
	return err
}
