package web

import (
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLinksAreMended(t *testing.T) {
	m := newMender("192.168.77.2", func(p Port) string {
		return fmt.Sprintf("%s-%d.test", p.scheme(), p.Number)
	})
	for in, want := range map[string]string{
		`<a href="http://192.168.77.2/x">`:          `<a href="http://http-80.test/x">`,
		`<a href='//192.168.77.2/x'>`:               `<a href='//http-80.test/x'>`,
		`"http:\/\/192.168.77.2\/x"`:                `"http:\/\/http-80.test\/x"`,
		`https://192.168.77.2/`:                     `http://https-443.test/`,
		`HTTPS://192.168.77.2:8443/`:                `http://https-8443.test/`,
		`ws://192.168.77.2/live`:                    `ws://http-80.test/live`,
		`wss://192.168.77.2:8443/live`:              `ws://https-8443.test/live`,
		`url(http://192.168.77.2:8080/a.png)`:       `url(http://http-8080.test/a.png)`,
		`http://192.168.77.20/x`:                    `http://192.168.77.20/x`,
		`http://192.168.77.2.example/x`:             `http://192.168.77.2.example/x`,
		`/files//192.168.77.2/x`:                    `/files//192.168.77.2/x`,
		`at 192.168.77.2 since`:                     `at 192.168.77.2 since`,
		`http://192.168.77.2:99999/`:                `http://192.168.77.2:99999/`,
		`rtsp://192.168.77.2/stream`:                `rtsp://192.168.77.2/stream`,
		`http://192.168.77.2/a http://192.168.77.2`: `http://http-80.test/a http://http-80.test`,
	} {
		assert.Equal(t, want, string(m.out([]byte(in), Port{80, false})))
	}
	six := newMender("[fe80::1]", func(Port) string { return "six.test" })
	assert.Equal(t, "http://six.test/a", string(six.out([]byte("http://[fe80::1]/a"), Port{80, false})))
}

func TestMendCookie(t *testing.T) {
	assert.Equal(t, "id=7; Path=/; HttpOnly", mendCookie("id=7; Domain=192.168.77.2; Path=/; Secure; HttpOnly; SameSite=None"))
	assert.Equal(t, "id=7; SameSite=Lax", mendCookie("id=7; SameSite=Lax"))
}

// A device behind the server, met through a dialer as through a path.
func serve(t *testing.T, device http.Handler) (link string, client *http.Client) {
	far := httptest.NewServer(device)
	t.Cleanup(far.Close)
	s, err := Listen(slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- s.Serve(ctx) }()
	t.Cleanup(func() { cancel(); assert.NoError(t, <-done) })
	d := &Device{Label: "C01", Address: netip.MustParseAddr("192.168.77.2"), Dial: func(ctx context.Context, port uint16) (net.Conn, error) {
		assert.Equal(t, uint16(80), port)
		return (&net.Dialer{}).DialContext(ctx, "tcp", far.Listener.Addr().String())
	}}
	link = s.Open(d, Port{Number: 80})
	assert.Equal(t, link, s.Open(d, Port{Number: 80}), "one name for one port")
	// A browser leads *.localhost to loopback by itself (RFC 6761, 6.3).
	return link, &http.Client{
		Transport: &http.Transport{DisableCompression: true, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "tcp", s.listener.Addr().String())
		}},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

func TestADeviceIsAskedAsItsOwnPagesWouldAsk(t *testing.T) {
	link, client := serve(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/":
			assert.Equal(t, "192.168.77.2", r.Host)
			assert.Equal(t, "http://192.168.77.2/a?b", r.Header.Get("Referer"))
			assert.Equal(t, "http://192.168.77.2", r.Header.Get("Origin"))
			assert.Equal(t, `Digest username="u", uri="/"`, r.Header.Get("Authorization"))
			assert.Empty(t, r.Header.Get("X-Forwarded-For"))
			w.Header().Set("Location", "http://192.168.77.2/home")
			w.Header().Set("Strict-Transport-Security", "max-age=1")
			w.Header().Add("Www-Authenticate", `Digest realm="x"`)
			w.WriteHeader(http.StatusFound)
		case "/packed": // packed whatever it was asked
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			w.Header().Set("Content-Encoding", "gzip")
			z := gzip.NewWriter(w)
			fmt.Fprint(z, `<a href="http://192.168.77.2/x">`)
			z.Close()
		case "/picture":
			w.Header().Set("Content-Type", "image/jpeg")
			fmt.Fprint(w, "http://192.168.77.2/ is a part of the picture")
		}
	}))
	get := func(path string, header http.Header) (*http.Response, string) {
		r, err := http.NewRequest(http.MethodGet, strings.TrimSuffix(link, "/")+path, nil)
		require.NoError(t, err)
		r.Header = header
		res, err := client.Do(r)
		require.NoError(t, err)
		defer res.Body.Close()
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res, string(body)
	}
	res, _ := get("/", http.Header{"Referer": {link + "a?b"}, "Origin": {strings.TrimSuffix(link, "/")}, "Authorization": {`Digest username="u", uri="/"`}})
	assert.Equal(t, link+"home", res.Header.Get("Location"))
	assert.Empty(t, res.Header.Get("Strict-Transport-Security"))
	assert.Equal(t, `Digest realm="x"`, res.Header.Get("Www-Authenticate"))
	res, body := get("/packed", nil)
	assert.Equal(t, `<a href="`+link+`x">`, body)
	assert.Empty(t, res.Header.Get("Content-Encoding"))
	_, body = get("/picture", nil)
	assert.Equal(t, "http://192.168.77.2/ is a part of the picture", body)

	r, err := http.NewRequest(http.MethodGet, "http://guess.localhost/", nil)
	require.NoError(t, err)
	res, err = client.Do(r)
	require.NoError(t, err)
	res.Body.Close()
	assert.Equal(t, http.StatusNotFound, res.StatusCode, "no name, no page")
}

func TestForwardCarriesBytesBothWays(t *testing.T) {
	near, far := net.Pipe()
	go func() {
		b := make([]byte, 5)
		_, _ = io.ReadFull(far, b)
		_, _ = far.Write([]byte(strings.ToUpper(string(b))))
		far.Close()
	}()
	d := &Device{Label: "C01", Dial: func(context.Context, uint16) (net.Conn, error) { return near, nil }}
	at, err := Forward(t.Context(), d, 554, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	assert.True(t, at.Addr().IsLoopback())
	c, err := net.Dial("tcp", at.String())
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Write([]byte("hello"))
	require.NoError(t, err)
	answer, err := io.ReadAll(c)
	require.NoError(t, err)
	assert.Equal(t, "HELLO", string(answer))
}

func FuzzMend(f *testing.F) {
	f.Add([]byte(`<a href="http://192.168.77.2:80/x">//192.168.77.2`))
	m := newMender("192.168.77.2", func(Port) string { return "a.localhost:1" })
	f.Fuzz(func(t *testing.T, b []byte) {
		if !strings.Contains(string(b), "192.168.77.2") {
			require.Equal(t, string(b), string(m.out(b, Port{80, false})))
			return
		}
		m.out(b, Port{443, true})
	})
}
