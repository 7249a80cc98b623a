package ssdp

import (
	"bufio"
	"bytes"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	reply  = "HTTP/1.1 200 OK\r\nST: urn:schemas-upnp-org:device:MediaServer:1\r\nUSN: uuid:7::urn\r\nServer: OS/1 UPnP/1.1 box/2\r\nLocation: http://10.61.8.9/d.xml\r\n\r\n"
	notice = "NOTIFY * HTTP/1.1\r\nHost: 239.255.255.250:1900\r\nNT: upnp:rootdevice\r\nNTS: ssdp:byebye\r\nUSN: uuid:7::upnp:rootdevice\r\n"
)

func TestParse(t *testing.T) {
	m, err := Parse([]byte(reply))
	require.NoError(t, err)
	assert.Equal(t, Message{Type: "urn:schemas-upnp-org:device:MediaServer:1", Name: "uuid:7::urn", Server: "OS/1 UPnP/1.1 box/2", Where: "http://10.61.8.9/d.xml"}, m)
	assert.Equal(t, "MediaServer", m.Kind())
	m, err = Parse([]byte(notice))
	require.NoError(t, err, "the empty line at the end is often left out")
	assert.True(t, m.Gone)
	assert.Empty(t, m.Kind())
	for _, bad := range []string{"", "HTTP/1.1 404 no\r\n\r\n", "HTTP/1.1 200 OK\r\nST: x\r\n\r\n", "M-SEARCH * HTTP/1.1\r\n\r\n", string(make([]byte, 9000))} {
		_, err := Parse([]byte(bad))
		assert.ErrorIs(t, err, ErrNotSSDP)
	}
}

func TestSearch(t *testing.T) {
	r, err := http.ReadRequest(bufio.NewReader(bytes.NewReader(Search(Group6, 2))))
	require.NoError(t, err)
	assert.Equal(t, "M-SEARCH", r.Method)
	assert.Equal(t, "[ff02::c]:1900", r.Host)
	assert.Equal(t, `"ssdp:discover"`, r.Header.Get("MAN"))
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(reply))
	f.Add([]byte(notice))
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := Parse(b)
		if err == nil {
			require.NotEmpty(t, m.Type)
			require.NotEmpty(t, m.Name)
		}
		_ = m.Kind()
	})
}
