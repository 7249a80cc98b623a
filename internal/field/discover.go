package field

import (
	"crypto/rand"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"janustat/core/device"
	"janustat/internal/reach"
	"janustat/internal/speak/dhcp"
	"janustat/internal/speak/wsd"
)

// probe sends discovery probes from a visitor: by multicast to all, then by
// unicast to those heard by ARP that stayed silent.
func (r *surveyRun) probe(subnet netip.Prefix, v *reach.Visitor) {
	begun := time.Now()
	for i, at := range probeAt {
		if !r.wait(at - time.Since(begun)) {
			return
		}
		for _, types := range [][]wsd.Type{{wsd.Transmitter}, {wsd.AnyDevice}, nil} {
			r.send(v, device.MAC{}, netip.AddrPortFrom(wsd.Group, wsd.Port), wsd.Probe(newUUID(), types...))
			if !r.wait(probeSpacing) {
				return
			}
		}
		if i < 2 {
			continue
		}
		for _, h := range r.silent(subnet) {
			for _, types := range [][]wsd.Type{{wsd.Transmitter}, {wsd.AnyDevice}} {
				r.send(v, h.mac, netip.AddrPortFrom(h.addr, wsd.Port), wsd.Probe(newUUID(), types...))
			}
		}
	}
	r.wait(quietAfter)
}

// silent gives those heard in a subnet that have not answered discovery.
func (r *surveyRun) silent(subnet netip.Prefix) []hearing {
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []hearing
	for h := range r.heard {
		if subnet.Contains(h.addr) && r.matched[h] == nil {
			out = append(out, h)
		}
	}
	slices.SortFunc(out, func(a, b hearing) int { return slices.Compare(a.mac[:], b.mac[:]) })
	return out
}

func (r *surveyRun) send(v *reach.Visitor, mac device.MAC, to netip.AddrPort, payload []byte) {
	if err := r.Net.SendUDP(v, clientPort, mac, to, payload); err != nil {
		r.Log.Warn("discovery not sent", "to", to, "err", err)
	}
}

// readMatches reads the devices of a subnet that announced themselves before
// the visitor was there.
func (r *surveyRun) readMatches(subnet netip.Prefix) {
	r.mu.Lock()
	visitor := r.visitors[subnet]
	var waiting []hearing
	for h := range r.matched {
		if r.Subnets.Of(h.addr) == subnet {
			waiting = append(waiting, h)
		}
	}
	r.mu.Unlock()
	for _, h := range waiting {
		r.read(h, visitor)
	}
}

// read reads a device's own service, resolving where it is first if need be.
func (r *surveyRun) read(key hearing, v *reach.Visitor) {
	r.mu.Lock()
	m := r.matched[key]
	if !speaksDevice(m) || r.reading[key] {
		r.mu.Unlock()
		return
	}
	r.reading[key] = true
	r.mu.Unlock()
	r.spawn(func() {
		m := r.resolve(key, v, m)
		for try := range askTries {
			select {
			case r.ask <- struct{}{}:
			case <-r.ctx.Done():
				return
			}
			s, err := readDevice(r.ctx, r.Net, v, key, m)
			<-r.ask
			if err == nil {
				r.mu.Lock()
				r.found.Sightings = append(r.found.Sightings, s)
				r.mu.Unlock()
				r.Tell(fmt.Sprintf("%s %s %s at %s", s.Facts.Kind, s.Facts.Make, s.Facts.Model, key.addr))
				return
			}
			r.Log.Debug("device not read", "mac", key.mac, "at", key.addr, "try", try+1, "err", err)
			if !r.wait(400 * time.Millisecond) {
				return
			}
		}
		// It is there and speaks; only its details are missing.
		r.Log.Warn("device answers discovery but not its service", "mac", key.mac, "at", key.addr)
	})
}

// resolve asks where the service is when a match did not say (2005/04, 6).
func (r *surveyRun) resolve(key hearing, v *reach.Visitor, m *wsd.Match) *wsd.Match {
	for range resolveTries {
		if len(m.XAddrs) > 0 {
			return m
		}
		r.Log.Debug("resolving", "mac", key.mac, "at", key.addr)
		r.send(v, device.MAC{}, netip.AddrPortFrom(wsd.Group, wsd.Port), wsd.Resolve(newUUID(), m.Endpoint))
		for range 8 { // the answer may take APP_MAX_DELAY, and the device a while longer
			if !r.wait(100 * time.Millisecond) {
				return m
			}
			r.mu.Lock()
			m = r.matched[key]
			r.mu.Unlock()
			if len(m.XAddrs) > 0 {
				break
			}
		}
	}
	return m
}

func (r *surveyRun) discoverDHCP() {
	ask, err := dhcp.Discover(r.Net.Facts().MAC, r.dhcpID)
	if err != nil {
		r.Log.Warn("DHCP not asked", "err", err)
		return
	}
	for range 3 {
		if err := r.Net.SendBroadcast(dhcp.ClientPort, dhcp.ServerPort, ask); err != nil {
			r.Log.Warn("DHCP not asked", "err", err)
			return
		}
		if !r.wait(time.Second) {
			return
		}
	}
}

// newUUID gives a random UUID as a URN (RFC 4122, 4.4).
func newUUID() string {
	var b [16]byte
	_, _ = rand.Read(b[:]) // never fails (crypto/rand)
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
	return fmt.Sprintf("urn:uuid:%x-%x-%x-%x-%x", b[0:4], b[4:6], b[6:8], b[8:10], b[10:])
}
