package commission

import (
	"fmt"
	"slices"
)

// untold tells of the settings that a device does not tell, once in a run: they are not
// proved, and no reason to leave the device as it is.
func (r *run) untold(f Found) {
	for _, s := range table {
		if !f.Unread[s.name] {
			continue
		}
		text := fmt.Sprintf("does not report its %s: look at its web page", s.words())
		if !slices.Contains(r.result.Notes, text) {
			r.note(text)
		}
	}
}
