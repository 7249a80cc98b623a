// Package mdns codes multicast DNS and DNS service discovery (RFC 6762, RFC
// 6763), and the reverse questions that plain DNS servers answer as well (RFC
// 1035, 3.5). It touches bytes only; the messages themselves are a library's.
package mdns

import (
	"errors"
	"net/netip"
	"slices"
	"strings"

	"github.com/miekg/dns"
)

// Port of multicast DNS (RFC 6762, 3); PlainPort is that of DNS servers.
const (
	Port      = 5353
	PlainPort = 53
)

// The groups of multicast DNS (RFC 6762, 3).
var (
	Group4 = netip.AddrFrom4([4]byte{224, 0, 0, 251})
	Group6 = netip.MustParseAddr("ff02::fb")
)

// everything asks which types of service there are (RFC 6763, 9).
const everything = "_services._dns-sd._udp.local."

// Bounds on one message: it fits into a datagram of a jumbo frame (RFC 6762, 17).
const (
	maxMessage   = 9000
	maxRecords   = 512
	maxQuestions = 24 // for which the answers still fit
)

// ErrNotDNS is returned for what is no DNS message with answers.
var ErrNotDNS = errors.New("not a DNS answer")

// Service is one instance of a service.
type Service struct {
	Instance string // what people read, such as "Front office printer"
	Type     string // such as _ipp._tcp
	Host     string // such as printer.local
	Port     uint16
}

// Message is what an answer says.
type Message struct {
	Types     []string                // of service, as answers to Browse
	Services  []Service               // sorted by type and instance
	Addresses map[string][]netip.Addr // of hosts
	Names     map[netip.Addr]string   // of addresses
}

// Browse asks for all types of service, and for the instances of some.
func Browse(types ...string) ([]byte, error) {
	names := []string{everything}
	for _, t := range types {
		names = append(names, dns.Fqdn(t+".local"))
	}
	return question(names)
}

// Reverse asks for the names of addresses; no more than MaxReverse at once.
func Reverse(addresses ...netip.Addr) ([]byte, error) {
	var names []string
	for _, a := range addresses {
		name, err := dns.ReverseAddr(a.WithZone("").String())
		if err != nil {
			return nil, err
		}
		names = append(names, name)
	}
	return question(names)
}

// MaxReverse is how many addresses fit into one reverse question.
const MaxReverse = maxQuestions

func question(names []string) ([]byte, error) {
	m := new(dns.Msg)
	for _, name := range names[:min(len(names), maxQuestions)] {
		m.Question = append(m.Question, dns.Question{Name: name, Qtype: dns.TypePTR, Qclass: dns.ClassINET})
	}
	return m.Pack()
}

// Ask builds one reverse question for a DNS server, which takes one at a time.
func Ask(id uint16, a netip.Addr) ([]byte, error) {
	name, err := dns.ReverseAddr(a.String())
	if err != nil {
		return nil, err
	}
	m := new(dns.Msg)
	m.SetQuestion(name, dns.TypePTR)
	m.Id = id
	return m.Pack()
}

// Parse reads an answer. Records of other kinds are passed over.
func Parse(payload []byte) (Message, error) {
	var m dns.Msg
	if len(payload) > maxMessage || m.Unpack(payload) != nil || !m.Response || m.Rcode != dns.RcodeSuccess {
		return Message{}, ErrNotDNS
	}
	out := Message{Addresses: map[string][]netip.Addr{}, Names: map[netip.Addr]string{}}
	records := slices.Concat(m.Answer, m.Extra)
	for _, rr := range records[:min(len(records), maxRecords)] {
		out.take(rr)
	}
	slices.Sort(out.Types)
	out.Types = slices.Compact(out.Types)
	slices.SortFunc(out.Services, func(a, b Service) int {
		return strings.Compare(a.Type+"\x00"+a.Instance, b.Type+"\x00"+b.Instance)
	})
	return out, nil
}

func (m *Message) take(rr dns.RR) {
	name := plain(rr.Header().Name)
	switch r := rr.(type) {
	case *dns.PTR:
		switch a, ok := reversed(rr.Header().Name); {
		case ok:
			m.Names[a] = plain(r.Ptr)
		case strings.EqualFold(rr.Header().Name, everything):
			m.Types = append(m.Types, withoutDomain(plain(r.Ptr)))
		case strings.HasPrefix(name, "_"):
			m.service(plain(r.Ptr), func(*Service) {})
		}
	case *dns.SRV:
		m.service(name, func(s *Service) { s.Host, s.Port = plain(r.Target), r.Port })
	case *dns.A:
		if a, ok := netip.AddrFromSlice(r.A.To4()); ok {
			m.Addresses[name] = append(m.Addresses[name], a)
		}
	case *dns.AAAA:
		if a, ok := netip.AddrFromSlice(r.AAAA.To16()); ok {
			m.Addresses[name] = append(m.Addresses[name], a)
		}
	}
}

// service finds or adds the instance of a full name, such as
// "Front office._ipp._tcp.local", and lets f fill it in.
func (m *Message) service(full string, f func(*Service)) {
	labels := dns.SplitDomainName(dns.Fqdn(full))
	at := slices.IndexFunc(labels, func(l string) bool { return strings.HasPrefix(l, "_") })
	if at < 1 || at+1 >= len(labels) {
		return
	}
	s := Service{Instance: unescape(strings.Join(labels[:at], ".")), Type: labels[at] + "." + labels[at+1]}
	i := slices.IndexFunc(m.Services, func(x Service) bool { return x.Instance == s.Instance && x.Type == s.Type })
	if i < 0 {
		i = len(m.Services)
		m.Services = append(m.Services, s)
	}
	f(&m.Services[i])
}

func plain(name string) string { return strings.TrimSuffix(name, ".") }

func withoutDomain(t string) string { return strings.TrimSuffix(t, ".local") }

// unescape resolves the escapes of presentation form (RFC 1035, 5.1).
func unescape(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		switch {
		case s[i] != '\\':
			b.WriteByte(s[i])
		case i+3 < len(s) && digit(s[i+1]) && digit(s[i+2]) && digit(s[i+3]):
			b.WriteByte((s[i+1]-'0')*100 + (s[i+2]-'0')*10 + s[i+3] - '0')
			i += 3
		case i+1 < len(s):
			b.WriteByte(s[i+1])
			i++
		}
	}
	return strings.ToValidUTF8(b.String(), "�")
}

func digit(c byte) bool { return c >= '0' && c <= '9' }

// reversed reads the address out of a reverse name (RFC 1035, 3.5; RFC 3596, 2.5).
func reversed(name string) (netip.Addr, bool) {
	labels := dns.SplitDomainName(strings.ToLower(name))
	slices.Reverse(labels)
	if len(labels) < 2 || labels[0] != "arpa" {
		return netip.Addr{}, false
	}
	rest, text := labels[2:], ""
	switch {
	case labels[1] == "in-addr" && len(rest) == 4:
		text = strings.Join(rest, ".")
	case labels[1] == "ip6" && len(rest) == 32:
		for i := 0; i < len(rest); i += 4 {
			text += ":" + strings.Join(rest[i:i+4], "")
		}
		text = text[1:]
	}
	a, err := netip.ParseAddr(text)
	return a, err == nil
}
