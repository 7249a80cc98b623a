package bench

import (
	"net/netip"
	"net/textproto"
	"testing"

	"github.com/icholy/digest"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"

	"janustat/core/device"
)

// Who resets a connection with its request still unread is no longer known to the stack when the
// request is answered.
func TestAViewerThatIsGoneIsAnsweredAllTheSame(t *testing.T) {
	s, err := Parse([]byte("site: x\ndevices: [{id: d, model: verrine-dome, mac: \"02:e4:42:00:01:01\", serial: S1}]\n"))
	require.NoError(t, err)
	sw := NewSwitch(0, 0, 1)
	server, client := newHost(sw, "server", device.MAC{2, 0, 0, 0, 0, 8}), newHost(sw, "client", device.MAC{2, 0, 0, 0, 0, 9})
	require.NoError(t, server.up(netip.MustParsePrefix("10.61.8.9/23"), netip.Addr{}))
	t.Cleanup(server.down)
	require.NoError(t, client.up(netip.MustParsePrefix("10.61.8.10/23"), netip.Addr{}))
	t.Cleanup(client.down)
	at := netip.MustParseAddrPort("10.61.8.9:554")
	l, err := server.listen(at, ipv4.ProtocolNumber)
	require.NoError(t, err)
	defer l.Close()
	gone, err := client.dial(at)
	require.NoError(t, err)
	assert.Equal(t, at.String(), peer(gone))
	require.NoError(t, gone.Close())
	client.down()
	require.Nil(t, gone.RemoteAddr())

	log := NewLog(nil)
	v := &viewer{d: newDevice(t.Context(), sw, s.Devices[0], log), c: gone, nonce: "n"}
	asked := textproto.MIMEHeader{}
	asked.Set("Authorization", (&digest.Credentials{Username: "w", Nonce: "n", URI: "u", Response: "r", Algorithm: "MD5"}).String())
	assert.False(t, v.admit("DESCRIBE", "u", asked))
	require.Len(t, log.Events(), 1)
	assert.Equal(t, EventRead, log.Events()[0].What)
}
