package onvif

import (
	"net/http"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/speak/wsd"
)

func TestNetworkTakesTheInterfaceItWasMetAt(t *testing.T) {
	var sent string
	cl := stub(t, func(w http.ResponseWriter, _ *http.Request, op, body string) {
		if op == "SetNetworkInterfaces" {
			sent = body
			send(w, 200, "<SetNetworkInterfacesResponse><RebootNeeded>true</RebootNeeded></SetNetworkInterfacesResponse>")
			return
		}
		send(w, 200, networkReply)
	})
	s, macs, err := cl.Network(t.Context(), netip.MustParseAddr("10.0.0.8"), device.MAC{})
	require.NoError(t, err)
	assert.Equal(t, device.Settings{Address: netip.MustParseAddr("10.0.0.8"), Prefix: 16, DHCP: true}, s)
	assert.Len(t, macs, 2)
	restart, err := cl.SetAddress(t.Context(), device.Settings{Address: netip.MustParseAddr("10.61.8.42"), Prefix: 23})
	require.NoError(t, err)
	assert.True(t, restart)
	assert.Contains(t, sent, "<tds:InterfaceToken>lan&lt;0<")
	assert.Contains(t, sent, "<tt:Address>10.61.8.42</tt:Address><tt:PrefixLength>23</tt:PrefixLength>")
	assert.Contains(t, sent, "<tt:DHCP>false</tt:DHCP>")
}

func TestSetNameKeepsTheOtherScopes(t *testing.T) {
	var sent string
	cl := stub(t, func(w http.ResponseWriter, _ *http.Request, op, body string) {
		if op == "SetScopes" {
			sent = body
			send(w, 200, "<SetScopesResponse/>")
			return
		}
		send(w, 200, `<GetScopesResponse><Scopes><ScopeDef>Fixed</ScopeDef><ScopeItem>onvif://www.onvif.org/hardware/D</ScopeItem></Scopes>
			<Scopes><ScopeDef>Configurable</ScopeDef><ScopeItem>onvif://www.onvif.org/location/quay</ScopeItem></Scopes>
			<Scopes><ScopeDef>Configurable</ScopeDef><ScopeItem>onvif://www.onvif.org/name/old</ScopeItem></Scopes></GetScopesResponse>`)
	})
	require.NoError(t, cl.SetName(t.Context(), "Ticket hall"))
	assert.Contains(t, sent, "/name/Ticket%20hall<")
	assert.Contains(t, sent, "/location/quay<")
	assert.NotContains(t, sent, "old")
	assert.NotContains(t, sent, "hardware")
}

func TestHTTPS(t *testing.T) {
	type answer struct {
		has, serves bool
		port        uint16
	}
	for body, want := range map[string]answer{
		`<R><NetworkProtocols><Name>HTTP</Name><Enabled>true</Enabled></NetworkProtocols><NetworkProtocols><Name>HTTPS</Name><Enabled>false</Enabled></NetworkProtocols></R>`: {true, false, 443},
		`<R><NetworkProtocols><Name>HTTPS</Name><Enabled>true</Enabled><Port>8443</Port></NetworkProtocols></R>`:                                                              {true, true, 8443},
		`<R><NetworkProtocols><Name>HTTPS</Name><Enabled>1</Enabled><Port>none</Port></NetworkProtocols></R>`:                                                                 {true, true, 443},
		`<R><NetworkProtocols><Name>HTTP</Name><Enabled>true</Enabled></NetworkProtocols></R>`:                                                                                {},
		refusal: {},
	} {
		var got answer
		var err error
		got.has, got.serves, got.port, err = stub(t, func(w http.ResponseWriter, _ *http.Request, _, _ string) { send(w, 200, body) }).HTTPS(t.Context())
		require.NoError(t, err)
		assert.Equal(t, want, got, body)
	}
	var sent string
	require.NoError(t, stub(t, func(w http.ResponseWriter, _ *http.Request, _, body string) {
		sent = body
		send(w, 200, "<SetNetworkProtocolsResponse/>")
	}).ServeHTTPS(t.Context(), true, 8443))
	assert.Contains(t, sent, "<tt:Name>HTTPS</tt:Name><tt:Enabled>true</tt:Enabled><tt:Port>8443</tt:Port>")
}

func TestKindOf(t *testing.T) {
	nvt, dev := []wsd.Type{wsd.Transmitter, wsd.AnyDevice}, []wsd.Type{wsd.AnyDevice}
	for name, c := range map[string]struct {
		types    []wsd.Type
		scopes   wsd.Scopes
		services []string
		kind     device.Kind
		indoor   bool
	}{
		"camera":                  {nvt, wsd.Scopes{}, nil, device.Camera, false},
		"camera with a card":      {nvt, wsd.Scopes{}, []string{mediaNS, recordingNS}, device.Camera, false},
		"camera with a voice":     {nvt, wsd.Scopes{Types: []string{"video_encoder", "audio_encoder"}}, []string{mediaNS}, device.Camera, false},
		"recorder":                {dev, wsd.Scopes{}, []string{recordingNS, receiverNS}, device.Recorder, false},
		"recorder by scope":       {dev, wsd.Scopes{Types: []string{"network_video_storage"}}, nil, device.Recorder, false},
		"panel":                   {dev, wsd.Scopes{}, []string{accessNS, doorNS}, device.Panel, false},
		"panel by profile":        {dev, wsd.Scopes{Profiles: []string{"C"}}, nil, device.Panel, false},
		"door station":            {nvt, wsd.Scopes{Types: []string{"audio_encoder", "video_encoder"}}, []string{mediaNS, doorNS}, device.Intercom, false},
		"indoor station":          {dev, wsd.Scopes{Types: []string{"audio_encoder"}}, nil, device.Intercom, true},
		"something else entirely": {[]wsd.Type{{Space: "urn:print", Local: "Device"}}, wsd.Scopes{}, nil, device.Other, false},
	} {
		kind, indoor := KindOf(c.types, c.scopes, c.services)
		assert.Equal(t, c.kind, kind, name)
		assert.Equal(t, c.indoor, indoor, name)
	}
}

// What a device has told is not asked again, until something is written that it tells of.
func TestOnlyWhatWasWrittenIsReadBack(t *testing.T) {
	asked := map[string]int{}
	cl := stub(t, func(w http.ResponseWriter, _ *http.Request, op, _ string) {
		asked[op]++
		if op == "GetNetworkInterfaces" {
			send(w, 200, networkReply)
			return
		}
		send(w, 200, "<tds:"+op+"Response/>")
	})
	read := func() {
		_, err := cl.Name(t.Context())
		require.NoError(t, err)
		_, err = cl.DNS(t.Context())
		require.NoError(t, err)
		_, _, err = cl.Network(t.Context(), netip.Addr{}, device.MAC{})
		require.NoError(t, err)
	}
	read()
	read()
	assert.Equal(t, map[string]int{"GetScopes": 1, "GetDNS": 1, "GetNetworkInterfaces": 1}, asked)
	require.NoError(t, cl.SetName(t.Context(), "Quay"))
	read()
	assert.Equal(t, map[string]int{"GetScopes": 2, "SetScopes": 1, "GetDNS": 1, "GetNetworkInterfaces": 1}, asked)
	_, err := cl.SetAddress(t.Context(), device.Settings{Address: netip.MustParseAddr("10.61.8.9"), Prefix: 24})
	require.NoError(t, err)
	read()
	assert.Equal(t, map[string]int{"GetScopes": 3, "SetScopes": 1, "GetDNS": 2, "GetNetworkInterfaces": 2, "SetNetworkInterfaces": 1}, asked)
}
