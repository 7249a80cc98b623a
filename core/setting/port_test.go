package setting

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPortsOfASheet(t *testing.T) {
	at := netip.MustParsePrefix("10.61.9.41/23")
	for said, want := range map[string]uint16{"8554": 8554, " 554 ": 554, "5000+": 5000 + 256 + 41, "61000+": 61000 + 256 + 41} {
		p, err := ReadPorts(said, 554, 80)
		require.NoError(t, err, said)
		port, err := p.Of(at)
		require.NoError(t, err, said)
		assert.Equal(t, want, port, said)
	}
	for _, said := range []string{"", "0", "80", "65536", "-1", "5000++", "80+", "61001+", "x", "5000 +1"} {
		_, err := ReadPorts(said, 554, 80)
		assert.Error(t, err, said)
	}
	_, err := Ports{61000, true}.Of(netip.MustParsePrefix("10.61.255.41/16"))
	assert.ErrorContains(t, err, "ports end at 65535")
}

// Two meet exactly where two addresses of the subnet, or one, have the same port.
func TestPortsThatMeet(t *testing.T) {
	subnet := netip.MustParsePrefix("10.61.8.0/26")
	all := []Ports{{8000, false}, {8063, false}, {8064, false}, {8000, true}, {8063, true}, {8064, true}, {7937, true}}
	for _, p := range all {
		for _, o := range all {
			meets := false
			for i, a := 0, subnet.Addr(); i < 64; i, a = i+1, a.Next() {
				for k, b := 0, subnet.Addr(); k < 64; k, b = k+1, b.Next() {
					x, err := p.Of(netip.PrefixFrom(a, 26))
					require.NoError(t, err)
					y, err := o.Of(netip.PrefixFrom(b, 26))
					require.NoError(t, err)
					meets = meets || x == y
				}
			}
			assert.Equal(t, meets, p.Meets(o, subnet), "%v %v", p, o)
		}
	}
}
