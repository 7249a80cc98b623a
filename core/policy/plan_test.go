package policy

import (
	"crypto/rand"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/evidence"
	"janustat/core/keys"
	"janustat/core/secret"
	"janustat/core/sheet"
)

func taken(id int64, tag string, access device.Access) device.Device {
	return device.Device{
		ID: id, Tag: tag, InJob: device.Taken, MAC: device.MAC{2, 0, 0, 0, 0, byte(id)}, Allotted: &device.Settings{Address: netip.MustParseAddr("10.61.8.42"), Prefix: 23},
		Facts: device.Facts{Access: access},
	}
}

func TestPlansGiveEachDeviceTheRightPassword(t *testing.T) {
	keys := keys.NewRing()
	keys.SetSite(secret.New("Site-Old-1"))
	left := taken(9, "C09", device.Fresh)
	left.InJob = device.Left
	devices := []device.Device{
		taken(10, "C10", device.Fresh), taken(2, "C02", device.Fresh), taken(3, "C03", device.Sealed), taken(4, "C04", device.Keyed), taken(5, "C05", device.Fresh), left,
	}
	keys.Set(devices[3].MAC, "root", secret.New("Their-Own-1"))
	sheet := &sheet.Sheet{Password: sheet.PasswordPolicy{Style: sheet.Shared}}
	planOf := func(maybeKeyed map[int64]bool) (plans []commission.Plan, changed bool) {
		p := Planner{Sheet: sheet, Keys: keys, MaybeKeyed: maybeKeyed, Random: rand.Reader, Now: time.Now}
		return p.Plans(devices), p.Changed
	}
	plans, changed := planOf(nil)
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
	plans, changed = planOf(map[int64]bool{2: true})
	require.True(t, changed)
	assert.Equal(t, "Site-Old-1", password("C02"), "it may have been given this one already")
	assert.Equal(t, "Site-New-2", password("C05"))
	assert.Equal(t, "Their-Own-1", password("C04"))
	_, changed = planOf(map[int64]bool{2: true})
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
	sheet := &sheet.Sheet{}
	p, err := SitePassword(sheet, []device.Device{strict, other}, rand.Reader)
	require.NoError(t, err)
	require.NoError(t, strict.Rules.Judge(p, "admin"))
	other.InJob = device.Taken
	other.Rules = &secret.Rules{MinLen: 60}
	_, err = SitePassword(sheet, []device.Device{strict, other}, rand.Reader)
	require.ErrorContains(t, err, "C02")
}

func TestStyles(t *testing.T) {
	panel := taken(7, "P01", device.Fresh)
	panel.Kind = device.Panel
	panel.Rules = &secret.Rules{Special: 2}
	devices := []device.Device{taken(1, "C01", device.Fresh), taken(2, "C02", device.Fresh), panel}
	for i := range 2 {
		devices[i].Kind = device.Camera
	}
	passwords := func(style sheet.Style, keys *keys.Ring) (out []string) {
		p := Planner{Sheet: &sheet.Sheet{Password: sheet.PasswordPolicy{Style: style}}, Keys: keys, Random: rand.Reader, Now: time.Now}
		for _, x := range p.Plans(devices) {
			require.NoError(t, secret.Sane.Judge(x.Password, "admin"))
			_, kept, ok := keys.For(x.MAC)
			assert.True(t, ok)
			assert.Equal(t, x.Password, kept)
			out = append(out, x.Password.Reveal())
		}
		return out
	}
	ring := func() *keys.Ring { return keys.NewRing() }
	shared := passwords(sheet.Shared, ring())
	assert.Equal(t, shared[0], shared[2])
	kinds := passwords(sheet.ByKind, ring())
	assert.Equal(t, kinds[0], kinds[1])
	assert.NotEqual(t, kinds[0], kinds[2])
	keys := ring()
	each := passwords(sheet.Each, keys)
	assert.NotEqual(t, each[0], each[1])
	assert.Equal(t, each, passwords(sheet.Each, keys), "planned again, they stay")
}

func TestFactoryAndEarlierKeysAreForSealedDevicesAlone(t *testing.T) {
	keys := keys.NewRing()
	keys.AddEarlier("admin", secret.New("Earlier-9"))
	sheet := &sheet.Sheet{Password: sheet.PasswordPolicy{Factory: []sheet.FactoryKey{{User: "root", Password: "factory-1"}}}}
	devices := []device.Device{taken(1, "C01", device.Fresh), taken(2, "C02", device.Sealed)}
	p := Planner{Sheet: sheet, Keys: keys, Random: rand.Reader, Now: time.Now}
	plans := p.Plans(devices)
	assert.Empty(t, plans[0].Others)
	require.Len(t, plans[1].Others, 2)
	assert.Equal(t, []commission.Origin{commission.FromEarlier, commission.FromFactory}, []commission.Origin{plans[1].Others[0].Origin, plans[1].Others[1].Origin})
	assert.False(t, plans[1].Replace.IsZero(), "what replaces a factory password is on the keyring before it is tried")
	next, ok := keys.Next(devices[1].MAC)
	assert.True(t, ok)
	assert.Equal(t, plans[1].Replace, next.Password)

	// What was refused is not tried again; what opened becomes its own.
	refused, _ := evidence.Prove(evidence.Of(evidence.ByPath), plans[1].Others[0])
	require.True(t, TakeKeys(keys, commission.Result{Plan: plans[1], Refused: []evidence.Proven[commission.Credential]{refused}}, p.Now()))
	// What replaces it is tried as far as the journal says that it may have been sent.
	for _, c := range []struct {
		sent Sent
		own  bool
		want []commission.Origin
	}{
		{Sent{}, false, []commission.Origin{commission.FromFactory}},
		{Sent{At: time.Now().Add(-time.Hour), Confirmed: true}, false, []commission.Origin{commission.FromFactory}}, // of an earlier change
		{Sent{At: time.Now()}, false, []commission.Origin{commission.FromChange, commission.FromFactory}},
		{Sent{At: time.Now(), Confirmed: true}, true, []commission.Origin{commission.FromFactory}},
	} {
		p.Progress = map[int64]Progress{2: {Rekey: c.sent}}
		plans = p.Plans(devices)
		origins := []commission.Origin{}
		for _, o := range plans[1].Others {
			origins = append(origins, o.Origin)
		}
		assert.Equal(t, c.want, origins, "%+v", c.sent)
		assert.Equal(t, c.own, plans[1].Password == next.Password, "%+v", c.sent)
		assert.Equal(t, next.Password, plans[1].Replace)
	}
	require.True(t, TakeKeys(keys, commission.Result{Plan: plans[1], Opened: true, Key: next}, p.Now()))
	_, own, _ := keys.For(devices[1].MAC)
	assert.Equal(t, next.Password, own)
	_, changing := keys.Next(devices[1].MAC)
	assert.False(t, changing)
}
