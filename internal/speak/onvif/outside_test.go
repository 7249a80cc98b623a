package onvif

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/secret"
	"janustat/core/settings/outside"
)

// connected answers like a device with all that connects to the outside, until it is removed; refuses
// names what it does not remove.
type connected struct {
	caps    string
	uplinks []string
	user    string
	dynamic string
	remote  bool
	mode    string
	refuses string
	asked   []string
}

func (d *connected) serve(w http.ResponseWriter, r *http.Request, op, body string) {
	d.asked = append(d.asked, op)
	if d.refuses != "" && strings.Contains(op, d.refuses) {
		send(w, 400, strings.ReplaceAll(refusal, "NotAuthorized", "ActionNotSupported"))
		return
	}
	switch op {
	case "GetServices":
		out := "<GetServicesResponse>"
		if d.uplinks != nil {
			out += "<Service><Namespace>" + uplinkNS + "</Namespace><XAddr>http://" + r.Host + "/up</XAddr></Service>"
		}
		send(w, 200, out+"</GetServicesResponse>")
	case "GetServiceCapabilities":
		if d.caps == "" {
			send(w, 400, strings.ReplaceAll(refusal, "NotAuthorized", "ActionNotSupported"))
			return
		}
		send(w, 200, "<R><Capabilities>"+d.caps+"</Capabilities></R>")
	case "GetUplinks":
		out := "<R>"
		for _, at := range d.uplinks {
			out += "<Configuration><RemoteAddress>" + at + "</RemoteAddress><Status>Connected</Status></Configuration>"
		}
		send(w, 200, out+"</R>")
	case "DeleteUplink":
		for i, at := range d.uplinks {
			if strings.Contains(body, "<tup:RemoteAddress>"+at+"<") {
				d.uplinks = append(d.uplinks[:i:i], d.uplinks[i+1:]...)
			}
		}
		send(w, 200, "<R/>")
	case "GetRemoteUser":
		send(w, 200, map[bool]string{true: "<R><RemoteUser><Username>" + d.user + "</Username></RemoteUser></R>", false: "<R/>"}[d.user != ""])
	case "SetRemoteUser":
		d.user = ""
		send(w, 200, "<R/>")
	case "GetDynamicDNS":
		send(w, 200, "<R><DynamicDNSInformation><Type>"+d.dynamic+"</Type><Name>cam.example</Name></DynamicDNSInformation></R>")
	case "SetDynamicDNS":
		d.dynamic = "NoUpdate"
		send(w, 200, "<R/>")
	case "GetRemoteDiscoveryMode":
		send(w, 200, "<R><RemoteDiscoveryMode>"+map[bool]string{true: "Discoverable", false: "NonDiscoverable"}[d.remote]+"</RemoteDiscoveryMode></R>")
	case "SetRemoteDiscoveryMode":
		d.remote = strings.Contains(body, ">Discoverable<")
		send(w, 200, "<R/>")
	case "GetUsers":
		if r.Header.Get("Authorization") == "" {
			w.Header().Set("WWW-Authenticate", `Digest realm="r", qop="auth", nonce="n", algorithm=MD5`)
			send(w, 401, refusal)
			return
		}
		send(w, 200, usersAnswer)
	case "SystemReboot":
		send(w, 200, "<SystemRebootResponse/>")
	case "GetDiscoveryMode":
		send(w, 200, "<R><DiscoveryMode>"+d.mode+"</DiscoveryMode></R>")
	case "SetDiscoveryMode":
		d.mode = map[bool]string{true: "Discoverable", false: "NonDiscoverable"}[strings.Contains(body, ">Discoverable<")]
		send(w, 200, "<R/>")
	default:
		send(w, 400, refusal)
	}
}

const allOutside = `<Network DynDNS="true"/><Security RemoteUserHandling="1"/><System RemoteDiscovery="true"/>`

func everythingOutside() *connected {
	return &connected{caps: allOutside, uplinks: []string{"wss://a.example", "wss://b.example"}, user: "cloud", dynamic: "ClientUpdates", remote: true}
}

func TestWhatConnectsADeviceWithTheOutside(t *testing.T) {
	for name, c := range map[string]struct {
		d    *connected
		want outside.Links
		told bool
	}{
		"everything":                   {everythingOutside(), outside.Links{Uplinks: []string{"wss://a.example", "wss://b.example"}, RemoteUser: "cloud", DynamicDNS: "cam.example", Remote: true}, true},
		"nothing, of all that it has":  {&connected{caps: allOutside, uplinks: []string{}, dynamic: "NoUpdate"}, outside.Links{}, true},
		"a name by its DHCP server":    {&connected{caps: `<Network DynDNS="true"/>`, dynamic: "ServerUpdates"}, outside.Links{DynamicDNS: "by its DHCP server"}, true},
		"uplinks without capabilities": {&connected{uplinks: []string{"wss://a.example"}}, outside.Links{Uplinks: []string{"wss://a.example"}}, true},
		"no means to tell":             {&connected{caps: `<Network DynDNS="false"/>`, user: "hidden"}, outside.Links{}, false},
		"no capabilities":              {&connected{user: "hidden"}, outside.Links{}, false},
	} {
		t.Run(name, func(t *testing.T) {
			got, told, err := stub(t, c.d.serve).Outside(t.Context())
			require.NoError(t, err)
			assert.Equal(t, c.told, told)
			assert.Equal(t, c.want, got)
		})
	}
}

func TestWhatConnectsWithTheOutsideIsRemoved(t *testing.T) {
	d := everythingOutside()
	cl := stub(t, d.serve)
	require.NoError(t, cl.CloseOutside(t.Context()))
	got, told, err := cl.Outside(t.Context())
	require.NoError(t, err)
	assert.True(t, told)
	assert.Equal(t, outside.Links{}, got)
	// What is so already is not written.
	d.asked = nil
	require.NoError(t, cl.CloseOutside(t.Context()))
	for _, op := range d.asked {
		assert.True(t, strings.HasPrefix(op, "Get"), op)
	}
	// What it refuses keeps nothing else from being removed, and is told.
	d = everythingOutside()
	d.refuses = "DeleteUplink"
	cl = stub(t, d.serve)
	require.Error(t, cl.CloseOutside(t.Context()))
	got, _, err = cl.Outside(t.Context())
	require.NoError(t, err)
	assert.Equal(t, outside.Links{Uplinks: []string{"wss://a.example", "wss://b.example"}}, got)
}

func TestDiscoveryMode(t *testing.T) {
	d := &connected{mode: "Discoverable"}
	cl := stub(t, d.serve)
	on, told, err := cl.Discoverable(t.Context())
	require.NoError(t, err)
	assert.True(t, on && told)
	require.NoError(t, cl.SetDiscoverable(t.Context(), false))
	on, told, err = cl.Discoverable(t.Context())
	require.NoError(t, err)
	assert.True(t, !on && told, "it is read again after it was written")
	_, told, err = stub(t, (&connected{refuses: "Discovery"}).serve).Discoverable(t.Context())
	require.NoError(t, err)
	assert.False(t, told)
}

// What a device can do is asked once in a conversation, whatever is written in it, and of one that refuses
// to tell it no more than that.
func TestWhatADeviceCanDoIsAskedOnce(t *testing.T) {
	for name, d := range map[string]*connected{"tells": {caps: allOutside, uplinks: []string{}, mode: "Discoverable"}, "refuses": {refuses: "GetDiscovery"}} {
		t.Run(name, func(t *testing.T) {
			cl := stub(t, d.serve)
			ok, err := cl.Enter(t.Context(), "admin", secret.New("x"))
			require.NoError(t, err)
			require.True(t, ok)
			for range 3 {
				_, _, err := cl.Outside(t.Context())
				require.NoError(t, err)
				_, _, err = cl.Discoverable(t.Context())
				require.NoError(t, err)
				require.NoError(t, cl.Restart(t.Context()))
			}
			count := map[string]int{}
			for _, op := range d.asked {
				count[op]++
			}
			for _, op := range []string{"GetServices", "GetServiceCapabilities", "GetDiscoveryMode"} {
				assert.Equal(t, 1, count[op], op)
			}
			again := cl.Lasting()
			assert.Contains(t, again, "GetServiceCapabilities", "and in the next conversation")
		})
	}
}
