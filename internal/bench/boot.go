package bench

import (
	//nolint:gosec // RFC 4122 name-based UUIDs demand SHA-1
	"fmt"
	"net/http"
	"net/netip"
	"time"
)

// run is the life of the device: up, and down and up again at each restart.
func (d *Device) run(ready func()) error {
	if err := d.boot(ready != nil); err != nil {
		return err
	}
	if ready != nil {
		ready()
	}
	for {
		select {
		case <-d.ctx.Done():
			d.host.down()
			return nil
		case <-d.restart:
			d.host.down()
			if err := d.boot(false); err != nil {
				return err
			}
		}
	}
}

// boot brings the device up with what its state says.
func (d *Device) boot(first bool) error {
	d.mu.Lock()
	if d.state.next != nil {
		d.state.address, d.state.dhcp, d.state.next = *d.state.next, false, nil
		if d.is(forgetsGateway) {
			d.state.gateway = netip.Addr{}
		}
	}
	dhcp := d.state.dhcp
	d.boots++
	d.powered, d.woken = time.Now(), time.Time{}
	if !first {
		for _, name := range d.unit.Manners {
			if m := manners[name]; m.boot != nil {
				m.boot(d)
			}
		}
	}
	d.mu.Unlock()
	if !first && d.is(factoryFirst) && !dhcp && !d.asDelivered() {
		return nil
	}
	if dhcp {
		d.lease()
	}
	d.mu.Lock()
	address, gateway, boots := d.state.address, d.state.gateway, d.boots
	d.mu.Unlock()
	if !first && d.is(startsTwice) && boots%2 == 0 {
		time.AfterFunc(d.host.port.sw.pace.Of(twiceAfter), func() { d.again(moveTime, false) })
	}
	if err := d.host.up(address, gateway); err != nil {
		return err
	}
	where := linkLocal6(d.unit.mac).String()
	if address.IsValid() {
		where = address.String()
	}
	d.logs.add(Event{Host: d.unit.ID, What: EventBoot, Op: where, OK: true})
	if !address.IsValid() && dhcp {
		go d.keepAsking()
	}
	d.startHail()
	if !address.IsValid() && !d.unit.IPv6 {
		return nil // without an address there is nobody to answer
	}
	if held := d.holding(); held != nil {
		select {
		case <-held:
		case <-d.ctx.Done():
			return nil
		}
	}
	if d.is(lateService) && !first && !sleep(d.ctx, serviceLate) {
		return nil
	}
	if !d.is(noDiscovery) {
		if err := d.serveStream(); err != nil {
			return err
		}
	}
	if err := d.startPhone(); err != nil {
		return err
	}
	d.resumeReceivers()
	d.mu.Lock()
	d.callHome()
	d.mu.Unlock()
	mux := http.NewServeMux()
	d.servePages(mux)
	if d.unit.ByHand || d.unit.model.Hail == hailOnly {
		return d.host.serve(80, mux, nil)
	}
	mux.HandleFunc(snapshotPath, d.serveSnapshot)
	mux.HandleFunc(streamPath, d.serveTunnel)
	mux.HandleFunc(backupPath, d.serveBackup)
	mux.HandleFunc(uploadPath, d.serveUpload)
	if to, status := d.leads(address.Addr()); to == "" {
		mux.HandleFunc(d.unit.model.Path, d.serveSOAP)
	} else {
		mux.Handle(d.unit.model.Path, http.RedirectHandler(to, status))
		mux.HandleFunc(movedPath, d.serveSOAP)
	}
	for i := range d.character().services {
		mux.HandleFunc(d.servicePath(i), d.serveSOAP)
	}
	model := d.unit.model
	var plain http.Handler = mux
	if d.is(leadsToHTTPS) {
		plain = http.RedirectHandler("https://"+address.Addr().String()+model.Path, http.StatusMovedPermanently)
	}
	d.paged(mux, plain)
	d.openPages()
	if d.is(leadsToPort) && model.HTTPS != "only" {
		if err := d.host.serve(movedPort, mux, nil); err != nil {
			return err
		}
	}
	if d.is(noDiscovery) {
		return d.host.serve(554, http.NotFoundHandler(), nil) // who asks for video is not answered here
	}
	return d.startDiscovery(!first)
}

// Where a device leads to that is elsewhere.
const (
	movedPath = "/svc/device"
	movedPort = 8899
)

// leads gives where a device leads to that does not answer where it says, and how.
func (d *Device) leads(own netip.Addr) (to string, status int) {
	switch {
	case d.is(leadsToPath):
		return "../svc/device", http.StatusTemporaryRedirect
	case d.is(leadsToPort):
		return fmt.Sprintf("http://%s:%d%s", own, movedPort, movedPath), http.StatusPermanentRedirect
	case d.is(leadsAway):
		return "http://192.0.2.80/welcome", http.StatusFound
	}
	return "", 0
}

// lease asks for an address before the device is up, or falls back. A device
// that goes on asking does so once it is up.
func (d *Device) lease() {
	d.mu.Lock()
	kept, address, gateway := d.kept, netip.Prefix{}, netip.Addr{}
	d.mu.Unlock()
	switch {
	case kept:
		return
	case d.unit.Fallback == fallbackAdrift:
		address = linkLocal4(d.unit.mac)
	case d.unit.Fallback == fallbackNone:
	default:
		var ok bool
		if address, gateway, ok = d.host.lease(d.ctx, dhcpTries); !ok {
			return // its factory address
		}
	}
	d.mu.Lock()
	d.state.address, d.state.gateway = address, gateway
	d.mu.Unlock()
}

// keepAsking asks for an address again and again, and starts anew with it.
func (d *Device) keepAsking() {
	every := d.unit.AskEvery
	if every == 0 {
		every = 2 * time.Second
	}
	for {
		address, gateway, ok := d.host.lease(d.ctx, 1)
		if ok {
			d.mu.Lock()
			d.state.address, d.state.gateway = address, gateway
			d.kept = true
			d.mu.Unlock()
			d.host.down()
			select {
			case d.restart <- struct{}{}:
			case <-d.ctx.Done():
			}
			return
		}
		if !sleep(d.ctx, every) {
			return
		}
	}
}
