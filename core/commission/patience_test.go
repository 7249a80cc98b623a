package commission

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A device that stalls over its answers takes no more than its share of the evening, and the
// next one has its place.
func TestADeviceThatStallsIsLeft(t *testing.T) {
	d := newToy()
	d.password, d.stalls = "Quay-side7", true
	w := Worker{Site: d, Journal: d, Attempts: d, Place: NewPlaces(1), Talk: 20 * time.Millisecond}
	r := w.Run(t.Context(), plan())
	assert.Equal(t, NeedsYou, r.Status)
	assert.Contains(t, r.Reason, "took more than 20ms over its answers")
	d.stalls = false
	w.Talk = 0
	assert.Equal(t, Done, w.Run(t.Context(), plan()).Status)
}

// A device that has confirmed its password and does not know of it yet is waited for, for
// as long as any is known to take; it is given no other meanwhile.
func TestAPasswordThatSettlesLate(t *testing.T) {
	for pauses, ends := range map[int]Status{1: Done, settlePauses: Done, 3 * settlePauses: NeedsYou} {
		for _, hides := range []bool{false, true} {
			d := newToy()
			p := plan()
			if d.hides = hides; hides {
				p.First = p.Password
			}
			d.lateUsers = pauses
			r := d.run(t.Context(), p)
			assert.Equal(t, ends, r.Status, "%d, %v: %s", pauses, hides, r.Reason)
			keys := 0
			for _, w := range d.writes() {
				if w == "key" {
					keys++
				}
			}
			assert.Equal(t, 1, keys)
			if ends == Done {
				assert.Empty(t, r.Refused, "what opened it in the end was not refused")
				assert.Empty(t, r.Doubted)
			}
		}
	}
}
