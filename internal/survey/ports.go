package survey

import (
	"net/netip"
	"slices"
	"time"

	"janustat/core/device"
	"janustat/internal/reach"
	"janustat/internal/speak/wsd"
	"janustat/internal/tongue/standard"
)

// tcpPorts is the short list of TCP ports looked at: remote shells, web pages,
// file shares, video (RTSP), telephony (SIP) and printing.
var tcpPorts = []uint16{22, 23, 80, 443, 445, 554, 5060, 8080, 8443, 9100}

const (
	synPort    = 41703 // our port that the first segments come from
	synSpacing = time.Millisecond
	maxAsked   = 512 // hosts of one subnet whose ports are looked at
)

// synAt are the moments, after a visitor is there, at which ports are asked:
// for those heard at once, for those heard late, and again since frames get lost.
var synAt = []time.Duration{300 * time.Millisecond, 900 * time.Millisecond, 1600 * time.Millisecond}

// synAgain is how long after that a host is asked once more that has answered at some of its ports only:
// where it filters none, a frame got lost each time.
const synAgain = 700 * time.Millisecond

// portHeard is a port that has answered, open or not.
type portHeard struct {
	hearing
	port uint16
}

// askPorts looks which ports of the hosts in a subnet are open, by handshakes
// that are begun and not ended: no program on the host is given a connection.
func (r *surveyRun) askPorts(subnet netip.Prefix, v *reach.Visitor, moments []time.Duration) {
	begun := time.Now()
	for _, at := range moments {
		if !r.wait(at-r.pace.Since(begun)) || !r.knock(v, r.hostsIn(subnet)) {
			return
		}
	}
	if partly := r.partly(subnet); len(partly) > 0 && r.wait(synAgain) {
		r.knock(v, partly)
	}
}

// knock asks hosts at the ports that have not answered; false when the survey is over.
func (r *surveyRun) knock(v *reach.Visitor, hosts []hearing) bool {
	for _, h := range hosts {
		for _, port := range tcpPorts {
			r.mu.Lock()
			answered := r.ports[portHeard{h, port}]
			r.mu.Unlock()
			if answered {
				continue
			}
			if err := r.Net.SendSYN(v, synPort, h.mac, netip.AddrPortFrom(h.addr, port), synSeq); err != nil || !r.wait(synSpacing) {
				return false
			}
		}
	}
	return true
}

// partly gives the hosts of a subnet that have answered at some ports and not at others.
func (r *surveyRun) partly(subnet netip.Prefix) []hearing {
	return slices.DeleteFunc(r.hostsIn(subnet), func(h hearing) bool {
		r.mu.Lock()
		defer r.mu.Unlock()
		n := 0
		for _, port := range tcpPorts {
			if r.ports[portHeard{h, port}] {
				n++
			}
		}
		return n == 0 || n == len(tcpPorts)
	})
}

// synSeq is the sequence number of our first segments; nothing follows them.
const synSeq = 0x4a616e75

// hostsIn gives hosts heard in a subnet, those that answered discovery first, then in
// the order heard.
func (r *surveyRun) hostsIn(subnet netip.Prefix) (out []hearing) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, matched := range []bool{true, false} {
		for _, h := range r.bySubnet[subnet] {
			if len(out) < maxAsked && (r.matched[h] != nil) == matched && r.Subnets.Askable(h.addr) && !r.banned(h.mac) {
				out = append(out, h)
			}
		}
	}
	return out
}

// hearPort takes the answer to a first segment.
func (r *surveyRun) hearPort(h reach.Heard) {
	port, to, open, ok := h.PortAnswer()
	if !ok || to != synPort {
		return
	}
	key := hearing{h.From, h.Source}
	r.mu.Lock()
	known, met := r.ports[portHeard{key, port}], r.heard[key]
	if !met || len(r.ports) >= maxHeard {
		r.mu.Unlock()
		return
	}
	r.ports[portHeard{key, port}] = true
	if open {
		r.open[portHeard{key, port}] = true
	}
	if open && !known {
		r.add(device.Sighting{At: h.At, By: "tcp", MAC: h.From, Address: h.Source, Facts: device.Facts{Ports: []uint16{port}}})
	}
	visitor := r.visitors[r.Subnets.Of(h.Source)]
	r.mu.Unlock()
	if open && !known && visitor != nil {
		r.spawn(func() {
			// A reset that gets lost is made up for by the host's own patience.
			_ = r.Net.Reset(visitor, synPort, h.From, netip.AddrPortFrom(h.Source, port), synSeq+1)
		})
	}
}

// looksLike reports whether a host that answers no discovery looks like a device all the
// same: some have it switched off. The lock is held.
func (r *surveyRun) looksLike(h hearing) bool {
	return r.Met[h.mac] != standard.Met{} || device.LooksLike(func(port uint16) bool { return r.open[portHeard{h, port}] })
}

// askUsual looks for the device service at the usual places of those hosts in a subnet
// that look like devices and answered no discovery: once each, and for nothing but the time.
func (r *surveyRun) askUsual(subnet netip.Prefix, v *reach.Visitor) {
	r.mu.Lock()
	var ask []hearing
	for _, h := range r.bySubnet[subnet] {
		if r.matched[h] == nil && !r.usual[h] && len(ask) < maxAsked && r.Subnets.Askable(h.addr) && r.looksLike(h) && !r.banned(h.mac) {
			r.usual[h] = true
			ask = append(ask, h)
		}
	}
	r.mu.Unlock()
	for _, h := range ask {
		r.spawn(func() {
			end, ok := r.takeTurn()
			if !ok {
				return
			}
			there := r.hasService(h, v)
			end()
			if !there {
				return
			}
			r.Log.Debug("device service without discovery", "mac", h.mac, "at", h.addr)
			r.mu.Lock()
			if r.matched[h] == nil {
				r.matched[h] = &wsd.Match{}
			}
			r.mu.Unlock()
			r.readOne(h, v)
		})
	}
}

// usualLimit is how long a host may take to show that it has a device service: some take six
// seconds over their first answer since they were switched on. What is no device says so at once.
const usualLimit = 10 * time.Second

func (r *surveyRun) hasService(h hearing, v *reach.Visitor) bool {
	return standard.IsThere(r.ctx, r.Net, v, r.host(h), usualLimit)
}

func (r *surveyRun) host(h hearing) standard.Host {
	return standard.Host{MAC: h.mac, Addr: h.addr, Met: r.Met[h.mac]}
}
