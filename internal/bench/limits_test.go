package bench

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
)

// What a device makes of its connections is what a client of it sees.
func TestWebServersEndConnectionsInTheirManner(t *testing.T) {
	for _, c := range []struct {
		manner, begins string
		ends           string // of a connection, after the first answer; "" goes on
	}{
		{"", "HTTP/1.1 200", ""},
		{closesIdle, "HTTP/1.1 200", "EOF"},
		{saysClose, "HTTP/1.1 200", "EOF"},
		{idleShort, "HTTP/1.1 200", "EOF"},
		{oldHTTP, "HTTP/1.0 200", "EOF"},
		{resetsAfter, "HTTP/1.1 200", "reset"},
	} {
		t.Run(c.manner, func(t *testing.T) {
			t.Parallel()
			said, err := talk(t, c.manner, 1500*time.Millisecond)
			assert.True(t, strings.HasPrefix(said, c.begins), said)
			assert.Contains(t, said, "GetSystemDateAndTimeResponse")
			switch c.ends {
			case "":
				var late net.Error
				require.ErrorAs(t, err, &late)
				assert.True(t, late.Timeout(), "it stays open")
			case "EOF":
				assert.NoError(t, err)
			default:
				assert.ErrorContains(t, err, c.ends)
			}
		})
	}
}

// talk asks a device of a manner one question, and reads until its end, or no longer than so.
func talk(t *testing.T, manner string, limit time.Duration) (said string, err error) {
	more := ", address: 10.61.8.9/23"
	if manner != "" {
		more += ", manners: [" + manner + "]"
	}
	s, err := Parse([]byte(fmt.Sprintf("site: x\ndevices: [{id: d, model: verrine-dome, mac: \"02:e4:42:00:01:01\", serial: S1%s}]\n", more)))
	require.NoError(t, err)
	sw := NewSwitch(0, 0, 1)
	ctx, cancel := context.WithCancel(t.Context())
	d := newDevice(ctx, sw, s.Devices[0], NewLog(nil))
	up, ended := make(chan struct{}), make(chan error, 1)
	go func() { ended <- d.run(func() { close(up) }) }()
	t.Cleanup(func() { cancel(); <-ended })
	<-up
	client := newHost(sw, "client", device.MAC{2, 0, 0, 0, 0, 9})
	require.NoError(t, client.up(netip.MustParsePrefix("10.61.8.10/23"), netip.Addr{}))
	t.Cleanup(client.down)
	conn, err := client.dial(netip.MustParseAddrPort("10.61.8.9:80"))
	require.NoError(t, err)
	defer conn.Close()
	body := `<Envelope xmlns="` + envNS + `"><Body>` + op("GetSystemDateAndTime", "") + `</Body></Envelope>`
	_, err = fmt.Fprintf(conn, "POST %s HTTP/1.1\r\nHost: d\r\nContent-Type: application/soap+xml\r\nContent-Length: %d\r\n\r\n%s", s.Devices[0].model.Path, len(body), body)
	require.NoError(t, err)
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(limit)))
	all, err := io.ReadAll(conn)
	return string(all), err
}
