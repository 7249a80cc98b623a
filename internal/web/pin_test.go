package web

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Of a device whose certificate is on record nothing is shown but what is shown under it:
// not by whoever takes its place later, and on no port without one.
func TestOnlyWhatIsUnderTheRecordedCertificateIsShown(t *testing.T) {
	page := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "type your password") })
	far := httptest.NewTLSServer(page)
	defer far.Close()
	sum := sha256.Sum256(far.Certificate().Raw)
	s, err := Listen(slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go func() { _ = s.Serve(ctx) }()
	client := &http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "tcp", s.listener.Addr().String())
	}}}
	dial := func(ctx context.Context, _ uint16) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "tcp", far.Listener.Addr().String())
	}
	for name, c := range map[string]struct {
		pin   string
		port  Port
		shown bool
	}{
		"its own":             {hex.EncodeToString(sum[:]), Port{443, true}, true},
		"another certificate": {"ab" + hex.EncodeToString(sum[1:]), Port{443, true}, false},
		"a port without one":  {hex.EncodeToString(sum[:]), Port{80, false}, false},
		"none on record":      {"", Port{443, true}, true},
	} {
		link := s.Open(&Device{Label: "C01", Address: netip.MustParseAddr("192.168.77.2"), Dial: dial, Pin: c.pin}, c.port)
		res, err := client.Get(link)
		require.NoError(t, err, name)
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		res.Body.Close()
		if c.shown {
			assert.Equal(t, "type your password", string(body), name)
		} else {
			assert.NotContains(t, string(body), "type your password", name)
			assert.Contains(t, string(body), "C01 is not shown on port", name)
		}
	}
}
