package web

import (
	"bytes"
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A page that names every port there is, or is nothing but links, costs little: its first
// links lead through us, and the rest stay as they are.
func TestAPageThatNamesEveryPort(t *testing.T) {
	s, err := Listen(slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer s.listener.Close()
	d := &Device{Label: "C01", Address: netip.MustParseAddr("192.168.77.2")}
	s.Open(d, Port{Number: 80})
	first := s.door(d, Port{Number: 80}, maxDoors)
	var page bytes.Buffer
	for n := 1; n < 1<<16; n++ {
		fmt.Fprintf(&page, "<a href=http://192.168.77.2:%d/>", n)
	}
	out := first.mend.out(page.Bytes(), first.port)
	assert.Len(t, s.doors, maxDoors)
	assert.Equal(t, maxDoors, bytes.Count(out, []byte(".localhost:")))
	assert.Contains(t, string(out), "http://192.168.77.2:65535/")
	assert.NotEmpty(t, s.Open(d, Port{Number: 9443, TLS: true}), "what a person asks for is opened all the same")

	if testing.Short() { // with the race detector, which takes ten times as long
		return
	}
	links := bytes.Repeat([]byte("//192.168.77.2 "), maxPage/15)
	out = first.mend.out(links, first.port)
	assert.Less(t, len(out), maxMended+maxPage)
	_, err = io.Copy(io.Discard, bytes.NewReader(out))
	assert.NoError(t, err)
}
