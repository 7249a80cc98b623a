// Package surveytest surveys for tests of what comes after.
package surveytest

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/reach"
	"janustat/internal/reach/reachtest"
	"janustat/internal/speak/arp"
	"janustat/internal/survey"
)

// Devices surveys a site.
func Devices(t testing.TB, n *reach.Net) []device.Device {
	t.Helper()
	f, err := survey.Survey{
		Net: n, Subnets: survey.NewSubnets(n.Facts().Addresses, netip.Prefix{}, nil, nil), Listen: survey.DefaultListen, Rate: arp.DefaultRate,
		Log: reachtest.Quiet(), Tell: func(string) {},
	}.Run(t.Context())
	require.NoError(t, err)
	return device.Merge(f.Sightings)
}
