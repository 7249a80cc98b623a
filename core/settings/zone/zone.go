// Package zone is the time zone of a device.
package zone

import (
	"context"
	"fmt"
	"regexp"
	"sync"

	"janustat/core/setting"
)

// Name is that of the setting.
const Name setting.Name = "zone"

// Keeper is the ability to have a time zone, as POSIX writes it (IEEE 1003.1, 8.3, TZ).
type Keeper interface {
	// Zone gives it as it was last read; told is false where the device tells none.
	Zone() (zone string, told bool)
	// SetZone sets it, and leaves the clock as it goes.
	SetZone(ctx context.Context, zone string) error
}

// form is that of a time zone in POSIX: the name and offset of its standard time, and of its summer
// time with the days that it begins and ends.
var form = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(?:[A-Za-z]{3,}|<[A-Za-z0-9+-]{3,}>)[+-]?\d{1,2}(?::\d{2}){0,2}(?:(?:[A-Za-z]{3,}|<[A-Za-z0-9+-]{3,}>)(?:[+-]?\d{1,2}(?::\d{2}){0,2})?(?:,[^,\s]{1,24},[^,\s]{1,24})?)?$`)
})

// Setting is the time zone.
var Setting = setting.Setting{
	Name: Name, Title: "time zone", Told: "time zone set to %s", Head: "zone",
	Holds: "the time zone is as the job sheet says",
	Key:   "timezone", Form: "a POSIX time zone, as `GMT0BST,M3.5.0/1,M10.5.0` (IEEE 1003.1, 8.3)",
	Meaning: "set on every device, and proved", Otherwise: "each keeps its own, and its daylight saving",
	Check: func(said string) error {
		if !form().MatchString(said) {
			return fmt.Errorf("%q: write it as POSIX does: GMT0BST,M3.5.0/1,M10.5.0 or CET-1CEST,M3.5.0,M10.5.0/3", said)
		}
		return nil
	},
	Wanted:   func(said string, _ setting.Device) (string, error) { return said, nil },
	Optional: true,
	Read: func(_ context.Context, conversation any) (string, bool, error) {
		k, ok := conversation.(Keeper)
		if !ok {
			return "", false, nil
		}
		value, told := k.Zone()
		return value, told, nil
	},
	Set: func(ctx context.Context, conversation any, value string) error {
		k, err := setting.Able[Keeper](conversation, "time zone")
		if err != nil {
			return err
		}
		return k.SetZone(ctx, value)
	},
}
