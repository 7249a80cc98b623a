package onvif

import (
	"net/http"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/secret"
)

func TestServers(t *testing.T) {
	one, two := netip.MustParseAddr("10.61.8.1"), netip.MustParseAddr("10.61.8.2")
	var sent []string
	byNTP := "Manual"
	cl := stub(t, func(w http.ResponseWriter, _ *http.Request, op, body string) {
		switch op {
		case "GetDNS":
			send(w, 200, `<GetDNSResponse><DNSInformation><FromDHCP>true</FromDHCP><DNSFromDHCP><Type>IPv4</Type><IPv4Address>10.61.8.1</IPv4Address></DNSFromDHCP><DNSManual><IPv4Address>9.9.9.9</IPv4Address></DNSManual></DNSInformation></GetDNSResponse>`)
		case "GetNTP":
			send(w, 200, `<GetNTPResponse><NTPInformation><FromDHCP>false</FromDHCP><NTPManual><Type>DNS</Type><DNSname>time</DNSname></NTPManual><NTPManual><Type>IPv4</Type><IPv4Address> 10.61.8.2 </IPv4Address></NTPManual></NTPInformation></GetNTPResponse>`)
		case "GetSystemDateAndTime":
			send(w, 200, strings.Replace(clockAnswer, "<UTCDateTime>", "<DateTimeType>"+byNTP+"</DateTimeType><UTCDateTime>", 1))
		default:
			sent = append(sent, body)
			send(w, 200, "<R/>")
		}
	})
	got, err := cl.DNS(t.Context())
	require.NoError(t, err)
	assert.Equal(t, Servers{true, true, []netip.Addr{one}}, got)
	got, err = cl.NTP(t.Context())
	require.NoError(t, err)
	assert.Equal(t, Servers{true, false, []netip.Addr{two}}, got)
	require.NoError(t, cl.SetDNS(t.Context(), []netip.Addr{one, two}))
	assert.Contains(t, sent[0], "<tds:DNSManual><tt:Type>IPv4</tt:Type><tt:IPv4Address>10.61.8.1</tt:IPv4Address></tds:DNSManual><tds:DNSManual>")
	_, _, err = cl.Clock(t.Context())
	require.NoError(t, err)
	assert.False(t, cl.ByNTP())
	require.NoError(t, cl.SetNTP(t.Context(), []netip.Addr{one}))
	require.Len(t, sent, 3, "the clock is made to follow")
	assert.Contains(t, sent[2], "<tds:DateTimeType>NTP<")
	byNTP = "NTP"
	_, _, err = cl.Clock(t.Context())
	require.NoError(t, err)
	require.NoError(t, cl.SetNTP(t.Context(), []netip.Addr{one}))
	assert.Len(t, sent, 4, "it follows already")

	none := stub(t, func(w http.ResponseWriter, _ *http.Request, _, _ string) {
		send(w, 500, strings.Replace(refusal, "NotAuthorized", "ActionNotSupported", 1))
	})
	got, err = none.NTP(t.Context())
	require.NoError(t, err)
	assert.False(t, got.Offered)
}

func TestUsersAndTheirLevels(t *testing.T) {
	var sent []string
	var confidential []bool
	cl := stub(t, func(w http.ResponseWriter, _ *http.Request, _, body string) {
		sent = append(sent, body)
		send(w, 200, "<R/>")
	})
	carrier := cl.base
	cl.base = roundTrip(func(r *http.Request) (*http.Response, error) {
		confidential = append(confidential, Confidential(r.Context()))
		return carrier.RoundTrip(r)
	})
	cl.http = cl.client(cl.base)
	require.NoError(t, cl.CreateUser(t.Context(), "view<er", secret.New("a&b"), "User"))
	require.NoError(t, cl.SetUser(t.Context(), "viewer", secret.New("c"), "Operator"))
	require.NoError(t, cl.Restart(t.Context()))
	assert.Contains(t, sent[0], "<tds:CreateUsers><tds:User><tt:Username>view&lt;er</tt:Username><tt:Password>a&amp;b</tt:Password><tt:UserLevel>User<")
	assert.Contains(t, sent[1], "<tds:SetUser><tds:User><tt:Username>viewer</tt:Username><tt:Password>c</tt:Password><tt:UserLevel>Operator<")
	assert.Equal(t, []bool{true, true, false}, confidential)
}

type roundTrip func(*http.Request) (*http.Response, error)

func (f roundTrip) RoundTrip(r *http.Request) (*http.Response, error) { return f(r) }
