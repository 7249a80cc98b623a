package dhcp

import (
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
)

var (
	own = device.MAC{2, 0, 0, 0, 0, 1}
	id  = [4]byte{1, 2, 3, 4}
)

func offer(t testing.TB, kind dhcpv4.MessageType, more ...dhcpv4.Modifier) []byte {
	ask, err := Discover(own, id)
	require.NoError(t, err)
	m, err := dhcpv4.FromBytes(ask)
	require.NoError(t, err)
	require.Equal(t, dhcpv4.MessageTypeDiscover, m.MessageType())
	require.True(t, m.IsBroadcast())
	r, err := dhcpv4.NewReplyFromRequest(m, append([]dhcpv4.Modifier{
		dhcpv4.WithMessageType(kind), dhcpv4.WithYourIP(net.IPv4(10, 61, 9, 100)),
		dhcpv4.WithOption(dhcpv4.OptServerIdentifier(net.IPv4(10, 61, 8, 2))),
		dhcpv4.WithNetmask(net.CIDRMask(23, 32)), dhcpv4.WithRouter(net.IPv4(10, 61, 8, 1)), dhcpv4.WithLeaseTime(7200),
	}, more...)...)
	require.NoError(t, err)
	return r.ToBytes()
}

func TestParseOffer(t *testing.T) {
	o, err := ParseOffer(offer(t, dhcpv4.MessageTypeOffer), id)
	require.NoError(t, err)
	assert.Equal(t, Offer{
		Server: netip.MustParseAddr("10.61.8.2"), Address: netip.MustParseAddr("10.61.9.100"),
		Subnet: netip.MustParsePrefix("10.61.8.0/23"), Gateway: netip.MustParseAddr("10.61.8.1"), Lease: 2 * time.Hour,
	}, o)
}

func TestParseOfferRefuses(t *testing.T) {
	good := offer(t, dhcpv4.MessageTypeOffer)
	for name, b := range map[string][]byte{
		"an acknowledgement": offer(t, dhcpv4.MessageTypeAck), "empty": nil, "cut off": good[:200],
		"no address": offer(t, dhcpv4.MessageTypeOffer, dhcpv4.WithYourIP(net.IPv4zero)),
	} {
		_, err := ParseOffer(b, id)
		assert.ErrorIs(t, err, ErrNoOffer, name)
	}
	_, err := ParseOffer(good, [4]byte{9})
	assert.ErrorIs(t, err, ErrNoOffer, "someone else's")
}

func FuzzParseOffer(f *testing.F) {
	f.Add(offer(f, dhcpv4.MessageTypeOffer))
	f.Fuzz(func(t *testing.T, b []byte) {
		if o, err := ParseOffer(b, id); err == nil {
			require.True(t, o.Address.IsValid())
		}
	})
}
