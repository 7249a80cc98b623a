package reach

import (
	"net/netip"
	"slices"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/checksum"
	"gvisor.dev/gvisor/pkg/tcpip/header"

	"janustat/core/device"
)

// Bounds on reassembly: a hostile host can fill these and no more.
const (
	maxPartials   = 64
	maxFragments  = 48 // of 1,480 bytes and less: more than a 64 KiB datagram has
	fragmentsLast = 15 * time.Second
)

// partialKey names a datagram in pieces (RFC 791, 3.2), with the sender's MAC
// since several devices may send from one address.
type partialKey struct {
	mac      device.MAC
	src, dst netip.Addr
	id       uint32
}

// fragment is one piece as it came.
type fragment struct {
	key  partialKey
	at   int // offset in the datagram, bytes
	more bool
	data []byte
}

type piece struct {
	at   int
	more bool
	data []byte
}

type partial struct {
	begun  time.Time
	pieces []piece
}

// reassembler puts fragmented UDP datagrams together. The oldest unfinished one
// gives way when there are too many.
type reassembler struct{ open map[partialKey]*partial }

// add takes one fragment and gives the whole payload once it is complete.
func (r *reassembler) add(f fragment, now time.Time) ([]byte, bool) {
	if r.open == nil {
		r.open = map[partialKey]*partial{}
	}
	key, at := f.key, f.at
	p := r.open[key]
	// A piece that is there already belongs to a newer datagram: some devices
	// number all of theirs alike, and one lost piece would block the rest.
	if p == nil || now.Sub(p.begun) > fragmentsLast || p.has(at) {
		r.makeRoom()
		p = &partial{begun: now}
		r.open[key] = p
	}
	if len(p.pieces) >= maxFragments {
		delete(r.open, key)
		return nil, false
	}
	p.pieces = append(p.pieces, piece{at, f.more, slices.Clone(f.data)})
	whole, ok := p.whole()
	if !ok {
		return nil, false
	}
	delete(r.open, key)
	return whole, soundUDP(key.src, key.dst, whole)
}

// soundUDP verifies the checksum of a datagram put together from pieces: it
// tells pieces of different datagrams with one identification. Cards do not
// leave the checksum of a fragmented datagram to later, so it can be trusted.
func soundUDP(src, dst netip.Addr, whole []byte) bool {
	if len(whole) < header.UDPMinimumSize {
		return false
	}
	u := header.UDP(whole)
	if u.Checksum() == 0 {
		return true // none was sent (RFC 768)
	}
	return u.IsChecksumValid(tcpip.AddrFromSlice(src.AsSlice()), tcpip.AddrFromSlice(dst.AsSlice()), checksum.Checksum(u[header.UDPMinimumSize:], 0))
}

func (p *partial) has(at int) bool {
	return slices.ContainsFunc(p.pieces, func(f piece) bool { return f.at == at })
}

func (r *reassembler) makeRoom() {
	if len(r.open) < maxPartials {
		return
	}
	var oldest partialKey
	var at time.Time
	for k, p := range r.open {
		if at.IsZero() || p.begun.Before(at) {
			oldest, at = k, p.begun
		}
	}
	delete(r.open, oldest)
}

// whole joins the pieces if none is missing. Overlapping pieces are refused
// (RFC 5722 for IPv6; the same attack works here).
func (p *partial) whole() ([]byte, bool) {
	slices.SortFunc(p.pieces, func(a, b piece) int { return a.at - b.at })
	var out []byte
	for i, f := range p.pieces {
		if f.at != len(out) || f.more == (i == len(p.pieces)-1) {
			return nil, false
		}
		out = append(out, f.data...)
	}
	return out, true
}

func addrOf(b [4]byte) netip.Addr { return netip.AddrFrom4(b) }
