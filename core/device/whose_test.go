package device

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestFactoryNames(t *testing.T) {
	d := Device{MAC: MAC{0x02, 0xe4, 0x42, 0x00, 0x1a, 0x2b}, Facts: Facts{Kind: Camera, Make: "Verrine", Model: "Dome 420", Serial: "VD420-77001"}}
	for name, factory := range map[string]bool{
		"": true, "Dome420": true, "Verrine": true, "verrine dome 420": true, "VD420-77001": true, "IPCAM": true, "IP Camera": true, "Camera 01": true, "HD-IPC": true,
		"IPC-1A2B": true, "Dome420-001A2B": true, "02e442001a2b": true, "network_camera": true, "Verrine Dome": true, "NVT": true, "Kamera 3": true, "Dome 420 S": true,
		"Till": false, "Lobby & stairs": false, "Quay old": false, "North camera": false, "Kasse 2": false, "カメラ北": false, "CAM Lobby": false, "abcd": false,
	} {
		d.Name = name
		assert.Equal(t, factory, FactoryName(&d), name)
	}
}

// A host name is as much a person's as the name is: it makes no factory's of it.
func TestAHostNameIsNoFactorys(t *testing.T) {
	assert.False(t, FactoryName(&Device{Facts: Facts{Kind: Camera, Model: "Dome 420", Name: "Till", Host: "till"}}))
}

func TestSetApart(t *testing.T) {
	here := Here{Subnets: []netip.Prefix{netip.MustParsePrefix("10.61.8.0/23")}, Said: func(d *Device) bool { return d.Serial == "said" }}
	at := func(a string, dhcp bool) (*Settings, []netip.Addr) {
		x := netip.MustParseAddr(a)
		return &Settings{Address: x, DHCP: dhcp}, []netip.Addr{x}
	}
	one := func(access Access, name, a string, dhcp bool) Device {
		d := Device{Facts: Facts{Kind: Camera, Model: "Dome 420", Access: access, Name: name}}
		d.Settings, d.Addresses = at(a, dhcp)
		return d
	}
	for what, x := range map[string]struct {
		d    Device
		want string
	}{
		"new":                      {one(Fresh, "Dome420", "192.168.77.20", false), ""},
		"protected":                {one(Sealed, "", "192.168.77.20", false), "protected"},
		"named":                    {one(Fresh, "Till", "192.168.77.20", false), `called "Till"`},
		"addressed":                {one(Fresh, "", "10.61.8.77", false), "at a fixed address of this network"},
		"both":                     {one(Factory, "Till", "10.61.8.77", false), `called "Till", at a fixed address of this network`},
		"on a lease":               {one(Fresh, "", "10.61.8.77", true), ""},
		"opened by the keyring":    {one(Keyed, "Till", "10.61.8.77", false), ""},
		"unmanaged":                {one(Unmanaged, "Till", "10.61.8.77", false), ""},
		"named in the job sheet":   {func() Device { d := one(Fresh, "Till", "10.61.8.77", false); d.Serial = "said"; return d }(), ""},
		"of the job":               {func() Device { d := one(Sealed, "Till", "10.61.8.77", false); d.InJob = Taken; return d }(), ""},
		"of the job once":          {func() Device { d := one(Fresh, "Till", "10.61.8.77", false); d.OpenedAt = time.Unix(1, 0); return d }(), ""},
		"one of two on an address": {func() Device { d := one(Fresh, "", "10.61.8.77", false); d.Clashing = []MAC{{1}}; return d }(), ""},
		"which says another than it has": {func() Device {
			d := one(Fresh, "", "10.61.8.77", false)
			d.Addresses[0] = netip.MustParseAddr("10.61.8.78")
			return d
		}(), ""},
	} {
		all := []Device{x.d}
		SetApart(all, here)
		assert.Equal(t, x.want, all[0].SetUpBy, what)
		all[0].SetUpBy = "stale"
		SetApart(all, here)
		assert.Equal(t, x.want, all[0].SetUpBy, what)
	}
	two := []Device{one(Fresh, "Aqua", "192.168.77.20", false), one(Fresh, "aqua", "192.168.77.21", false)}
	SetApart(two, here)
	assert.Equal(t, []string{"", ""}, []string{two[0].SetUpBy, two[1].SetUpBy}, "what several are called is their factory's")

	mine := []Device{one(Fresh, "Till", "192.168.77.20", false), one(Fresh, "", "192.168.77.20", false)}
	SetApart(mine, here)
	for _, terms := range [][]string{{"all"}, {"kind=camera"}, {"access=fresh"}, {"all", "kind=camera"}} {
		s, err := ParseSelector(terms)
		assert.NoError(t, err)
		chosen, err := s.Choose(mine)
		assert.NoError(t, err)
		assert.Equal(t, []int{1}, chosen, terms)
	}
}
