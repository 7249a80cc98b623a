package onvif

import (
	"net/http"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A connection that ends before the answer has a question asked once more, and no write.
func TestAQuestionWhoseConnectionEndsIsAskedOnceMore(t *testing.T) {
	for _, c := range []struct {
		name     string
		hangs    int32 // so many times
		op       string
		ask      func(c *Client) error
		requests int32
		ok       bool
	}{
		{"a question", 1, "GetDNS", func(c *Client) error { _, err := c.DNS(t.Context()); return err }, 2, true},
		{"a question, for good", 9, "GetDNS", func(c *Client) error { _, err := c.DNS(t.Context()); return err }, 2, false},
		{"a write", 1, "SetNetworkProtocols", func(c *Client) error { return c.SetRTSPPort(t.Context(), 5041) }, 1, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			var asked, hung atomic.Int32
			client := stub(t, func(w http.ResponseWriter, _ *http.Request, op, _ string) {
				if op != c.op {
					send(w, http.StatusOK, "<R/>")
					return
				}
				asked.Add(1)
				if hung.Add(1) <= c.hangs {
					conn, _, err := w.(http.Hijacker).Hijack()
					require.NoError(t, err)
					conn.Close()
					return
				}
				send(w, http.StatusOK, "<R><DNSInformation><FromDHCP>false</FromDHCP></DNSInformation></R>")
			})
			err := c.ask(client)
			assert.Equal(t, c.ok, err == nil, "%v", err)
			assert.Equal(t, c.requests, asked.Load())
		})
	}
}
