package survey

import (
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/reach"
	"janustat/internal/reach/reachtest"
)

// hearAll lets a survey without a network hear frames.
func hearAll(t *testing.T, frames ...[]byte) []device.Device {
	r := newRun(t.Context(), Survey{Subnets: NewSubnets(nil, netip.Prefix{}, nil, nil), Log: reachtest.Quiet(), Tell: func(string) {}})
	var ear reach.Ear
	for _, f := range frames {
		h, ok := ear.Hear(f, time.Now())
		require.True(t, ok)
		r.hear(h)
	}
	return device.Merge(r.found.Sightings)
}

func TestWhatDHCPClientsSayIsHeard(t *testing.T) {
	mac := device.MAC{2, 0x7a, 0x11, 0, 9, 1}
	bare, err := dhcpv4.NewDiscovery(mac[:], dhcpv4.WithOption(dhcpv4.OptHostName("locker")), dhcpv4.WithOption(dhcpv4.OptClassIdentifier("tallow")))
	require.NoError(t, err)
	found := hearAll(t, reachtest.UDP(mac, device.Broadcast, "0.0.0.0:68", "255.255.255.255:67", bare.ToBytes()))
	require.Len(t, found, 1)
	assert.Empty(t, found[0].Addresses)
	assert.Equal(t, &device.DHCPClient{VendorClass: "tallow", Host: "locker"}, found[0].Asks)

	// One that renews its lease is heard at its address.
	renew, err := dhcpv4.NewDiscovery(mac[:], dhcpv4.WithMessageType(dhcpv4.MessageTypeRequest), dhcpv4.WithClientIP(net.IPv4(172, 20, 5, 9)))
	require.NoError(t, err)
	found = hearAll(t, reachtest.UDP(mac, device.Broadcast, "172.20.5.9:68", "255.255.255.255:67", renew.ToBytes()))
	require.Len(t, found, 1)
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("172.20.5.9")}, found[0].Addresses)

	// What a relay passes on says nothing of the relay.
	assert.Empty(t, hearAll(t, reachtest.UDP(reachtest.Villain, device.Broadcast, "10.61.8.1:68", "255.255.255.255:67", bare.ToBytes())))
}

func TestADatagramThatARouterBroughtSaysNothingOfTheRouter(t *testing.T) {
	answer := "HTTP/1.1 200 OK\r\nST: urn:schemas-upnp-org:device:MediaServer:1\r\nUSN: uuid:7\r\n\r\n"
	router := device.MAC{2, 0x5c, 0, 0, 0, 1}
	assert.Empty(t, hearAll(t, reachtest.UDP(router, device.MAC{2, 1}, "203.0.113.9:1900", "10.61.8.230:41702", []byte(answer))))
	found := hearAll(t, reachtest.UDP(router, device.MAC{2, 1}, "10.61.8.1:1900", "10.61.8.230:41702", []byte(answer)))
	require.Len(t, found, 1)
	assert.Equal(t, []string{"ssdp:MediaServer"}, found[0].Offers)
}
