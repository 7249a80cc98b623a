package onvif

import (
	"bytes"
	"crypto/md5"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/secret"
	"janustat/internal/speak/soap"
)

func imageOf(data []byte) Image {
	return Image{Name: "x.bin", Size: int64(len(data)), Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }}
}

const startAnswer = `<StartFirmwareUpgradeResponse><UploadUri>http://192.0.2.99/up?id=7</UploadUri><UploadDelay>PT0S</UploadDelay><ExpectedDownTime>PT2M</ExpectedDownTime></StartFirmwareUpgradeResponse>`

// An image is sent to where the device is met, whatever host it names, once, and with HTTP Digest where it asks for
// that; what it says to it is told from what became of it being unknown.
func TestAnImageIsUploaded(t *testing.T) {
	image := bytes.Repeat([]byte("firmware"), 40_000)
	for name, c := range map[string]struct {
		digest bool
		status int
		hangUp bool
		is     error
		fault  bool
	}{
		"taken":                {status: 200},
		"taken with a login":   {digest: true, status: 200},
		"refused":              {status: 415, fault: true},
		"hung up":              {hangUp: true, is: ErrNoReply},
		"refused with a login": {digest: true, status: 500, fault: true},
	} {
		t.Run(name, func(t *testing.T) {
			var took [][]byte
			var mu sync.Mutex
			srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.URL.Path != "/up" {
					_, _ = io.Copy(io.Discard, r.Body)
					send(w, 200, startAnswer)
					return
				}
				assert.Equal(t, "id=7", r.URL.RawQuery)
				if c.digest && r.Header.Get("Authorization") == "" {
					assert.Equal(t, http.MethodHead, r.Method, "nothing of an image is sent in vain")
					w.Header().Set("WWW-Authenticate", `Digest realm="r", qop="auth", nonce="n", algorithm=MD5`)
					w.WriteHeader(http.StatusUnauthorized)
					return
				}
				if c.digest {
					p := map[string]string{}
					for _, m := range regexp.MustCompile(`(\w+)=(?:"([^"]*)"|([^,]*))`).FindAllStringSubmatch(r.Header.Get("Authorization"), -1) {
						p[m[1]] = m[2] + m[3]
					}
					sum := func(s string) string { return fmt.Sprintf("%x", md5.Sum([]byte(s))) }
					assert.Equal(t, sum(sum("admin:r:Quay-side7")+":n:"+p["nc"]+":"+p["cnonce"]+":auth:"+sum(r.Method+":"+p["uri"])), p["response"])
				}
				if r.Method == http.MethodHead {
					return
				}
				assert.EqualValues(t, len(image), r.ContentLength)
				data, err := io.ReadAll(r.Body)
				assert.NoError(t, err)
				mu.Lock()
				took = append(took, data)
				mu.Unlock()
				if c.hangUp {
					panic(http.ErrAbortHandler)
				}
				w.WriteHeader(c.status)
			}))
			defer srv.Close()
			cl := New("http", strings.TrimPrefix(srv.URL, "http://"), "", &http.Transport{})
			cl.login("admin", secret.New("Quay-side7"))
			down, err := cl.Flash(t.Context(), imageOf(image))
			var fault *soap.Fault
			switch {
			case c.is != nil:
				require.ErrorIs(t, err, c.is)
			case c.fault:
				require.ErrorAs(t, err, &fault)
				assert.Equal(t, c.status, fault.Status)
			default:
				require.NoError(t, err)
				assert.Equal(t, 2*time.Minute, down)
			}
			mu.Lock()
			defer mu.Unlock()
			require.Len(t, took, 1)
			assert.True(t, bytes.Equal(image, took[0]))
		})
	}
}

// A device never has all of an image that cannot be read to its end, and that is told as what it is.
func TestAnImageThatBreaksOffIsNoneOfTheDevices(t *testing.T) {
	var whole atomic.Bool
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/up" {
			_, _ = io.Copy(io.Discard, r.Body)
			send(w, 200, startAnswer)
			return
		}
		_, err := io.ReadAll(r.Body)
		if r.Method == http.MethodPost && err == nil {
			whole.Store(true)
		}
	}))
	defer srv.Close()
	cl := New("http", strings.TrimPrefix(srv.URL, "http://"), "", &http.Transport{})
	own := errors.New("it changed")
	_, err := cl.Flash(t.Context(), Image{Size: 1 << 20, Open: func() (io.ReadCloser, error) {
		return io.NopCloser(io.MultiReader(bytes.NewReader(make([]byte, 1000)), iotest.ErrReader(own))), nil
	}})
	require.ErrorIs(t, err, own)
	assert.False(t, whole.Load())
}

// Where no place for an upload is offered, the image goes along with the question.
func TestAnImageIsAttached(t *testing.T) {
	image := bytes.Repeat([]byte("firmware"), 40_000)
	for name, c := range map[string]struct {
		answer string
		is     error
		fault  bool
	}{
		"taken":       {"<UpgradeSystemFirmwareResponse/>", nil, false},
		"wrong image": {strings.Replace(unsupported, "ActionNotSupported", "InvalidFirmware", 1), nil, true},
		"no such":     {unsupported, ErrNoFirmware, false},
		"no sense":    {"<Other/>", ErrNoReply, false},
	} {
		t.Run(name, func(t *testing.T) {
			asked := 0
			srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				kind, params, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
				assert.NoError(t, err)
				if kind != multipartRelated {
					_, _ = io.Copy(io.Discard, r.Body)
					send(w, 500, unsupported)
					return
				}
				asked++
				assert.Equal(t, "application/xop+xml", params["type"])
				m := multipart.NewReader(r.Body, params["boundary"])
				first, err := m.NextRawPart()
				require.NoError(t, err)
				message, err := io.ReadAll(first)
				require.NoError(t, err)
				assert.Equal(t, "UpgradeSystemFirmware", soap.Names(message))
				second, err := m.NextRawPart()
				require.NoError(t, err)
				assert.Contains(t, string(message), "cid:"+strings.Trim(second.Header.Get("Content-Id"), "<>"))
				data, err := io.ReadAll(second)
				require.NoError(t, err)
				assert.True(t, bytes.Equal(image, data))
				send(w, 200, c.answer)
			}))
			defer srv.Close()
			cl := New("http", strings.TrimPrefix(srv.URL, "http://"), "", &http.Transport{})
			_, err := cl.Flash(t.Context(), imageOf(image))
			var fault *soap.Fault
			switch {
			case c.is != nil:
				require.ErrorIs(t, err, c.is)
			case c.fault:
				require.ErrorAs(t, err, &fault)
				assert.True(t, fault.Last("InvalidFirmware"))
			default:
				require.NoError(t, err)
			}
			assert.Equal(t, 1, asked)
		})
	}
}

func TestDurationsOfXMLSchema(t *testing.T) {
	for s, want := range map[string]time.Duration{
		"PT0S": 0, "PT90S": 90 * time.Second, "PT1M30.5S": 90*time.Second + 500*time.Millisecond, " PT2H ": 2 * time.Hour,
		"P1D": 24 * time.Hour, "P9D": 24 * time.Hour, "": 0, "P1Y": 0, "-PT5S": 0, "PT99999999999999999999S": 24 * time.Hour, "5": 0,
	} {
		assert.Equal(t, want, durationOf(s), s)
	}
}
