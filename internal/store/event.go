package store

import (
	"bytes"
	"encoding/json"
	"fmt"
	"time"

	jsonpatch "github.com/evanphx/json-patch/v5"

	"janustat/core/device"
)

// Event is something that happened to one device, or was decided about it: what is kept of the device
// is what its events come to, in the order of their versions.
type Event struct {
	Device  int64
	Version int64 // of the device, from 1
	At      time.Time
	Author  string // on whose account and machine
	Cause   string // the work that it came of, in a word or two
	// Change is what it changed, as a merge patch of the device's State (RFC 7396). It is worked out
	// against what its author had seen, so that it says nothing of what others have changed meanwhile.
	Change json.RawMessage
}

// State gives what is kept of a device, as JSON.
func State(d device.Device) (json.RawMessage, error) { return json.Marshal(d.Kept()) }

// Restate puts a state into a device, and leaves what is not kept of it, and its ID, as they are.
func Restate(d *device.Device, of json.RawMessage) error {
	var k device.Kept
	if err := json.Unmarshal(of, &k); err != nil {
		return fmt.Errorf("state of a device: %w", err)
	}
	d.Be(k)
	return nil
}

// Change gives what differs between two states; nil where nothing does. A device that begins has an
// empty state before.
func Change(before, after json.RawMessage) (json.RawMessage, error) {
	switch {
	case bytes.Equal(before, after):
		return nil, nil
	case len(before) == 0:
		return after, nil
	}
	change, err := jsonpatch.CreateMergePatch(before, after)
	if err != nil {
		return nil, fmt.Errorf("change of a device: %w", err)
	}
	if string(change) == "{}" {
		return nil, nil
	}
	return change, nil
}

// Changed carries a change into a state.
func Changed(was, change json.RawMessage) (json.RawMessage, error) {
	switch {
	case len(was) == 0:
		return change, nil
	case len(change) == 0:
		return was, nil
	}
	is, err := jsonpatch.MergePatch(was, change)
	if err != nil {
		return nil, fmt.Errorf("change of a device: %w", err)
	}
	return is, nil
}

// Fold gives the state that events come to, which are in the order of their versions.
func Fold(events []Event) (is json.RawMessage, err error) {
	for _, e := range events {
		if is, err = Changed(is, e.Change); err != nil {
			return nil, err
		}
	}
	return is, nil
}
