package survey

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/reach/reachtest"
	"janustat/internal/speak/arp"
)

// A survey that takes too long says so, and names what it has not asked: its silence is nobody's
// absence.
func TestASurveyThatIsCutOffSaysSo(t *testing.T) {
	t.Parallel()
	n, _ := reachtest.Site(t, `
site: Slow wire
seed: 3
storm: {broadcasts: 20}
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices: [{id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A}]
others: [{id: pc, role: quiet, mac: "02:5c:00:00:10:01", address: 10.61.8.41/23, count: 60}]
`)
	found := findingsWith(t, n, Survey{Limit: 4 * time.Second})
	assert.True(t, found.CutOff)
	assert.False(t, found.Stopped)
	asked := 0
	for _, u := range found.Unasked {
		asked += u.Addresses
	}
	assert.Greater(t, asked, 2000, "of 2,542, and so few a second can arrive: %v", found.Unasked)
}

// Wherever in its sweeps a survey is cut off, it names what is not known to be asked, or knows that the
// wire has borne its questions.
func TestWhereverASurveyIsCutOffItSaysWhatItHasNotAsked(t *testing.T) {
	t.Parallel()
	cut := 0
	for _, listens := range []time.Duration{50, 200, 400, 800, 1200, 1600, 2000, 2500} {
		n, _ := reachtest.Site(t, `
site: Slow wire
seed: 3
storm: {broadcasts: 20}
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
others: [{id: pc, role: quiet, mac: "02:5c:00:00:10:01", address: 10.61.8.41/23, count: 60}]
`)
		found, err := Survey{
			Net: n, Subnets: NewSubnets(n.Facts().Addresses, netip.Prefix{}, nil, nil), Listen: listens * time.Millisecond, Limit: time.Nanosecond,
			Rate: arp.DefaultRate, Log: reachtest.Quiet(), Tell: func(string) {},
		}.Run(t.Context())
		require.NoError(t, err)
		if found.CutOff {
			cut++
			assert.True(t, len(found.Unasked) > 0 || n.Borne(), "after %d ms", listens)
		}
	}
	assert.NotZero(t, cut)
}

// Where a port is shut by the first questions of all, before anybody has answered one, there is no
// canary whose silence would tell: hosts were heard, none answered, and nothing counts as free.
func TestAPortThatIsShutAtOnceIsToldThoughNobodyHasAnsweredYet(t *testing.T) {
	t.Parallel()
	n, b, _ := reachtest.Plugged(t, `
site: Shut at once
seed: 5
storm: {broadcasts: 100, multicasts: 500, shut: 90s}
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/24]}
devices: [{id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 20}]
others: [{id: pc, role: quiet, mac: "02:5c:00:00:10:01", address: 10.61.8.211/24, count: 5}]
`, "")
	b.Device("dome-1").Restart()
	require.Eventually(t, n.Heard, time.Minute, time.Millisecond, "it says hello")
	found := findingsWith(t, n, Survey{})
	assert.True(t, found.Unshown)
	require.NotEmpty(t, found.Unasked)
	_, limited := n.Broadcasts()
	assert.True(t, limited, "the next run on this wire begins slowly")
}
