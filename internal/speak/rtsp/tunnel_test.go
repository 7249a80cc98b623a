package rtsp

import (
	"bufio"
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"

	"github.com/icholy/digest"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/secret"
)

// webCamera answers inside HTTP: its GET by what get says, and what a POST asks by the answer
// to that, on the GET of the same session.
func webCamera(get func(r *http.Request) string, answer func(string) string) func(context.Context) (net.Conn, error) {
	sessions := map[string]net.Conn{} // one after another
	return func(context.Context) (net.Conn, error) {
		own, other := net.Pipe()
		go func() {
			r := bufio.NewReader(other)
			req, err := http.ReadRequest(r)
			if err != nil {
				return
			}
			id := req.Header.Get("x-sessioncookie")
			if req.Method == http.MethodGet {
				sessions[id] = other
				head := get(req)
				_, _ = io.WriteString(other, head)
				if !strings.Contains(head, "200 OK") {
					other.Close()
				}
				return
			}
			for text := ""; ; {
				b := make([]byte, 4)
				if _, err := io.ReadFull(r, b); err != nil {
					return
				}
				plain, _ := base64.StdEncoding.DecodeString(string(b))
				if text += string(plain); strings.HasSuffix(text, "\r\n\r\n") {
					_, _ = io.WriteString(sessions[id], answer(text))
					text = ""
				}
			}
		}()
		return own, nil
	}
}

func TestDescribeInsideHTTP(t *testing.T) {
	const uri = "http://10.61.8.41/still/1"
	open := func(*http.Request) string {
		return "HTTP/1.0 200 OK\r\nContent-Type: application/x-rtsp-tunnelled\r\n\r\n"
	}
	asked := func(request string) string {
		if !strings.HasPrefix(request, "DESCRIBE rtsp://10.61.8.41/still/1 RTSP/1.0\r\n") {
			return reply("400 Bad Request", "", "")
		}
		return reply("200 OK", "", still)
	}
	guarded := func(r *http.Request) string {
		c, err := digest.ParseCredentials(r.Header.Get("Authorization"))
		if err != nil {
			return "HTTP/1.1 401 Unauthorized\r\nWWW-Authenticate: Digest realm=\"cam\", nonce=\"n1\", algorithm=MD5\r\nContent-Length: 0\r\n\r\n"
		}
		want, err := digest.Digest(&digest.Challenge{Realm: "cam", Nonce: "n1", Algorithm: "MD5"}, digest.Options{Method: "GET", URI: "/still/1", Username: "recorder", Password: "Quay-7"})
		if err != nil || want.Response != c.Response {
			return "HTTP/1.1 401 Unauthorized\r\nWWW-Authenticate: Digest realm=\"cam\", nonce=\"n1\", algorithm=MD5\r\n\r\n"
		}
		return open(r)
	}
	says := func(status string) func(*http.Request) string {
		return func(*http.Request) string { return fmt.Sprintf("HTTP/1.1 %s\r\n\r\n", status) }
	}
	for name, x := range map[string]struct {
		get      func(*http.Request) string
		password string
		err      error
	}{
		"open":                 {open, "Quay-7", nil},
		"guarded":              {guarded, "Quay-7", nil},
		"wrong password":       {guarded, "Quay-8", ErrRefused},
		"not for anyone":       {says("403 Forbidden"), "Quay-7", ErrUnasked},
		"not there":            {says("404 Not Found"), "Quay-7", ErrNoStream},
		"sent elsewhere":       {says("302 Found"), "Quay-7", ErrNoStream},
		"asks for it as it is": {says("401 Unauthorized\r\nWWW-Authenticate: Basic realm=\"x\""), "Quay-7", ErrUnasked},
		"no HTTP":              {func(*http.Request) string { return "RTSP/1.0 200 OK\r\n\r\n" }, "Quay-7", ErrUnreachable},
		"hangs up":             {func(*http.Request) string { return "" }, "Quay-7", ErrUnreachable},
	} {
		t.Run(name, func(t *testing.T) {
			d, err := Describe(t.Context(), webCamera(x.get, asked), uri, "recorder", secret.New(x.password))
			if x.err != nil {
				require.ErrorIs(t, err, x.err)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, Description{"JPEG", 640, 480}, d)
		})
	}
}
