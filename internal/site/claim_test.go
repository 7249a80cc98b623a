package site

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/internal/reach/reachtest"
	"janustat/internal/survey"
)

// What another port of a device answers for is its own; what another device does is not.
func TestAClaimKnowsTheDevicesOwnPorts(t *testing.T) {
	t.Parallel()
	n, _, _ := reachtest.Plugged(t, `
site: Ports
seed: 2
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, address: 10.61.8.42/23}
`, "")
	site := &Site{Net: n, Subnets: survey.NewSubnets(n.Facts().Addresses, netip.Prefix{}, nil, nil)}
	there := device.MAC{0x02, 0xe4, 0x42, 0, 1, 1}
	p := commission.Plan{MAC: device.MAC{2, 0, 0, 0, 0, 7}, Target: device.Settings{Address: netip.MustParseAddr("10.61.8.42"), Prefix: 23}}
	require.ErrorIs(t, site.Claim(t.Context(), p).Wait(t.Context()), commission.ErrInUse)
	p.Ports = []device.MAC{p.MAC, there}
	require.NoError(t, site.Claim(t.Context(), p).Wait(t.Context()))
}
