package onvif

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/core/secret"
	"janustat/internal/speak/soap"
)

const (
	usersAnswer  = `<GetUsersResponse><User><Username>admin</Username><UserLevel>Administrator</UserLevel></User></GetUsersResponse>`
	noUsers      = `<GetUsersResponse/>`
	clockAnswer  = `<GetSystemDateAndTimeResponse><SystemDateAndTime><UTCDateTime><Time><Hour>10</Hour><Minute>0</Minute><Second>0</Second></Time><Date><Year>2026</Year><Month>11</Month><Day>23</Day></Date></UTCDateTime></SystemDateAndTime></GetSystemDateAndTimeResponse>`
	refusal      = `<Fault><Code><Value>Sender</Value><Subcode><Value>ter:NotAuthorized</Value></Subcode></Code></Fault>`
	networkReply = `<GetNetworkInterfacesResponse>
		<NetworkInterfaces token="lo"><Enabled>true</Enabled><Info><HwAddress>02:00:00:00:00:09</HwAddress></Info><IPv4><Config><Manual><Address>10.9.9.9</Address><PrefixLength>8</PrefixLength></Manual></Config></IPv4></NetworkInterfaces>
		<NetworkInterfaces token="lan&lt;0"><Enabled>true</Enabled><Info><HwAddress>02:00:00:00:00:01</HwAddress></Info><IPv4><Config><Manual><Address>10.0.0.9</Address><PrefixLength>24</PrefixLength></Manual><FromDHCP><Address>10.0.0.8</Address><PrefixLength>16</PrefixLength></FromDHCP><DHCP>true</DHCP></Config></IPv4></NetworkInterfaces>
	</GetNetworkInterfacesResponse>`
)

// stub answers by the operation named in the request.
// prefixForm is that of a tag with a prefix.
var prefixForm = regexp.MustCompile(`<([a-z0-9]+):`)

func stub(t testing.TB, answer func(w http.ResponseWriter, r *http.Request, op string, body string)) *Client {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		_, op, _ := strings.Cut(string(b), "<s:Body><")
		_, op, _ = strings.Cut(op, ":") // after the prefix of its service
		op = op[:strings.IndexAny(op+">", ">/ ")]
		for _, prefix := range prefixForm.FindAllSubmatch(b, -1) {
			assert.Contains(t, string(b), "xmlns:"+string(prefix[1])+`="`, "%s: its prefixes are declared", op)
		}
		answer(&answering{ResponseWriter: w, op: op}, r, op, string(b))
	}))
	t.Cleanup(srv.Close)
	return New("http", strings.TrimPrefix(srv.URL, "http://"), "", http.DefaultTransport)
}

// answering is the answer to an operation: where a test gives none of its own to a write, it
// says that that is done, as a device does.
type answering struct {
	http.ResponseWriter
	op string
}

func send(w http.ResponseWriter, status int, body string) {
	if a, ok := w.(*answering); ok && status == http.StatusOK && !strings.HasPrefix(a.op, "Get") && !strings.Contains(body, a.op+"Response") && !strings.Contains(body, "Fault") {
		body = "<" + a.op + "Response/>"
	}
	w.WriteHeader(status)
	io.WriteString(w, `<e:Envelope xmlns:e="`+soap.EnvelopeNS+`"><e:Body>`+body+`</e:Body></e:Envelope>`)
}

func TestAccess(t *testing.T) {
	for name, c := range map[string]struct {
		status int
		body   string
		want   device.Access
	}{
		"no users":                      {200, noUsers, device.Fresh},
		"only a viewer":                 {200, strings.Replace(usersAnswer, "Administrator", "User", 1), device.Fresh},
		"an administrator, readable":    {200, usersAnswer, device.Sealed},
		"refused with a fault":          {400, refusal, device.Sealed},
		"refused with 401 and no body":  {401, "", device.Sealed},
		"refused with a fault over 500": {500, refusal, device.Sealed},
	} {
		cl := stub(t, func(w http.ResponseWriter, _ *http.Request, op, _ string) { send(w, c.status, c.body) })
		got, err := cl.Access(t.Context())
		require.NoError(t, err, name)
		assert.Equal(t, c.want, got, name)
	}
}

func TestStrongestDigestIsTaken(t *testing.T) {
	var used string
	cl := stub(t, func(w http.ResponseWriter, r *http.Request, op, body string) {
		auth := r.Header.Get("Authorization")
		switch {
		case op == "GetSystemDateAndTime":
			send(w, 200, clockAnswer)
		case auth == "":
			w.Header().Add("WWW-Authenticate", `Digest realm="r", qop="auth", nonce="n", algorithm=MD5`)
			w.Header().Add("WWW-Authenticate", `Basic realm="r"`)
			w.Header().Add("WWW-Authenticate", `Digest realm="r", qop="auth", nonce="n", algorithm=SHA-256`)
			send(w, 401, refusal)
		default:
			used = auth
			assert.NotContains(t, body, "UsernameToken")
			send(w, 200, usersAnswer)
		}
	})
	ok, err := cl.Enter(t.Context(), "admin", secret.New("Quay-side7"))
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Contains(t, used, "SHA-256")
}

// A further user's password is offered beside the client's own, once.
func TestOpens(t *testing.T) {
	for name, c := range map[string]struct {
		status int
		body   string
		want   bool
	}{
		"fits":                {200, networkReply, true},
		"known, not allowed":  {403, refusal, true},
		"wrong":               {401, refusal, false},
		"wrong, in its words": {400, refusal, false},
	} {
		offered := 0
		cl := stub(t, func(w http.ResponseWriter, r *http.Request, op, _ string) {
			auth := r.Header.Get("Authorization")
			switch {
			case op == "GetSystemDateAndTime":
				send(w, 200, clockAnswer)
			case strings.Contains(auth, `username="admin"`):
				send(w, 200, usersAnswer)
			case strings.Contains(auth, `username="viewer"`):
				offered++
				send(w, c.status, c.body)
			default:
				w.Header().Add("WWW-Authenticate", `Digest realm="r", qop="auth", nonce="n", algorithm=SHA-256`)
				send(w, 401, refusal)
			}
		})
		ok, err := cl.Enter(t.Context(), "admin", secret.New("Quay-side7"))
		require.NoError(t, err, name)
		require.True(t, ok, name)
		ok, err = cl.Opens(t.Context(), "viewer", secret.New("View-the-quay-7"))
		require.NoError(t, err, name)
		assert.Equal(t, c.want, ok, name)
		assert.Equal(t, 1, offered, name)
		users, err := cl.Users(t.Context())
		require.NoError(t, err, "%s: the client goes on with its own", name)
		assert.NotEmpty(t, users, name)
	}
}

func TestBasicIsNeverUsed(t *testing.T) {
	cl := stub(t, func(w http.ResponseWriter, r *http.Request, op, body string) {
		assert.Empty(t, r.Header.Get("Authorization"))
		assert.NotContains(t, body, "Quay-side7")
		if op == "GetSystemDateAndTime" {
			send(w, 200, clockAnswer)
			return
		}
		w.Header().Set("WWW-Authenticate", `Basic realm="r"`)
		send(w, 401, "")
	})
	ok, err := cl.Enter(t.Context(), "admin", secret.New("Quay-side7"))
	require.NoError(t, err)
	assert.False(t, ok)
}

func TestTokenUsesTheDevicesClock(t *testing.T) {
	cl := stub(t, func(w http.ResponseWriter, _ *http.Request, op, body string) {
		switch {
		case op == "GetSystemDateAndTime":
			send(w, 200, clockAnswer)
		case strings.Contains(body, "UsernameToken"):
			assert.Contains(t, body, ">2026-11-23T10:00:0")
			send(w, 200, usersAnswer)
		default:
			send(w, 400, refusal)
		}
	})
	ok, err := cl.Enter(t.Context(), "admin", secret.New("Quay-side7"))
	require.NoError(t, err)
	assert.True(t, ok)
}

func TestADeviceThatLetsAnyoneListItsUsersIsNotOpened(t *testing.T) {
	cl := stub(t, func(w http.ResponseWriter, _ *http.Request, op, _ string) {
		if op == "GetSystemDateAndTime" {
			send(w, 200, clockAnswer)
			return
		}
		send(w, 200, noUsers)
	})
	ok, err := cl.Enter(t.Context(), "admin", secret.New("Quay-side7"))
	require.NoError(t, err)
	assert.False(t, ok, "no such user: the password was not what opened it")
}

func TestARedirectIsNotFollowed(t *testing.T) {
	elsewhere := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { t.Error("followed") }))
	defer elsewhere.Close()
	cl := stub(t, func(w http.ResponseWriter, r *http.Request, _, _ string) {
		http.Redirect(w, r, elsewhere.URL, http.StatusTemporaryRedirect)
	})
	_, err := cl.Information(t.Context())
	require.Error(t, err)
}

func TestLostRepliesAreToldFromUnsentRequests(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() {
		c, err := l.Accept()
		if err == nil {
			io.ReadFull(c, make([]byte, 200))
			c.Close()
		}
	}()
	cl := New("http", l.Addr().String(), "", &http.Transport{})
	require.ErrorIs(t, cl.Restart(t.Context()), ErrNoReply)
	l.Close()
	require.ErrorIs(t, New("http", l.Addr().String(), "", &http.Transport{}).Restart(t.Context()), ErrUnreachable)
}

// A device may drop an idle connection at any time: a reading is asked again,
// and a write goes on a connection of its own.
func TestDroppedIdleConnectionsAreNoLoss(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			if r, err := http.ReadRequest(bufio.NewReader(c)); err == nil {
				asked, _ := io.ReadAll(r.Body)
				body := `<Envelope><Body><R><Manufacturer>Verrine</Manufacturer></R></Body></Envelope>`
				if strings.Contains(string(asked), "SystemReboot") {
					body = strings.ReplaceAll(body, "R>", "SystemRebootResponse>")
				}
				fmt.Fprintf(c, "HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%s", len(body), body)
			}
			c.Close() // though it never said that it would
		}
	}()
	cl := New("http", l.Addr().String(), "", &http.Transport{})
	for range 20 {
		_, err := cl.Information(t.Context())
		require.NoError(t, err)
		require.NoError(t, cl.Restart(t.Context()))
	}
}

// A password that is not known to fit is sent once, whatever comes in place of its answer, and
// nothing is concluded from that of the password.
func TestAnUnprovenPasswordIsSentOnce(t *testing.T) {
	hangsUp := func(http.ResponseWriter) { panic(http.ErrAbortHandler) }
	page := func(w http.ResponseWriter) {
		w.WriteHeader(http.StatusInternalServerError)
		_, _ = io.WriteString(w, "<html><body><h1>Internal Server Error</h1></body></html>")
	}
	for _, c := range []struct {
		scheme, how string
		instead     func(http.ResponseWriter)
	}{
		{"token", "hangs up", hangsUp},
		{"digest", "hangs up", hangsUp},
		{"token", "a page", page},
		{"digest", "a page", page},
	} {
		t.Run(c.scheme+" "+c.how, func(t *testing.T) {
			var offered atomic.Int32
			srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				b, _ := io.ReadAll(r.Body)
				switch {
				case strings.Contains(string(b), "GetSystemDateAndTime"):
					send(w, 200, clockAnswer)
				case strings.Contains(string(b), "UsernameToken") || r.Header.Get("Authorization") != "":
					offered.Add(1)
					c.instead(w)
				case c.scheme == "digest":
					w.Header().Set("WWW-Authenticate", `Digest realm="r", qop="auth", nonce="n", algorithm=MD5`)
					send(w, 401, refusal)
				default:
					send(w, 400, refusal)
				}
			}))
			defer srv.Close()
			cl := New("http", strings.TrimPrefix(srv.URL, "http://"), "", &http.Transport{})
			_, err := cl.Enter(t.Context(), "admin", secret.New("Quay-side7"))
			require.ErrorIs(t, err, ErrNoReply)
			assert.EqualValues(t, 1, offered.Load())
			_, err = cl.Opens(t.Context(), "viewer", secret.New("Quay-side8"))
			require.ErrorIs(t, err, ErrNoReply)
			assert.EqualValues(t, 2, offered.Load())
		})
	}
}

func TestHostileAnswersAreErrors(t *testing.T) {
	for name, body := range map[string]string{
		"not XML": "<<", "nested": strings.Repeat("<a>", 1000), "endless": strings.Repeat(" ", soap.MaxMessage+10),
	} {
		cl := stub(t, func(w http.ResponseWriter, _ *http.Request, _, _ string) { send(w, 200, body) })
		_, err := cl.Information(t.Context())
		assert.Error(t, err, name)
	}
	_, _, err := stub(t, func(w http.ResponseWriter, _ *http.Request, _, _ string) {
		w.Header()["Date"] = nil
		send(w, 200, "<X><SystemDateAndTime/></X>")
	}).Clock(t.Context())
	assert.Error(t, err)
}

func TestALockedDeviceIsToldFromAWrongPassword(t *testing.T) {
	for name, c := range map[string]struct {
		status int
		retry  string
		body   string
		wait   time.Duration
		locked bool
	}{
		"423":                     {423, "", "", 0, true},
		"429 with seconds":        {429, "90", "", 90 * time.Second, true},
		"429 with too much":       {429, "99999999999", "", 24 * time.Hour, true},
		"429 for days":            {429, "999999", "", 24 * time.Hour, true},
		"429 with nonsense":       {429, "soon", "", 0, true},
		"429 in the past":         {429, "Mon, 02 Jan 2006 15:04:05 GMT", "", 0, true},
		"a fault that says so":    {400, "", strings.Replace(refusal, "</Code>", "</Code><Reason><Text>Account is locked</Text></Reason>", 1), 0, true},
		"a subcode that says so":  {400, "", strings.Replace(refusal, "</Value></Subcode>", "</Value><Subcode><Value>x:LockedOut</Value></Subcode></Subcode>", 1), 0, true},
		"too many":                {401, "1800", strings.Replace(refusal, "</Code>", "</Code><Reason><Text>Too many attempts</Text></Reason>", 1), 30 * time.Minute, true},
		"a wrong password":        {401, "", refusal, 0, false},
		"a setting that is fixed": {400, "", strings.Replace(strings.Replace(refusal, "</Code>", "</Code><Reason><Text>The lock is locked</Text></Reason>", 1), "NotAuthorized", "OperationProhibited", 1), 0, false},
	} {
		cl := stub(t, func(w http.ResponseWriter, _ *http.Request, _, _ string) {
			w.Header().Set("Retry-After", c.retry)
			send(w, c.status, c.body)
		})
		_, err := cl.Users(t.Context())
		var locked *LockedError
		require.Equal(t, c.locked, errors.As(err, &locked), "%s: %v", name, err)
		if c.locked {
			assert.Equal(t, c.wait, locked.Wait, name)
			assert.NotErrorIs(t, err, ErrRefused, name)
		}
	}
}

func TestCallEndsWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cl := stub(t, func(_ http.ResponseWriter, r *http.Request, _, _ string) { cancel(); <-r.Context().Done() })
	require.ErrorIs(t, cl.Restart(ctx), ErrNoReply)
}
