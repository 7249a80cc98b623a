package policy

import (
	"crypto/rand"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/core/keys"
	"janustat/core/secret"
	"janustat/core/sheet"
)

// Of a job whose devices share a password all are set up at first, and one that comes later is kept
// out of it until a person admits it; where each has its own, nobody is.
func TestAPasswordThatOthersHaveIsGivenToNoNewcomer(t *testing.T) {
	plans := func(style sheet.Style, opened, admit bool) (newcomers []string, stopped int) {
		keys := keys.NewRing()
		keys.SetSite(secret.New("Site-Old-1"))
		devices := []device.Device{taken(1, "C01", device.Fresh), taken(2, "C02", device.Fresh)}
		if opened {
			devices[0].Access, devices[0].OpenedAt = device.Keyed, time.Now()
			keys.Set(devices[0].MAC, "admin", secret.New("Site-Old-1"))
		}
		p := Planner{Sheet: &sheet.Sheet{Password: sheet.PasswordPolicy{Style: style}}, Keys: keys, Random: rand.Reader, Now: time.Now, All: devices, AdmitNewcomers: admit}
		all := p.Plans(devices)
		require.Len(t, all, 2)
		for _, plan := range all {
			if plan.Stop != nil {
				stopped++
				assert.True(t, plan.Password.IsZero(), plan.Tag)
			}
		}
		return p.Newcomers, stopped
	}
	newcomers, stopped := plans(sheet.Shared, false, false)
	assert.Empty(t, newcomers)
	assert.Zero(t, stopped, "a second device of a new job")
	newcomers, stopped = plans(sheet.Shared, true, false)
	assert.Equal(t, []string{"C02"}, newcomers)
	assert.Equal(t, 1, stopped)
	newcomers, stopped = plans(sheet.Shared, true, true)
	assert.Empty(t, newcomers)
	assert.Zero(t, stopped)
	newcomers, _ = plans(sheet.Each, true, false)
	assert.Empty(t, newcomers)
}
