package onvif

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// clockwork is a device whose clock always reads 10:00:00, and whose answers take a
// time that a test says, on a clock of the test's own.
type clockwork struct {
	now  time.Time
	took []time.Duration
	sent []string
}

func (d *clockwork) RoundTrip(r *http.Request) (*http.Response, error) {
	b, err := io.ReadAll(r.Body)
	d.sent = append(d.sent, string(b))
	d.now = d.now.Add(d.took[len(d.sent)-1])
	w := httptest.NewRecorder()
	if strings.Contains(string(b), setTime) {
		send(w, 200, "<"+setTime+"Response/>")
	} else {
		send(w, 200, clockAnswer)
	}
	return w.Result(), err
}

func (d *clockwork) client() *Client {
	d.now = time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)
	c := New("http", "10.61.8.41", "", d)
	c.now = func() time.Time { return d.now }
	return c
}

// Of answers that were long on their way, the quickest counts, and tells how much it is worth.
func TestClockReadSlowly(t *testing.T) {
	const half = 500 * time.Millisecond
	for name, c := range map[string]struct {
		took          []time.Duration
		offset, doubt time.Duration
	}{
		"quick":       {[]time.Duration{200 * time.Millisecond}, half - 100*time.Millisecond, 100 * time.Millisecond},
		"slow once":   {[]time.Duration{4 * time.Second, 0}, half - 4*time.Second, 0},
		"always slow": {[]time.Duration{4 * time.Second, 2 * time.Second, 3 * time.Second}, half - 5*time.Second, time.Second},
	} {
		d := &clockwork{took: c.took}
		offset, doubt, err := d.client().Clock(t.Context())
		require.NoError(t, err, name)
		assert.Equal(t, c.offset, offset, name)
		assert.Equal(t, c.doubt, doubt, name)
		assert.Len(t, d.sent, len(c.took), name)
	}
}

// A time that arrived late is told once more.
func TestClockSetSlowly(t *testing.T) {
	const soon = 10 * time.Millisecond // until a second begins, which setting waits for
	for name, c := range map[string]struct {
		took []time.Duration // of each answer, to reading and setting by turns
		sets int
		late time.Duration
	}{
		"quick":       {[]time.Duration{0, soon, 0}, 1, 0},
		"slow once":   {[]time.Duration{0, 4 * time.Second, 0, soon, 0}, 2, 0},
		"always slow": {[]time.Duration{0, 4 * time.Second, 0, 4 * time.Second, 0, 3 * time.Second, 0}, 3, 3*time.Second - soon},
	} {
		d := &clockwork{took: c.took}
		client := d.client()
		d.now = d.now.Add(time.Second - soon)
		late, err := client.SetClock(t.Context())
		require.NoError(t, err, name)
		assert.Equal(t, c.late, late, name)
		assert.Len(t, d.sent, 2*c.sets+1, name)
		for i, body := range d.sent {
			assert.Equal(t, i%2 == 1, strings.Contains(body, "SetSystemDateAndTime"), "%s: request %d", name, i)
		}
	}
}
