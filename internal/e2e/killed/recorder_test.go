//go:build unix

package killed

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"janustat/internal/bench"
	"janustat/internal/e2e/driver"
)

// shelves is a recorder with a channel that is its owner's, in some manners, and two cameras.
const shelves = `
site: Shelves
seed: 9
pace: 4
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
models:
  shelf: {make: Brightmoor, name: Shelf 4, kind: recorder, channels: 4, makes: %t, firmware: '7', factory: 192.168.100.2/24, auth: sha256, dialect: default, path: /onvif/device, fault_status: 400, restart: 1s}
devices:
  - id: rec
    model: shelf
    mac: "02:b7:16:00:00:10"
    serial: LG1
    restart: 1s
    slow: %s
    manners: [%s]
    records:
      - {channel: 1, name: Till, uri: "rtsp://camera-7.local/live", job: Idle, retention: P30D}
      - {channel: 2, job: Idle, retention: P7D, location: Attic}
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: VD, count: 2, restart: 1s}
`

func prepareShelves(w driver.Worker) { ready(w, "channels: auto\n") }

// assertShelved runs one commission: both cameras are recorded, the owner's channel is as it was,
// and nothing is left over of what was cut short.
func assertShelved(w driver.Worker, what string, _ *bench.Log, b *bench.Bench, _ bool) {
	t := w.T
	out, err := w.Command("commission", "--yes", "--quiet").CombinedOutput()
	assert.NoError(t, err, "%s: %s", what, out)
	laid, receivers := b.Device("rec").Laid()
	if assert.GreaterOrEqual(t, len(laid), 3, what) {
		assert.Equal(t, bench.Laid{Channel: 1, Name: "Till", Retention: "P30D", URI: "rtsp://camera-7.local/live", Job: "Idle", Priority: 1}, laid[0], what)
		assert.Equal(t, "P7D Attic", laid[1].Retention+" "+laid[1].Location, what)
	}
	assert.Equal(t, 3, receivers, what)
	_, states := b.Device("rec").Watched()
	assert.Equal(t, []string{"Connected", "Connected"}, states[1:], what)
	out, err = w.Command("commission", "--yes", "--json").CombinedOutput()
	assert.NoError(t, err, "%s: %s", what, out)
	assert.Contains(t, string(out), `"writes": 0`, what)
}

// TestKilledBetweenTheWritesOfAChannel kills the program between the operations that make up one
// channel, on recorders of several manners.
func TestKilledBetweenTheWritesOfAChannel(t *testing.T) {
	t.Parallel()
	operations := []string{"CreateRecording", "CreateReceiver", "ConfigureReceiver", "CreateRecordingJob", "SetRecordingJobConfiguration", "SetRecordingConfiguration"}
	for _, x := range []struct {
		makes  bool
		slow   string // half a second is what has it asked side by side
		manner string
		most   int
	}{{true, "0s", "own receivers", 7}, {false, "0s", "own receivers, names tracks", 7}, {false, "0s", "", 6}, {true, "500ms", "", 2}} {
		k := newKillerOf(t, fmt.Sprintf(shelves, x.makes, x.slow, x.manner), prepareShelves)
		k.right = assertShelved
		for n := 1; n <= x.most; n++ {
			k.tryOn(fmt.Sprintf("manners %q, makes %t, slow %s, write %d", x.manner, x.makes, x.slow, n), atOperation("rec", operations, n))
		}
		k.wait.Wait()
	}
}
