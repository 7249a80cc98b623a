package survey

import (
	"cmp"
	"errors"
	"maps"
	"net/netip"
	"slices"
	"time"

	"janustat/core/device"
	"janustat/core/text"
	"janustat/internal/reach"
	"janustat/internal/speak/wsd"
	"janustat/internal/tongue/standard"
)

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
		r.readOne(h, visitor)
	}
}

// v6Patience is how long a device met by IPv6 may take to be read by IPv4, which
// says the same; then it is read by IPv6.
const v6Patience = 3 * time.Second

// readOne reads a device's own service, resolving where it is first if need be.
func (r *surveyRun) readOne(key hearing, v *reach.Visitor) {
	r.mu.Lock()
	m := r.matched[key]
	if !standard.Speaks(m) || r.reading[key] && !r.givenUp[key] || r.banned(key.mac) {
		r.mu.Unlock()
		return
	}
	r.reading[key] = true
	delete(r.givenUp, key)
	r.mu.Unlock()
	r.spawn(func() {
		if key.addr.Is6() && v != nil {
			if !r.wait(v6Patience - r.pace.Since(r.begun)) {
				return
			}
			r.mu.Lock()
			done := r.read[key.mac] || r.banned(key.mac)
			r.mu.Unlock()
			if done {
				return
			}
		}
		begun := time.Now()
		for try := 0; try < askTries || r.stubborn(try, begun); try++ {
			m = r.resolve(key, v, m)
			end, ok := r.takeTurn()
			if !ok {
				return
			}
			s, err := r.reader(v, key, m)
			end()
			if errors.Is(err, reach.ErrNoVisitor) { // somebody took our visitor's address
				if again, verr := r.Net.Visit(r.ctx, r.Subnets.Of(key.addr), key.addr, r.Avoid); verr == nil {
					v = again
					r.mu.Lock()
					r.visitors[r.Subnets.Of(key.addr)] = v
					r.mu.Unlock()
				}
			}
			if err == nil {
				r.wasRead(key, s)
				return
			}
			r.Log.Debug("device not read", "mac", key.mac, "at", key.addr, "try", try+1, "err", err)
			if v == nil || !r.wait(askAgain<<min(try, maxShift)) || time.Since(begun) > readLimit {
				break
			}
		}
		// It is there and speaks; only its details are missing. Who watches tries it again when it
		// speaks the next time: it may have been starting.
		if r.event != nil {
			r.mu.Lock()
			r.givenUp[key] = true
			r.mu.Unlock()
		}
		r.Log.Warn("device answers discovery but not its service", "mac", key.mac, "at", key.addr)
	})
}

// unread gives the devices that answered discovery and were not read: their tries are spent,
// or the survey ended before they were. The lock is held.
func (r *surveyRun) unread() (out []Unread) {
	for key, m := range r.matched {
		if standard.Speaks(m) && r.reading[key] && !r.read[key.mac] && !r.banned(key.mac) {
			out = append(out, Unread{key.mac, key.addr})
		}
	}
	slices.SortFunc(out, func(a, b Unread) int { return cmp.Or(a.Address.Compare(b.Address), slices.Compare(a.MAC[:], b.MAC[:])) })
	return out[:min(len(out), maxUnread)]
}

// tellUnread has them among the sightings. The lock is held.
func (r *surveyRun) tellUnread() {
	for _, u := range r.found.Unread {
		r.found.Sightings = append(r.found.Sightings, device.Sighting{At: time.Now(), By: "wsd", MAC: u.MAC, Address: u.Address, Facts: device.Facts{Access: device.Unread}})
	}
}

// Unread is a host that answered discovery as a device does, and not its service.
type Unread struct {
	MAC     device.MAC `json:"mac"`
	Address netip.Addr `json:"address"`
}

// A device that does not answer its service is asked again after these waits, doubled each
// time, for so long; one that is starting, or on a LAN that loses frames, answers then. Of a
// crowd that never answers only some are.
const (
	askAgain  = 400 * time.Millisecond
	maxShift  = 3
	stubborns = 8 * time.Second
	maxUnread = 256
)

// stubborn reports whether a device is to be asked once more that has not answered so far.
func (r *surveyRun) stubborn(try int, begun time.Time) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if try == askTries {
		if r.patient++; r.patient > maxUnread {
			return false
		}
	}
	return time.Since(begun) < stubborns
}

func (r *surveyRun) wasRead(key hearing, s device.Sighting) {
	r.mu.Lock()
	r.add(s)
	r.read[key.mac] = true
	r.mu.Unlock()
	r.Tell(text.Words("found", string(s.Facts.Kind), s.Facts.Make, s.Facts.Model, "at", key.addr.String()))
	// A device met by IPv6 tells its IPv4 address: the subnet may be one that
	// nothing was heard from yet.
	if own := s.Facts.Settings; own != nil && key.addr.Is6() && r.Net != nil && r.Subnets.Askable(own.Address) {
		r.visit(own.Address)
	}
}

// resolve asks where the service is when a match did not say (2005/04, 6).
func (r *surveyRun) resolve(key hearing, v *reach.Visitor, m *wsd.Match) *wsd.Match {
	for try := range resolveTries {
		if len(m.XAddrs) > 0 || v == nil {
			return m
		}
		r.Log.Debug("resolving", "mac", key.mac, "at", key.addr)
		// Asked of all, as the standard has it, and of the device alone where its switch
		// passes no multicast on; alone for longer among many, who would all have to listen.
		mac, to := key.mac, key.addr
		if r.hosts() > manyHosts && try == resolveTries-2 || r.hosts() <= manyHosts && try%2 == 0 {
			mac, to = device.MAC{}, groupsFor(v).wsd
		}
		r.send(v, mac, netip.AddrPortFrom(to, wsd.Port), wsd.Resolve(wsd.NewID(), m.Endpoint))
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

// askAnew asks once more those who were asked while the port was shut, and answered nothing.
func (r *surveyRun) askAnew() {
	r.mu.Lock()
	clear(r.asked)
	clear(r.usual)
	for key := range r.matched {
		if !r.read[key.mac] {
			delete(r.reading, key)
		}
	}
	visitors := maps.Clone(r.visitors)
	for subnet := range visitors {
		r.rounds[subnet] = true
	}
	r.mu.Unlock()
	r.spawn(r.askMembers) // by which hosts in subnets show that are not known
	r.spawn(r.seekTongues)
	for subnet, v := range visitors {
		r.spawn(func() {
			r.readMatches(subnet)
			r.spawn(func() { r.askPorts(subnet, v, lateSyn) })
			if r.askLate(subnet, v) && r.wait(quietAfter) {
				r.askUsual(subnet, v)
			}
		})
	}
}
