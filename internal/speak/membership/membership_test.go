package membership

import (
	"encoding/hex"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
)

var own = device.MAC{2, 0, 0, 0, 0, 1}

func octets(t testing.TB, s string) []byte {
	b, err := hex.DecodeString(strings.NewReplacer(" ", "", "\n", "", "\t", "").Replace(s))
	require.NoError(t, err)
	return b
}

// The frames are worked out by hand from RFC 3376, 4.1, and RFC 3810, 5.1.
func TestQueriesAreThoseOfTheStandards(t *testing.T) {
	assert.Equal(t, octets(t, `01005e000001 020000000001 0800
		46c00024 00000000 0102 4413 00000000 e0000001 94040000
		1104 ec7e 00000000 027d 0000`), Query4(own))
	assert.Equal(t, octets(t, `333300000001 020000000001 86dd
		60000000 0024 00 01 fe80000000000000ffff000000000001 ff020000000000000000000000000001
		3a00 05020000 0100
		8200 7c16 0190 0000 00000000000000000000000000000000 027d 0000`), Query6(own, netip.MustParseAddr("fe80::ffff:0:0:1")))
}

func TestAReportOfAHostWithoutAddress(t *testing.T) {
	f := Report4(own, netip.IPv4Unspecified(), netip.MustParseAddr("239.255.255.250"))
	kind, from := Of(f)
	assert.Equal(t, Report, kind)
	assert.True(t, from.IsUnspecified())
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("239.255.255.250")}, Groups(f))
	assert.Equal(t, octets(t, "2200 ea03 00000001 04000000 effffffa"), f[len(f)-16:])
}

func TestWhatIsHeard(t *testing.T) {
	v4 := func(kind string) string {
		return `01005e000016 020000000002 0800 46c00028 00004000 0102 0000 0a3d0817 e0000016 94040000 ` + kind + `00 0000 00000001 04000000 effffffa`
	}
	v6 := `333300000016 020000000002 86dd 60000000 0024 00 01 fe80000000000000 00000000000000aa ff020000000000000000000000000016 3a00050200000100 8f000000 00000001 04000000 ff020000000000000000000000000001`
	for name, c := range map[string]struct {
		frame string
		kind  Kind
		from  string
	}{
		"a report of version 3": {v4("22"), Report, "10.61.8.23"},
		"one of version 2":      {v4("16"), Report, "10.61.8.23"},
		"one of version 1":      {v4("12"), Report, "10.61.8.23"},
		"a host that leaves":    {v4("17"), None, "10.61.8.23"},
		"one without address":   {strings.Replace(v4("22"), "0a3d0817", "00000000", 1), Report, "0.0.0.0"},
		"a query":               {hex.EncodeToString(Query4(own)), Query, "0.0.0.0"},
		"an MLD report":         {v6, Report, "fe80::aa"},
		"an MLD query":          {hex.EncodeToString(Query6(own, netip.MustParseAddr("fe80::1"))), Query, "fe80::1"},
		"nothing":               {"", None, "invalid IP"},
		"a header cut short":    {v4("22")[:100], None, "invalid IP"},
		"a datagram":            {strings.Replace(v4("22"), "0102 0000", "0111 0000", 1), None, "invalid IP"},
	} {
		t.Run(name, func(t *testing.T) {
			kind, from := Of(octets(t, c.frame))
			assert.Equal(t, c.kind, kind)
			assert.Equal(t, c.from, from.String())
			if kind == Report && from.Is6() {
				assert.Equal(t, []netip.Addr{netip.MustParseAddr("ff02::1")}, Groups(octets(t, c.frame)))
			}
		})
	}
}

func FuzzOf(f *testing.F) {
	f.Add(Query4(own))
	f.Add(Query6(own, netip.MustParseAddr("fe80::1")))
	f.Fuzz(func(t *testing.T, b []byte) {
		if kind, from := Of(b); kind != None {
			assert.True(t, from.IsValid())
		}
		for _, g := range Groups(b) {
			assert.True(t, g.IsMulticast())
		}
	})
}
