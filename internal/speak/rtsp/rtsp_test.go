package rtsp

import (
	"bufio"
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"testing"

	"github.com/icholy/digest"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/secret"
)

const still = "v=0\r\no=- 1 1 IN IP4 10.0.0.1\r\ns=x\r\nt=0 0\r\nm=audio 0 RTP/AVP 0\r\nm=video 0 RTP/AVP 26\r\na=framesize:26 640-480\r\n"

// camera answers each request with what answer gives; the connection ends with "".
func camera(answer func(request string, n int) string) func(context.Context) (net.Conn, error) {
	return func(context.Context) (net.Conn, error) {
		own, other := net.Pipe()
		go func() {
			defer other.Close()
			r := bufio.NewReader(other)
			for n := 1; ; n++ {
				var text strings.Builder
				for {
					line, err := r.ReadString('\n')
					if err != nil {
						return
					}
					if line == "\r\n" {
						break
					}
					text.WriteString(line)
				}
				a := answer(text.String(), n)
				if a == "" {
					return
				}
				if _, err := io.WriteString(other, a); err != nil {
					return
				}
			}
		}()
		return own, nil
	}
}

func reply(status string, header, body string) string {
	if body != "" {
		header += "Content-Type: application/sdp\r\nContent-Length: " + itoa(len(body)) + "\r\n"
	}
	return "RTSP/1.0 " + status + "\r\nCSeq: 1\r\n" + header + "\r\n" + body
}

func itoa(n int) string { return strconv.Itoa(n) }

func TestDescribe(t *testing.T) {
	const uri = "rtsp://10.61.8.41/still/1"
	const challenge = `WWW-Authenticate: Basic realm="x"` + "\r\n" + `WWW-Authenticate: Digest realm="cam", nonce="n1", algorithm=MD5` + "\r\n"
	guarded := func(request string, _ int) string {
		_, auth, ok := strings.Cut(request, "Authorization: ")
		if !ok {
			return reply("401 Unauthorized", challenge, "")
		}
		c, err := digest.ParseCredentials(strings.TrimSpace(auth))
		if err != nil {
			return ""
		}
		want, err := digest.Digest(&digest.Challenge{Realm: "cam", Nonce: "n1", Algorithm: "MD5"}, digest.Options{Method: "DESCRIBE", URI: uri, Username: "recorder", Password: "Quay-7"})
		if err != nil || want.Response != c.Response || c.URI != uri {
			return reply("401 Unauthorized", challenge, "")
		}
		return reply("200 OK", "", still)
	}
	for name, x := range map[string]struct {
		answer   func(string, int) string
		password string
		want     Description
		err      error
	}{
		"by digest":            {guarded, "Quay-7", Description{"JPEG", 640, 480}, nil},
		"wrong password":       {guarded, "Quay-8", Description{}, ErrRefused},
		"asks for no password": {func(string, int) string { return reply("200 OK", "", still) }, "", Description{"JPEG", 640, 480}, nil},
		"basic alone": {func(string, int) string {
			return reply("401 Unauthorized", `WWW-Authenticate: Basic realm="x"`+"\r\n", "")
		}, "Quay-7", Description{}, ErrUnasked},
		"not for anyone": {func(string, int) string { return reply("403 Forbidden", "", "") }, "Quay-7", Description{}, ErrUnasked},
		"not for this user": {func(r string, n int) string {
			if n == 2 {
				return reply("403 Forbidden", "", "")
			}
			return guarded(r, n)
		}, "Quay-7", Description{}, ErrRefused},
		"no such stream": {func(string, int) string { return reply("404 Not Found", "", "") }, "Quay-7", Description{}, ErrNoStream},
		"sent elsewhere": {func(string, int) string { return reply("302 Found", "Location: rtsp://10.9.9.9/\r\n", "") }, "Quay-7", Description{}, ErrNoStream},
		"no video": {func(string, int) string {
			return reply("200 OK", "", "v=0\r\no=- 1 1 IN IP4 1.1.1.1\r\ns=x\r\nt=0 0\r\nm=audio 0 RTP/AVP 0\r\n")
		}, "", Description{}, ErrNoStream},
		"no SDP":             {func(string, int) string { return reply("200 OK", "", "<html>") }, "", Description{}, ErrNoStream},
		"hangs up":           {func(string, int) string { return "" }, "", Description{}, ErrUnreachable},
		"speaks HTTP":        {func(string, int) string { return "HTTP/1.1 200 OK\r\n\r\n" }, "", Description{}, ErrUnreachable},
		"endless header":     {func(string, int) string { return "RTSP/1.0 200 OK\r\n" + strings.Repeat("X: y\r\n", 9000) }, "", Description{}, ErrUnreachable},
		"lies of its length": {func(string, int) string { return "RTSP/1.0 200 OK\r\nContent-Length: 99999999\r\n\r\n" }, "", Description{}, ErrUnreachable},
		"digest asked as old": {func(r string, n int) string {
			return map[bool]string{true: reply("401 Unauthorized", challenge, ""), false: reply("200 OK", "", still)}[n == 1]
		}, "Quay-7", Description{"JPEG", 640, 480}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			d, err := Describe(t.Context(), camera(x.answer), uri, "recorder", secret.New(x.password))
			if x.err == nil {
				require.NoError(t, err)
			}
			require.ErrorIs(t, err, x.err)
			assert.Equal(t, x.want, d)
		})
	}
	_, err := Describe(t.Context(), func(context.Context) (net.Conn, error) { return nil, errors.New("closed") }, uri, "x", secret.Password{})
	require.ErrorIs(t, err, ErrUnreachable)
}

func TestParse(t *testing.T) {
	const head = "v=0\r\no=- 1 1 IN IP4 1.1.1.1\r\ns=x\r\nt=0 0\r\n"
	for name, x := range map[string]struct {
		sdp  string
		want Description
	}{
		"H.264, and no size":     {head + "m=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\n", Description{Codec: "H264"}},
		"small letters":          {head + "m=video 0 RTP/AVP 98\r\na=rtpmap:98 h265/90000\r\na=x-dimensions: 3840,2160\r\n", Description{"H265", 3840, 2160}},
		"the first video counts": {head + "m=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\nm=video 0 RTP/AVP 26\r\n", Description{Codec: "H264"}},
		"of another payload":     {head + "m=video 0 RTP/AVP 96 97\r\na=rtpmap:97 VP8/90000\r\n", Description{}},
	} {
		d, err := Parse([]byte(x.sdp))
		require.NoError(t, err, name)
		assert.Equal(t, x.want, d, name)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(still))
	f.Fuzz(func(t *testing.T, data []byte) {
		d, err := Parse(data)
		if err != nil && !errors.Is(err, ErrNoStream) || d.Width < 0 || d.Width > 99999 {
			t.Fatal(d, err)
		}
	})
}

func FuzzReadAnswer(f *testing.F) {
	f.Add([]byte(reply("200 OK", "", still)))
	f.Fuzz(func(t *testing.T, data []byte) {
		a, err := readAnswer(bufio.NewReader(strings.NewReader(string(data))))
		if err == nil && (a.status < http.StatusContinue || a.status > 599 || len(a.body) > maxBody) {
			t.Fatal(a)
		}
	})
}
