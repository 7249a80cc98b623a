package ground

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func claim(rank Rank, source, subnet, gateway string) Claim {
	c := Claim{Rank: rank, Source: source, Gateway: addr(gateway)}
	if subnet != "" {
		c.Subnet = prefix(subnet)
	}
	return c
}

func TestResolve(t *testing.T) {
	sheet := func(s, g string) Claim { return claim(FromSheet, "the job sheet", s, g) }
	recorder := func(s, g string) Claim { return claim(FromRecorder, "recorder R01", s, g) }
	lan := func(s, g string) Claim { return claim(FromLAN, "DHCP server 10.61.8.2", s, g) }
	laptop := func(s string) Claim { return claim(FromLaptop, "the laptop's own address", s, "") }
	for _, c := range []struct {
		name     string
		claims   []Claim
		override bool
		subnet   string
		gateway  string
		from     [2]string // of subnet and gateway
		fails    string
	}{
		{"the sheet alone", []Claim{sheet("10.61.8.0/23", "10.61.8.1")}, false, "10.61.8.0/23", "10.61.8.1", [2]string{"the job sheet", "the job sheet"}, ""},
		{"recorder before LAN", []Claim{lan("10.61.8.0/23", "10.61.8.1"), recorder("10.61.8.0/23", "10.61.8.1")}, false, "10.61.8.0/23", "10.61.8.1", [2]string{"recorder R01", "recorder R01"}, ""},
		{"LAN when nothing better", []Claim{laptop("192.168.1.0/24"), lan("10.61.8.0/23", "10.61.8.1")}, false, "10.61.8.0/23", "10.61.8.1", [2]string{"DHCP server 10.61.8.2", "DHCP server 10.61.8.2"}, ""},
		{"the laptop at last", []Claim{laptop("10.61.8.0/23")}, false, "10.61.8.0/23", "", [2]string{"the laptop's own address", ""}, ""},
		{"gateway from a lower rank on the same subnet", []Claim{sheet("10.61.8.0/23", ""), lan("10.61.8.0/23", "10.61.8.1")}, false, "10.61.8.0/23", "10.61.8.1", [2]string{"the job sheet", "DHCP server 10.61.8.2"}, ""},
		{"gateway of another network is nobody's business", []Claim{sheet("10.61.8.0/23", ""), lan("172.20.0.0/16", "172.20.0.1")}, false, "10.61.8.0/23", "", [2]string{"the job sheet", ""}, ""},
		{"sheet and recorder differ", []Claim{sheet("10.61.8.0/24", ""), recorder("10.61.8.0/23", "")}, false, "", "", [2]string{}, "the job sheet says 10.61.8.0/24, recorder R01 says 10.61.8.0/23"},
		{"the sheet overrides", []Claim{sheet("10.61.8.0/24", "10.61.8.1"), recorder("10.61.8.0/23", "10.61.8.254")}, true, "10.61.8.0/24", "10.61.8.1", [2]string{"the job sheet", "the job sheet"}, ""},
		{"override helps only the sheet", []Claim{recorder("10.61.8.0/24", ""), lan("10.61.8.0/23", "")}, true, "", "", [2]string{}, "disagree about the subnet"},
		{"an overlapping LAN differs", []Claim{recorder("10.61.8.0/24", ""), lan("10.61.8.0/23", "")}, false, "", "", [2]string{}, "disagree about the subnet"},
		{"the laptop's mask is no argument", []Claim{recorder("10.61.8.0/24", ""), laptop("10.61.8.0/23")}, false, "10.61.8.0/24", "", [2]string{"recorder R01", ""}, ""},
		{"gateways differ", []Claim{recorder("10.61.8.0/23", "10.61.8.1"), lan("10.61.8.0/23", "10.61.8.254")}, false, "", "", [2]string{}, "10.61.8.254"},
		{"two DHCP servers differ", []Claim{lan("10.61.8.0/23", ""), claim(FromLAN, "DHCP server 10.0.0.1", "10.0.0.0/24", "")}, false, "", "", [2]string{}, "disagree about the subnet"},
		{"gateway outside", []Claim{sheet("10.61.8.0/23", "10.62.0.1")}, false, "", "", [2]string{}, "outside the subnet"},
		{"nothing", nil, false, "", "", [2]string{}, "nothing says"},
	} {
		t.Run(c.name, func(t *testing.T) {
			g, err := Resolve(c.claims, c.override)
			if c.fails != "" {
				require.ErrorContains(t, err, c.fails)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, prefix(c.subnet), g.Subnet)
			assert.Equal(t, addr(c.gateway), g.Gateway)
			assert.Equal(t, c.from, [2]string{g.SubnetFrom, g.GatewayFrom})
		})
	}
}

func TestResolveDoesNotDependOnOrder(t *testing.T) {
	claims := []Claim{
		claim(FromLaptop, "laptop", "10.61.8.0/23", ""), claim(FromRecorder, "recorder R01", "10.61.8.0/23", "10.61.8.1"),
		claim(FromRecorder, "recorder R02", "10.61.8.0/23", "10.61.8.1"), claim(FromLAN, "DHCP", "10.61.8.0/23", "10.61.8.1"),
	}
	want, err := Resolve(claims, false)
	require.NoError(t, err)
	chance := rand.New(rand.NewPCG(1, 2))
	for range 50 {
		chance.Shuffle(len(claims), func(i, j int) { claims[i], claims[j] = claims[j], claims[i] })
		got, err := Resolve(claims, false)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
}
