// Package discovery is whether a device announces itself on its LAN, and answers those who look for
// devices of its kind (Core Specification, SetDiscoveryMode).
package discovery

import (
	"context"

	"janustat/core/setting"
)

// Name is that of the setting.
const Name setting.Name = "discovery"

// Announcer is the ability to be found, or not.
type Announcer interface {
	// Discoverable reports whether it is; told is false where the device does not say.
	Discoverable(ctx context.Context) (on, told bool, err error)
	SetDiscoverable(ctx context.Context, on bool) error
}

// on and off are the values.
const (
	on  = "on"
	off = "off"
)

func word(is bool) string {
	if is {
		return on
	}
	return off
}

// Setting is the discovery mode. It is the last to be set: until then a device is found by it.
var Setting = setting.Setting{
	Name: Name, Title: "discovery", Told: "discovery switched %s", Head: "disc.",
	Holds: "it announces itself on the LAN, or does not, as the job sheet says",
	Key:   "discovery", Form: "`off` or `on`",
	Meaning: "whether devices announce themselves and answer those who look for such devices; everything here works by address all the same. Write `on` for a visit with other tools", Otherwise: "each keeps what it has",
	Check:    setting.OneOf(on, off),
	Wanted:   func(said string, _ setting.Device) (string, error) { return said, nil },
	Optional: true, Watched: true, Last: true,
	Read: func(ctx context.Context, conversation any) (string, bool, error) {
		a, ok := conversation.(Announcer)
		if !ok {
			return "", false, nil
		}
		is, told, err := a.Discoverable(ctx)
		return word(is), told, err
	},
	Set: func(ctx context.Context, conversation any, value string) error {
		a, err := setting.Able[Announcer](conversation, "discovery")
		if err != nil {
			return err
		}
		return a.SetDiscoverable(ctx, value == on)
	},
}
