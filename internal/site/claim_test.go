package site

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/internal/reach/reachtest"
	"janustat/internal/speak/arp"
	"janustat/internal/survey"
	"janustat/internal/wire"
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

// A host that answers for any address is told from one that has a single one, though it was heard to
// claim no more than that.
func TestWhoAnswersForAnyAddressIsToldFromWhoHasOne(t *testing.T) {
	t.Parallel()
	culprit := device.MAC{0x02, 0xba, 0xd0, 2, 2, 2}
	for _, c := range []struct {
		name  string
		any   bool
		named bool
	}{{"any", true, true}, {"one", false, false}} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			given := netip.MustParseAddr("10.61.8.42")
			n, _, socket := reachtest.WithSocket(t, `
site: Grasping
seed: 2
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A}
`)
			reachtest.PlugIn(t, socket, func(w *wire.Frames, frame []byte) {
				p, err := arp.Parse(frame)
				if err == nil && p.Op == arp.Request && p.SenderMAC != culprit && (c.any || p.Target == given) {
					_ = w.Write(arp.ReplyTo(p, culprit).Frame())
				}
			})
			site := &Site{Net: n, Subnets: survey.NewSubnets(n.Facts().Addresses, netip.Prefix{}, nil, nil)}
			p := commission.Plan{MAC: device.MAC{2, 0, 0, 0, 0, 7}, Target: device.Settings{Address: given, Prefix: 23}}
			for range 2 { // the second goes by what the first has found out
				err := site.Claim(t.Context(), p).Wait(t.Context())
				require.ErrorIs(t, err, commission.ErrInUse)
				assert.Equal(t, c.named, strings.Contains(err.Error(), "proxy ARP"), "%v", err)
			}
		})
	}
}
