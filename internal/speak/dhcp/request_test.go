package dhcp

import (
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// asks is what a camera's client sends.
func asks(t testing.TB, kind dhcpv4.MessageType, more ...dhcpv4.Modifier) []byte {
	m, err := dhcpv4.NewDiscovery(own[:], append([]dhcpv4.Modifier{
		dhcpv4.WithMessageType(kind), dhcpv4.WithOption(dhcpv4.OptHostName("porch\x07cam")),
		dhcpv4.WithOption(dhcpv4.OptClassIdentifier("oakhollow-boot")),
		dhcpv4.WithOption(dhcpv4.OptClientIdentifier([]byte{1, 2, 0xab})),
	}, more...)...)
	require.NoError(t, err)
	return m.ToBytes()
}

func TestParseRequest(t *testing.T) {
	r, err := ParseRequest(asks(t, dhcpv4.MessageTypeDiscover))
	require.NoError(t, err)
	r.message = nil
	assert.Equal(t, Request{Kind: Wants, MAC: own, VendorClass: "oakhollow-boot", Host: "porchcam", ClientID: "0102ab"}, r)

	r, err = ParseRequest(asks(t, dhcpv4.MessageTypeRequest, dhcpv4.WithOption(dhcpv4.OptRequestedIPAddress(net.IPv4(10, 61, 8, 41)))))
	require.NoError(t, err)
	assert.Equal(t, Takes, r.Kind)
	assert.Equal(t, netip.MustParseAddr("10.61.8.41"), r.Address)

	for name, b := range map[string][]byte{
		"a server's": offer(t, dhcpv4.MessageTypeOffer), "empty": nil, "of no kind": asks(t, dhcpv4.MessageTypeInform),
	} {
		_, err := ParseRequest(b)
		assert.ErrorIs(t, err, ErrNoRequest, name)
	}
}

func TestAnswers(t *testing.T) {
	r, err := ParseRequest(asks(t, dhcpv4.MessageTypeDiscover))
	require.NoError(t, err)
	l := Lease{
		Server: netip.MustParseAddr("10.61.8.230"), Address: netip.MustParseAddr("10.61.8.41"),
		Subnet: netip.MustParsePrefix("10.61.8.0/23"), Gateway: netip.MustParseAddr("10.61.8.1"),
		DNS: []netip.Addr{netip.MustParseAddr("10.61.8.3")}, NTP: []netip.Addr{netip.MustParseAddr("10.61.8.4")}, Time: time.Hour,
	}
	b, err := r.Offer(l)
	require.NoError(t, err)
	got, err := ParseOffer(b, [4]byte(r.message.TransactionID))
	require.NoError(t, err)
	assert.Equal(t, Offer{Server: l.Server, Address: l.Address, Subnet: l.Subnet, Gateway: l.Gateway, DNS: l.DNS, NTP: l.NTP, Lease: l.Time}, got)

	b, err = r.Ack(l)
	require.NoError(t, err)
	from, ok := FromServer(b)
	assert.True(t, ok)
	assert.Equal(t, l.Server, from)
	b, err = r.Nak(l.Server)
	require.NoError(t, err)
	m, err := dhcpv4.FromBytes(b)
	require.NoError(t, err)
	assert.Equal(t, dhcpv4.MessageTypeNak, m.MessageType())
	_, ok = FromServer(asks(t, dhcpv4.MessageTypeDiscover))
	assert.False(t, ok)
}

func FuzzParseRequest(f *testing.F) {
	f.Add(asks(f, dhcpv4.MessageTypeDiscover))
	f.Fuzz(func(t *testing.T, b []byte) {
		r, err := ParseRequest(b)
		if err != nil {
			return
		}
		require.LessOrEqual(t, len([]rune(r.Host)), maxText)
		answer, err := r.Offer(Lease{Server: netip.MustParseAddr("10.0.0.1"), Address: netip.MustParseAddr("10.0.0.2"), Subnet: netip.MustParsePrefix("10.0.0.0/24")})
		if err == nil {
			_, ok := FromServer(answer)
			require.True(t, ok)
		}
	})
}
