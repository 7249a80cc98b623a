package onvif

import (
	"fmt"
	"net/http"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
)

var (
	lan     = device.MAC{2, 0, 0, 0, 0, 1}
	backMAC = device.MAC{2, 0, 0, 0, 0, 2}
)

// port is one interface of an answer.
func port(token string, mac device.MAC, enabled bool, config string) string {
	return fmt.Sprintf(`<NetworkInterfaces token="%s"><Enabled>%t</Enabled><Info><HwAddress>%s</HwAddress></Info><IPv4><Enabled>true</Enabled><Config>%s</Config></IPv4></NetworkInterfaces>`, token, enabled, mac, config)
}

func manual(address string, prefix any) string {
	return fmt.Sprintf("<Manual><Address>%s</Address><PrefixLength>%v</PrefixLength></Manual>", address, prefix)
}

const (
	noDHCP = "<DHCP>false</DHCP>"
	onDHCP = "<DHCP>true</DHCP>"
)

func TestTheInterfaceIsTheOneThatWasMet(t *testing.T) {
	leased := func(a string) string {
		return "<FromDHCP><Address>" + a + "</Address><PrefixLength>24</PrefixLength></FromDHCP>"
	}
	for name, c := range map[string]struct {
		ports       string
		at          string
		mac         device.MAC
		token, want string // interface, and its address
	}{
		"a recorder with an inner network first": {port("in", backMAC, true, manual("10.9.9.1", 24)+noDHCP) + port("out", lan, true, manual("10.61.8.10", 23)+noDHCP), "10.61.8.10", lan, "out", "10.61.8.10/23"},
		"both ports on one LAN":                  {port("a", backMAC, true, manual("10.61.8.11", 23)+noDHCP) + port("b", lan, true, manual("10.61.8.10", 23)+noDHCP), "10.61.8.10", lan, "b", "10.61.8.10/23"},
		"met at the other's address":             {port("a", backMAC, true, manual("10.61.8.10", 23)+noDHCP) + port("b", lan, true, manual("10.61.8.11", 23)+noDHCP), "10.61.8.10", lan, "b", "10.61.8.11/23"},
		"a port that is off":                     {port("a", lan, false, manual("10.61.8.10", 23)+noDHCP) + port("b", backMAC, true, manual("10.61.8.9", 23)+noDHCP), "10.61.8.10", lan, "a", "10.61.8.10/23"},
		"several addresses on one port":          {port("a", lan, true, manual("192.168.1.9", 24)+manual("10.61.8.10", 23)+noDHCP), "10.61.8.10", lan, "a", "10.61.8.10/23"},
		"DHCP beside a manual address":           {port("a", lan, true, manual("192.168.1.9", 24)+leased("10.61.9.7")+onDHCP), "192.168.1.9", lan, "a", "192.168.1.9/24"},
		"a lease":                                {port("a", lan, true, manual("192.168.1.9", 24)+leased("10.61.9.7")+onDHCP), "10.61.9.7", lan, "a", "10.61.9.7/24"},
		"no MAC told, the address is":            {port("a", device.MAC{}, true, manual("10.9.9.1", 24)+noDHCP) + port("b", device.MAC{}, true, manual("10.61.8.10", 23)+noDHCP), "10.61.8.10", lan, "b", "10.61.8.10/23"},
		"leading zeros and a mask":               {port("a", lan, true, manual("010.061.008.010", "255.255.254.0")+noDHCP), "10.61.8.10", lan, "a", "10.61.8.10/23"},
		"zeros before the length":                {port("a", lan, true, manual("10.61.8.10", "023")+noDHCP), "10.61.8.10", lan, "a", "10.61.8.10/23"},
	} {
		t.Run(name, func(t *testing.T) {
			cl := stub(t, func(w http.ResponseWriter, _ *http.Request, _, _ string) {
				send(w, 200, "<GetNetworkInterfacesResponse>"+c.ports+"</GetNetworkInterfacesResponse>")
			})
			s, _, err := cl.Network(t.Context(), netip.MustParseAddr(c.at), c.mac)
			require.NoError(t, err)
			assert.Equal(t, c.want, netip.PrefixFrom(s.Address, s.Prefix).String())
			assert.Equal(t, c.token, cl.iface)
			assert.Equal(t, strings.Contains(c.ports, onDHCP), s.DHCP)
		})
	}
}

func TestNothingIsGuessedAmongInterfaces(t *testing.T) {
	cl := stub(t, func(w http.ResponseWriter, _ *http.Request, _, _ string) {
		send(w, 200, "<GetNetworkInterfacesResponse>"+port("a", backMAC, true, manual("10.9.9.1", 24)+noDHCP)+port("b", backMAC, true, manual("10.9.8.1", 24)+noDHCP)+"</GetNetworkInterfacesResponse>")
	})
	_, _, err := cl.Network(t.Context(), netip.MustParseAddr("10.61.8.10"), lan)
	require.ErrorContains(t, err, "none says that it is the one")
	_, err = cl.SetAddress(t.Context(), device.Settings{Address: netip.MustParseAddr("10.61.8.10"), Prefix: 23})
	assert.Error(t, err, "nothing is written to an interface that was not met")
}

func TestTheGatewayOfAnotherPortStays(t *testing.T) {
	sent := ""
	cl := stub(t, func(w http.ResponseWriter, _ *http.Request, op, body string) {
		switch op {
		case "GetNetworkInterfaces":
			send(w, 200, "<R>"+port("in", backMAC, true, manual("10.9.9.1", 24)+noDHCP)+port("out", lan, true, manual("10.61.8.10", 23)+noDHCP)+"</R>")
		case "GetNetworkDefaultGateway":
			send(w, 200, "<R><NetworkGateway><IPv4Address>10.9.9.254</IPv4Address><IPv4Address>10.61.8.1</IPv4Address></NetworkGateway></R>")
		default:
			sent = body
			send(w, 200, "<R/>")
		}
	})
	_, _, err := cl.Network(t.Context(), netip.MustParseAddr("10.61.8.10"), lan)
	require.NoError(t, err)
	g, err := cl.Gateway(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "10.61.8.1", g.String())
	require.NoError(t, cl.SetGateway(t.Context(), netip.MustParseAddr("10.61.8.2")))
	assert.Contains(t, sent, "<tds:IPv4Address>10.61.8.2</tds:IPv4Address><tds:IPv4Address>10.9.9.254</tds:IPv4Address>")
	assert.NotContains(t, sent, "10.61.8.1<")
}

func TestOddWordsCostNoAnswer(t *testing.T) {
	for text, want := range map[string]int{"24": 24, " 024 ": 24, "255.255.255.0": 24, "255.255.254.000": 23, "0": 0, "255.0.255.0": -1, "33": -1, "x": -1, "": -1, "/24": 24, "0.0.0.0": 0, "255.255.255.255": 32} {
		var p prefixLength
		require.NoError(t, p.UnmarshalText([]byte(text)))
		assert.Equal(t, want, int(p), text)
	}
	for text, want := range map[string]bool{"true": true, " TRUE ": true, "1": true, "on": true, "false": false, "0": false, "": false, "perhaps": false} {
		var f flag
		require.NoError(t, f.UnmarshalText([]byte(text)))
		assert.Equal(t, want, bool(f), text)
	}
}

func TestAClockThatTellsNoUTC(t *testing.T) {
	day := time.Date(2026, 3, 4, 5, 6, 7, 0, time.UTC)
	local := "<LocalDateTime><Time><Hour>05</Hour><Minute>06</Minute><Second>07</Second></Time><Date><Year>2026</Year><Month>3</Month><Day>4</Day></Date></LocalDateTime>"
	for name, c := range map[string]struct {
		inner, date string
		known       bool
	}{
		"the date of its answer":          {"<TimeZone><TZ>CET-1CEST</TZ></TimeZone>" + local, day.Format(http.TimeFormat), true},
		"its local time, which is UTC":    {"<TimeZone><TZ>UTC0</TZ></TimeZone>" + local, "", true},
		"a local time somewhere":          {"<TimeZone><TZ>CET-1CEST</TZ></TimeZone>" + local, "", false},
		"nothing at all":                  {"", "", false},
		"a year of letters and a date":    {"<UTCDateTime><Date><Year>MMXXVI</Year></Date></UTCDateTime>", day.Format(http.TimeFormat), true},
		"its local time, in no zone told": {local, "", true},
	} {
		cl := stub(t, func(w http.ResponseWriter, _ *http.Request, _, _ string) {
			w.Header()["Date"] = nil
			if c.date != "" {
				w.Header().Set("Date", c.date)
			}
			send(w, 200, "<R><SystemDateAndTime>"+c.inner+"</SystemDateAndTime></R>")
		})
		offset, _, err := cl.Clock(t.Context())
		if !c.known {
			require.Error(t, err, name)
			continue
		}
		require.NoError(t, err, name)
		assert.WithinDuration(t, day, time.Now().Add(offset), 3*time.Second, name)
	}
}
