package ground

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func prefix(s string) netip.Prefix { return netip.MustParsePrefix(s) }
func addr(s string) netip.Addr {
	if s == "" {
		return netip.Addr{}
	}
	return netip.MustParseAddr(s)
}

func TestCheckRefusesWhatWouldStrand(t *testing.T) {
	for _, c := range []struct {
		name, subnet, address, gateway string
		refused                        string // part of the reason; empty when fine
	}{
		{"fine", "10.61.8.0/23", "10.61.8.42", "10.61.8.1", ""},
		{"no gateway", "10.61.8.0/23", "10.61.8.42", "", ""},
		{"last host of a /23", "10.61.8.0/23", "10.61.9.254", "10.61.8.1", ""},
		{"middle of a /23 is a host", "10.61.8.0/23", "10.61.8.255", "10.61.8.1", ""},
		{"narrowest", "10.0.0.0/30", "10.0.0.2", "10.0.0.1", ""},
		{"widest", "10.0.0.0/8", "10.255.255.254", "10.0.0.1", ""},
		{"gateway outside", "10.61.8.0/24", "10.61.8.42", "10.61.9.1", "outside the subnet"},
		{"address outside", "10.61.8.0/24", "10.61.9.42", "10.61.8.1", "outside the subnet"},
		{"network address", "10.61.8.0/23", "10.61.8.0", "10.61.8.1", "host part zero"},
		{"broadcast address", "10.61.8.0/23", "10.61.9.255", "10.61.8.1", "broadcast"},
		{"gateway is the broadcast", "10.61.8.0/24", "10.61.8.4", "10.61.8.255", "broadcast"},
		{"address is the gateway", "10.61.8.0/24", "10.61.8.1", "10.61.8.1", "gateway's own"},
		{"mask too wide", "8.0.0.0/7", "9.0.0.1", "", "outside /8 to /30"},
		{"mask too narrow", "10.0.0.0/31", "10.0.0.1", "", "outside /8 to /30"},
		{"loopback", "127.0.0.0/8", "127.0.0.2", "", "not for hosts"},
		{"multicast", "239.0.0.0/8", "239.0.0.2", "", "not for hosts"},
		{"IPv6", "fd00::/64", "fd00::2", "", "not an IPv4 subnet"},
	} {
		t.Run(c.name, func(t *testing.T) {
			err := Check(prefix(c.subnet), addr(c.address), addr(c.gateway))
			if c.refused == "" {
				require.NoError(t, err)
				return
			}
			require.ErrorIs(t, err, ErrStrand)
			assert.ErrorContains(t, err, c.refused)
		})
	}
}

func TestPrefixFromMask(t *testing.T) {
	for mask, want := range map[string]int{"255.255.254.0": 23, "255.0.0.0": 8, "255.255.255.252": 30, "0.0.0.0": 0, "255.255.255.255": 32} {
		got, err := PrefixFromMask(addr(mask))
		require.NoError(t, err, mask)
		assert.Equal(t, want, got, mask)
		assert.Equal(t, addr(mask), Mask(want))
	}
	for _, mask := range []string{"255.0.255.0", "255.255.255.1", "0.255.0.0"} {
		_, err := PrefixFromMask(addr(mask))
		assert.ErrorIs(t, err, ErrStrand, mask)
	}
}

func TestParseSubnet(t *testing.T) {
	for _, s := range []string{"10.61.8.0/23", "10.61.8.0/255.255.254.0"} {
		p, err := ParseSubnet(s)
		require.NoError(t, err, s)
		assert.Equal(t, prefix("10.61.8.0/23"), p)
	}
	for s, says := range map[string]string{
		"10.61.8.0": "Write it as", "10.61.8.0/": "Write it as", "ten/23": "Write it as", "ten/255.0.0.0": "Write it as", "10.0.0.0/255.x": "Write it as",
		"10.61.8.0/255.0.255.0": "has holes", "10.0.0.0/7": "outside /8 to /30", "10.0.0.0/255.255.255.255": "outside /8 to /30",
	} {
		_, err := ParseSubnet(s)
		assert.ErrorContains(t, err, says, s)
	}
}

func TestRange(t *testing.T) {
	r := Range{addr("10.0.0.250"), addr("10.0.1.5")}
	assert.Equal(t, 12, r.Len())
	assert.True(t, r.Contains(addr("10.0.1.0")))
	assert.False(t, r.Contains(addr("10.0.1.6")))
	assert.True(t, r.Overlaps(One(addr("10.0.0.250"))))
	assert.False(t, r.Overlaps(One(addr("10.0.0.249"))))
	assert.Equal(t, "10.0.0.250–10.0.1.5", r.String())
	assert.Equal(t, "10.0.0.1", One(addr("10.0.0.1")).String())
}
