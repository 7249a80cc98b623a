package mdns

import (
	"net"
	"net/netip"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// answer is what a printer tells of itself: its instance has a dot and a space.
func answer(t testing.TB) []byte {
	m := new(dns.Msg)
	m.Response = true
	for _, text := range []string{
		`_services._dns-sd._udp.local. 10 IN PTR _ipp._tcp.local.`,
		`_ipp._tcp.local. 10 IN PTR Front\ office\ v1\.2._ipp._tcp.local.`,
		`30.8.61.10.in-addr.arpa. 10 IN PTR printer.local.`,
		`1.0.1.0.0.0.e.f.f.f.2.4.4.e.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.8.e.f.ip6.arpa. 10 IN PTR printer.local.`,
	} {
		rr, err := dns.NewRR(text)
		require.NoError(t, err)
		m.Answer = append(m.Answer, rr)
	}
	hdr := func(name string, kind uint16) dns.RR_Header {
		return dns.RR_Header{Name: name, Rrtype: kind, Class: dns.ClassINET | 1<<15, Ttl: 10} // cache-flush bit
	}
	m.Extra = append(m.Extra,
		&dns.SRV{Hdr: hdr(`Front\ office\ v1\.2._ipp._tcp.local.`, dns.TypeSRV), Target: "printer.local.", Port: 631},
		&dns.A{Hdr: hdr("printer.local.", dns.TypeA), A: net.IPv4(10, 61, 8, 30)},
		&dns.AAAA{Hdr: hdr("printer.local.", dns.TypeAAAA), AAAA: net.ParseIP("fe80::1")})
	b, err := m.Pack()
	require.NoError(t, err)
	return b
}

func TestParse(t *testing.T) {
	m, err := Parse(answer(t))
	require.NoError(t, err)
	assert.Equal(t, Message{
		Types:     []string{"_ipp._tcp"},
		Services:  []Service{{"Front office v1.2", "_ipp._tcp", "printer.local", 631}},
		Addresses: map[string][]netip.Addr{"printer.local": {netip.MustParseAddr("10.61.8.30"), netip.MustParseAddr("fe80::1")}},
		Names: map[netip.Addr]string{
			netip.MustParseAddr("10.61.8.30"):             "printer.local",
			netip.MustParseAddr("fe80::e4:42ff:fe00:101"): "printer.local",
		},
	}, m)
}

func TestQuestions(t *testing.T) {
	names := func(b []byte, err error) (out []string) {
		require.NoError(t, err)
		var m dns.Msg
		require.NoError(t, m.Unpack(b))
		assert.False(t, m.Response)
		for _, q := range m.Question {
			assert.Equal(t, dns.TypePTR, q.Qtype)
			out = append(out, q.Name)
		}
		return out
	}
	assert.Equal(t, []string{everything, "_http._tcp.local."}, names(Browse("_http._tcp")))
	assert.Equal(t, []string{"30.8.61.10.in-addr.arpa."}, names(Reverse(netip.MustParseAddr("10.61.8.30"))))
	assert.Equal(t, []string{"30.8.61.10.in-addr.arpa."}, names(Ask(7, netip.MustParseAddr("10.61.8.30"))))
	_, err := Parse(func() []byte { b, _ := Browse(); return b }())
	assert.ErrorIs(t, err, ErrNotDNS, "a question is no answer")
	_, err = Parse(make([]byte, 10_000))
	assert.ErrorIs(t, err, ErrNotDNS)
}

func FuzzParse(f *testing.F) {
	f.Add(answer(f))
	f.Add([]byte{0, 0, 0x84, 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := Parse(b)
		if err != nil {
			require.ErrorIs(t, err, ErrNotDNS)
			return
		}
		for _, s := range m.Services {
			require.NotEmpty(t, s.Type)
		}
	})
}
