package lan

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"janustat/core/device"
)

func at(s string) netip.Addr    { return netip.MustParseAddr(s) }
func net(s string) netip.Prefix { return netip.MustParsePrefix(s) }

// good is a laptop on which nothing stands in the way.
func good() Report {
	return Report{
		Adapters: []Adapter{{Name: "eth0", Up: true, Link: true, Speed: 1000, Addresses: []netip.Prefix{net("10.61.8.200/23")}, Gateway: at("10.61.8.1")}},
		Chosen:   "eth0", Frames: 80, Site: net("10.61.8.0/23"), SiteFrom: "the job sheet",
		Servers: []Server{{Address: at("10.61.8.2"), MAC: device.MAC{2}, Subnet: net("10.61.8.0/23")}},
		Subnets: []Heard{{net("10.61.8.0/23"), 9}},
	}
}

func codes(list []Fault) (out []string) {
	for _, f := range list {
		out = append(out, f.Code)
	}
	return out
}

func TestJudge(t *testing.T) {
	assert.Empty(t, Judge(good()))
	wlan := Adapter{Name: "wlan0", Up: true, Link: true, Wireless: true}
	for name, c := range map[string]struct {
		spoil func(*Report)
		want  []string
	}{
		"no cable":          {func(f *Report) { f.Adapters[0].Link = false; f.Frames = 0 }, []string{"no-link"}},
		"no cable anywhere": {func(f *Report) { f.Adapters[0].Link, f.Chosen, f.Why = false, "", "" }, []string{"no-link"}},
		"the other has it": {func(f *Report) {
			f.Adapters[0].Link = false
			f.Adapters = append(f.Adapters, Adapter{Name: "usb0", Up: true, Link: true})
		}, []string{"no-link", "wrong-adapter"}},
		"wireless by mistake":  {func(f *Report) { f.Adapters, f.Chosen = append(f.Adapters, wlan), "wlan0" }, []string{"wrong-adapter"}},
		"wireless only":        {func(f *Report) { f.Adapters, f.Chosen = []Adapter{wlan}, "wlan0" }, []string{"wireless"}},
		"no permission":        {func(f *Report) { f.Chosen, f.NoRights = "", "sudo setcap" }, []string{"no-rights"}},
		"several adapters":     {func(f *Report) { f.Chosen, f.Why = "", "2 are up" }, []string{"no-adapter"}},
		"dead port":            {func(f *Report) { f.Frames, f.Servers = 0, nil }, []string{"silence"}},
		"self-assigned":        {func(f *Report) { f.Adapters[0].Addresses = []netip.Prefix{net("169.254.3.4/16")} }, []string{"self-assigned"}},
		"input policy":         {func(f *Report) { f.Firewall = []Rule{{"inet filter input", "policy drop", false}} }, []string{"firewall-input"}},
		"egress rule":          {func(f *Report) { f.Firewall = []Rule{{"netdev x egress", "drop", true}} }, []string{"firewall"}},
		"forwarding":           {func(f *Report) { f.Forwards = true }, []string{"forwarding"}},
		"no DHCP":              {func(f *Report) { f.Servers = nil }, []string{"no-dhcp"}},
		"two servers":          {func(f *Report) { f.Servers = append(f.Servers, Server{Address: at("10.61.8.9")}) }, []string{"two-dhcp"}},
		"own address taken":    {func(f *Report) { f.Duplicates = []Duplicate{{at("10.61.8.200"), device.MAC{2, 1}}} }, []string{"duplicate"}},
		"strays":               {func(f *Report) { f.Subnets = append(f.Subnets, Heard{net("192.168.77.0/24"), 5}) }, []string{"other-subnets"}},
		"trunk":                {func(f *Report) { f.VLANs = map[uint16]int{20: 3} }, []string{"tagged"}},
		"gateway away":         {func(f *Report) { f.Silent = []Silent{{"the gateway", at("10.61.8.1")}} }, []string{"silent"}},
		"the heaviest first":   {func(f *Report) { f.Servers, f.Forwards, f.NoRights = nil, true, "sudo setcap" }, []string{"no-rights", "forwarding", "no-dhcp"}},
		"nothing known of it":  {func(f *Report) { *f = Report{} }, []string{"no-link"}},
		"a bench has no link":  {func(f *Report) { *f = Report{Simulated: true, Chosen: "bench:/tmp/b", Frames: 3, Servers: f.Servers} }, nil},
		"a bench that is dead": {func(f *Report) { *f = Report{Simulated: true, Chosen: "bench:/tmp/b"} }, []string{"silence"}},
	} {
		f := good()
		c.spoil(&f)
		got := Judge(f)
		assert.Equal(t, c.want, codes(got), name)
		for _, x := range got {
			assert.NotEmpty(t, x.What, name)
			assert.False(t, x.Remedy.IsZero(), name)
			assert.Contains(t, []Weight{Stops, Hampers, Note}, x.Weight, name)
		}
	}
}
