package field

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A survey that takes too long says so, and names what it has not asked: its silence is nobody's
// absence.
func TestASurveyThatIsCutOffSaysSo(t *testing.T) {
	n, _ := site(t, `
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
	assert.Greater(t, asked, 1000, "%v", found.Unasked)
}
