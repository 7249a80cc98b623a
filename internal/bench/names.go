package bench

import (
	"context"
	"encoding/binary"
	"net"
	"net/netip"
	"strings"
	"time"

	"github.com/miekg/dns"

	"janustat/internal/speak/arp"
)

const mdnsPort = 5353

var mdnsGroup = netip.MustParseAddr("224.0.0.251")

// responder answers multicast DNS for one host (RFC 6762).
type responder struct {
	host   *host
	conn   net.PacketConn
	name   string // with .local.
	offers []string
}

// tellNames answers for a host's name and services until it goes down.
func (h *host) tellNames(name string, offers []string) error {
	c, err := h.listenUDP(mdnsPort, mdnsGroup)
	if err != nil {
		return err
	}
	r := &responder{host: h, conn: c, name: name + ".local.", offers: offers}
	go r.listen()
	return nil
}

func (r *responder) listen() {
	buf := make([]byte, 9000)
	for {
		n, _, err := r.conn.ReadFrom(buf)
		if err != nil {
			return // the host went down
		}
		var ask dns.Msg
		if ask.Unpack(buf[:n]) == nil && !ask.Response {
			r.answer(&ask)
		}
	}
}

func (r *responder) answer(ask *dns.Msg) {
	m := new(dns.Msg)
	m.Response, m.Authoritative = true, true
	for _, q := range ask.Question {
		m.Answer = append(m.Answer, r.records(strings.ToLower(q.Name))...)
	}
	if len(m.Answer) == 0 {
		return
	}
	for _, o := range r.offers {
		m.Extra = append(m.Extra, &dns.SRV{Hdr: record(r.instance(o), dns.TypeSRV), Target: r.name, Port: 80})
	}
	m.Extra = append(m.Extra, &dns.A{Hdr: record(r.name, dns.TypeA), A: r.host.address().AsSlice()})
	b, err := m.Pack()
	if err != nil {
		return
	}
	// A lost answer is asked for again.
	_, _ = r.conn.WriteTo(b, &net.UDPAddr{IP: mdnsGroup.AsSlice(), Port: mdnsPort})
}

func (r *responder) instance(offer string) string {
	return strings.TrimSuffix(r.name, ".local.") + "." + offer + ".local."
}

func (r *responder) records(name string) (out []dns.RR) {
	for _, o := range r.offers {
		switch name {
		case "_services._dns-sd._udp.local.":
			out = append(out, &dns.PTR{Hdr: record(name, dns.TypePTR), Ptr: o + ".local."})
		case o + ".local.":
			out = append(out, &dns.PTR{Hdr: record(name, dns.TypePTR), Ptr: r.instance(o)})
		}
	}
	if own, err := dns.ReverseAddr(r.host.address().String()); err == nil && own == name {
		out = append(out, &dns.PTR{Hdr: record(name, dns.TypePTR), Ptr: r.name})
	}
	return out
}

func record(name string, kind uint16) dns.RR_Header {
	return dns.RR_Header{Name: name, Rrtype: kind, Class: dns.ClassINET, Ttl: 120}
}

// chatter sends frames of another VLAN, as a trunk port does that a laptop was
// plugged into by mistake.
func (h *host) chatter(ctx context.Context, vlan uint16, own netip.Addr) {
	f := arp.Announce(h.mac, own).Frame()
	tagged := append(append(append([]byte(nil), f[:12]...), 0x81, 0, 0, 0), f[12:]...)
	binary.BigEndian.PutUint16(tagged[14:], vlan)
	for sleep(ctx, time.Second) {
		h.port.Send(tagged)
	}
}
