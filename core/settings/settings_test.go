package settings

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"janustat/core/setting"
	"janustat/core/settings/rtspport"
	"janustat/core/settings/zone"
)

func TestWhatASheetMaySay(t *testing.T) {
	for said, ok := range map[string]bool{
		"554": true, "8554": true, "5000+": true, " 5000+ ": true, "1024+": true, "61000+": true,
		"": false, "0": false, "65536": false, "80": false, "443": false, "rtsp": false, "5000-": false, "80+": false, "65000+": false, "+": false, "-1": false,
	} {
		assert.Equal(t, ok, rtspport.Setting.Check(said) == nil, "%q", said)
	}
	for said, ok := range map[string]bool{"GMT0BST,M3.5.0/1,M10.5.0": true, "CET-1": true, "Europe/Quay": false, "summer": false} {
		assert.Equal(t, ok, zone.Setting.Check(said) == nil, "%q", said)
	}
}

func TestWhatADeviceIsToHave(t *testing.T) {
	at := netip.MustParsePrefix
	for _, c := range []struct {
		said string
		d    setting.Device
		want string
	}{
		{"5000+", setting.Device{Camera: true, Address: at("10.61.8.41/24")}, "5041"},
		{"5000+", setting.Device{Camera: true, Address: at("10.61.9.41/23")}, "5297"},
		{"8554", setting.Device{Camera: true, Address: at("10.61.9.41/23")}, "8554"},
		{"5000+", setting.Device{Address: at("10.61.8.41/24")}, ""},
		{"", setting.Device{Camera: true, Address: at("10.61.8.41/24")}, ""},
	} {
		got, wrong := Wanted(setting.Values{rtspport.Name: c.said}, c.d)
		assert.Empty(t, wrong)
		assert.Equal(t, c.want, got[rtspport.Name], "%q", c.said)
	}
	// No two hosts of a subnet get the same port.
	seen := map[string]bool{}
	subnet := at("10.61.0.0/20")
	for a := subnet.Addr().Next(); subnet.Contains(a); a = a.Next() {
		got, _ := Wanted(setting.Values{rtspport.Name: "61000+"}, setting.Device{Camera: true, Address: netip.PrefixFrom(a, 20)})
		port := got[rtspport.Name]
		assert.NotEmpty(t, port, a)
		assert.False(t, seen[port], a)
		seen[port] = true
	}
}

// In a wide subnet a base can be too high for some: that is said, and no port is made up.
func TestAPortThatThereIsNotIsSaid(t *testing.T) {
	got, wrong := Wanted(setting.Values{rtspport.Name: "61000+"}, setting.Device{Camera: true, Address: netip.MustParsePrefix("10.61.31.41/16")})
	assert.Empty(t, got)
	assert.EqualError(t, wrong[rtspport.Name], "61000+ and the number of 10.61.31.41 in its subnet make 68977: ports end at 65535. Take a lower base")
}

func TestSettingsAreWhole(t *testing.T) {
	names := map[setting.Name]bool{}
	for _, s := range All {
		assert.False(t, names[s.Name])
		names[s.Name] = true
		assert.NotEmpty(t, s.Title)
		assert.NotEmpty(t, s.Head)
		assert.NotEmpty(t, s.Key)
		assert.NotNil(t, s.Read)
		assert.NotNil(t, s.Set)
		assert.Error(t, s.Set(t.Context(), struct{}{}, "1"), "a conversation without the ability")
		_, told, err := s.Read(t.Context(), struct{}{})
		assert.NoError(t, err)
		assert.False(t, told)
	}
}
