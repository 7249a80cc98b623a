package ground

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestKeep(t *testing.T) {
	site := Ground{
		Subnet: prefix("10.61.8.0/23"), SubnetFrom: "DHCP server 10.61.8.2", Gateway: addr("10.61.8.1"), GatewayFrom: "DHCP server 10.61.8.2",
		DNS: []netip.Addr{addr("10.61.8.1")}, DNSFrom: "DHCP server 10.61.8.2", Ranks: Ranks{FromLAN, FromLAN, FromLAN, FromLAN},
	}
	of := func(g Ground, change func(*Ground)) Ground { change(&g); return g }
	other := of(site, func(g *Ground) {
		g.Subnet, g.SubnetFrom, g.Gateway = prefix("192.168.50.0/24"), "DHCP server 192.168.50.1", addr("192.168.50.1")
	})
	for name, c := range map[string]struct {
		kept, now Ground
		settled   bool
		want      Ground
		differs   string
	}{
		"the first one":                   {Ground{}, site, false, site, ""},
		"nothing is said any more":        {site, Ground{}, false, site, ""},
		"the same":                        {site, site, true, site, ""},
		"another LAN":                     {site, other, false, site, "the site's subnet is 10.61.8.0/23 (from DHCP server 10.61.8.2); DHCP server 192.168.50.1 says 192.168.50.0/24 now"},
		"another LAN, once settled":       {site, other, true, site, "says 192.168.50.0/24 now"},
		"a recorder knows better":         {site, of(other, func(g *Ground) { g.Ranks.Subnet = FromRecorder }), false, of(other, func(g *Ground) { g.Ranks.Subnet = FromRecorder }), ""},
		"a recorder, too late":            {site, of(other, func(g *Ground) { g.Ranks.Subnet = FromRecorder }), true, site, "says 192.168.50.0/24 now"},
		"the laptop's guess gives way":    {of(other, func(g *Ground) { g.Ranks.Subnet = FromLaptop }), site, false, site, ""},
		"one guess for another":           {of(other, func(g *Ground) { g.Ranks.Subnet = FromLaptop }), of(site, func(g *Ground) { g.Ranks.Subnet = FromLaptop }), false, of(site, func(g *Ground) { g.Ranks.Subnet = FromLaptop }), ""},
		"another server":                  {site, of(site, func(g *Ground) { g.DNS = []netip.Addr{addr("10.61.8.66")} }), false, site, "the DNS servers are 10.61.8.1"},
		"servers that were not known":     {site, of(site, func(g *Ground) { g.NTP, g.NTPFrom = []netip.Addr{addr("10.61.8.3")}, "x" }), false, of(site, func(g *Ground) { g.NTP, g.NTPFrom = []netip.Addr{addr("10.61.8.3")}, "x" }), ""},
		"servers from a rogue, too late":  {site, of(site, func(g *Ground) { g.NTP, g.NTPFrom = []netip.Addr{addr("10.61.8.66")}, "a rogue" }), true, site, "the NTP servers are none (from nobody); a rogue says 10.61.8.66 now"},
		"the sheet names other servers":   {site, of(site, func(g *Ground) { g.DNS, g.Ranks.DNS = []netip.Addr{addr("10.61.8.5")}, FromSheet }), false, of(site, func(g *Ground) { g.DNS, g.Ranks.DNS = []netip.Addr{addr("10.61.8.5")}, FromSheet }), ""},
		"the sheet, too late":             {site, of(site, func(g *Ground) { g.DNS, g.Ranks.DNS = []netip.Addr{addr("10.61.8.5")}, FromSheet }), true, site, "says 10.61.8.5 now"},
		"the gateway is left out once":    {site, of(site, func(g *Ground) { g.Gateway = netip.Addr{} }), false, site, ""},
		"another gateway":                 {site, of(site, func(g *Ground) { g.Gateway = addr("10.61.9.254") }), false, site, "the gateway is 10.61.8.1"},
		"the sheet corrects what it said": {of(site, func(g *Ground) { g.Ranks.Subnet = FromSheet }), of(other, func(g *Ground) { g.Ranks.Subnet = FromSheet }), false, of(other, func(g *Ground) { g.Ranks.Subnet = FromSheet }), ""},
	} {
		got, differs := Keep(Kept{c.kept, c.kept.Ranks}, c.now, c.settled)
		assert.Equal(t, c.want, got, name)
		if c.differs == "" {
			assert.Empty(t, differs, name)
		} else if assert.Len(t, differs, 1, name) {
			assert.Contains(t, differs[0], c.differs, name)
		}
	}
}

func TestSourcesThatDisagreeAboutServers(t *testing.T) {
	lan := func(source string, dns, ntp string) Claim {
		c := Claim{Rank: FromLAN, Source: source, Subnet: prefix("10.61.8.0/23"), Gateway: addr("10.61.8.1")}
		if dns != "" {
			c.DNS = []netip.Addr{addr(dns)}
		}
		if ntp != "" {
			c.NTP = []netip.Addr{addr(ntp)}
		}
		return c
	}
	_, err := Resolve([]Claim{lan("A", "10.61.8.1", ""), lan("B", "10.61.8.66", "")}, false)
	require.ErrorContains(t, err, "sources disagree about the DNS servers: A says 10.61.8.1, B says 10.61.8.66")
	_, err = Resolve([]Claim{lan("A", "", "10.61.8.1"), lan("B", "", "10.61.8.66")}, true)
	require.ErrorContains(t, err, "NTP servers")
	recorder := lan("recorder R01", "10.61.8.9", "10.61.8.8")
	recorder.Rank = FromRecorder
	g, err := Resolve([]Claim{recorder, lan("A", "", "")}, false)
	require.NoError(t, err)
	assert.Equal(t, "recorder R01", g.NTPFrom)
	_, err = Resolve([]Claim{recorder, lan("A", "10.61.8.1", "")}, false)
	require.ErrorContains(t, err, "recorder R01 says 10.61.8.9, A says 10.61.8.1")
	sheet := Claim{Rank: FromSheet, Source: "the job sheet", DNS: []netip.Addr{addr("10.61.8.5")}}
	g, err = Resolve([]Claim{recorder, lan("A", "10.61.8.1", ""), sheet}, false)
	require.NoError(t, err)
	assert.Equal(t, []netip.Addr{addr("10.61.8.5")}, g.DNS)
}
