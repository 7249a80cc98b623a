package field

import (
	"crypto/rand"
	"net/netip"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/secret"
	"janustat/internal/job"
)

func taken(id int64, tag string, access device.Access) device.Device {
	return device.Device{
		ID: id, Tag: tag, InJob: device.Taken, MAC: device.MAC{2, 0, 0, 0, 0, byte(id)}, Allotted: &device.Settings{Address: netip.MustParseAddr("10.61.8.42"), Prefix: 23},
		Facts: device.Facts{Access: access},
	}
}

func TestPlansGiveEachDeviceTheRightPassword(t *testing.T) {
	keys := job.NewKeyring(filepath.Join(t.TempDir(), "k"), "x")
	keys.SetSite(secret.New("Site-Old-1"))
	left := taken(9, "C09", device.Fresh)
	left.InJob = device.Left
	devices := []device.Device{
		taken(10, "C10", device.Fresh), taken(2, "C02", device.Fresh), taken(3, "C03", device.Sealed), taken(4, "C04", device.Keyed), taken(5, "C05", device.Fresh), left,
	}
	keys.Set(devices[3].MAC, "root", secret.New("Their-Own-1"))
	sheet := &job.Sheet{}
	plans, changed := Plans(sheet, devices, keys, nil, nil)
	require.True(t, changed)
	password := func(tag string) string {
		for _, p := range plans {
			if p.Tag == tag {
				return p.Password.Reveal()
			}
		}
		return "no plan"
	}
	assert.Equal(t, []string{"C02", "C03", "C04", "C05", "C10"}, tagsOf(plans))
	assert.Equal(t, "Site-Old-1", password("C02"))
	assert.Empty(t, password("C03"), "a sealed device is offered no password made for others")
	assert.Equal(t, "Their-Own-1", password("C04"))
	assert.Equal(t, "no plan", password("C09"))

	// A new site password: for those never sent the old one, and for nobody else.
	keys.SetSite(secret.New("Site-New-2"))
	plans, changed = Plans(sheet, devices, keys, map[int64]bool{2: true}, nil)
	require.True(t, changed)
	assert.Equal(t, "Site-Old-1", password("C02"), "it may have been given this one already")
	assert.Equal(t, "Site-New-2", password("C05"))
	assert.Equal(t, "Their-Own-1", password("C04"))
	_, changed = Plans(sheet, devices, keys, map[int64]bool{2: true}, nil)
	assert.False(t, changed)
}

func tagsOf(plans []commission.Plan) (out []string) {
	for _, p := range plans {
		out = append(out, p.Tag)
	}
	return out
}

func TestSitePasswordFitsEveryTakenDevice(t *testing.T) {
	strict := taken(1, "C01", device.Fresh)
	strict.Rules = &secret.Rules{MinLen: 15, Upper: 3, Digits: 3, Special: 2}
	other := taken(2, "C02", device.Fresh)
	other.InJob = device.Left
	other.Rules = &secret.Rules{MinLen: 40}
	sheet := &job.Sheet{}
	p, err := SitePassword(sheet, []device.Device{strict, other}, rand.Reader)
	require.NoError(t, err)
	require.NoError(t, strict.Rules.Judge(p, "admin"))
	other.InJob = device.Taken
	_, err = SitePassword(sheet, []device.Device{strict, other}, rand.Reader)
	require.ErrorContains(t, err, "C02")
}
