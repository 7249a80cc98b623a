// Package plainhttp is whether a device that is spoken with over HTTPS serves HTTP beside it.
package plainhttp

import (
	"context"
	"errors"

	"janustat/core/setting"
)

// Name is that of the setting.
const Name setting.Name = "http"

// on and off are the values.
const (
	on  = "on"
	off = "off"
)

// Switch is the ability to serve HTTP or not (Core Specification, GetNetworkProtocols and
// SetNetworkProtocols).
type Switch interface {
	// Encrypted reports whether this conversation goes over HTTPS.
	Encrypted() bool
	// HTTP reports whether the device serves it; told is false where it does not say.
	HTTP(ctx context.Context) (serves, told bool, err error)
	SetHTTP(ctx context.Context, on bool) error
}

// Setting is that. It is set once the device has been opened over HTTPS at its address: one that is not
// keeps its HTTP, or nobody could speak with it.
var Setting = setting.Setting{
	Name: Name, Title: "HTTP", Told: "HTTP switched %s", Head: "http",
	Holds: "it serves HTTP beside HTTPS, or does not, as the job sheet says",
	Key:   "http", Form: "`off` or `on`",
	Meaning: "whether devices that were opened over HTTPS serve their pages and services without encryption too", Otherwise: "each keeps what it has",
	Check:    setting.OneOf(on, off),
	Wanted:   func(said string, _ setting.Device) (string, error) { return said, nil },
	Optional: true, Last: true,
	Read: func(ctx context.Context, conversation any) (string, bool, error) {
		s, ok := conversation.(Switch)
		if !ok || !s.Encrypted() {
			return "", false, nil
		}
		serves, told, err := s.HTTP(ctx)
		if serves {
			return on, told, err
		}
		return off, told, err
	},
	Set: func(ctx context.Context, conversation any, value string) error {
		s, err := setting.Able[Switch](conversation, "HTTP")
		if err != nil {
			return err
		}
		if value == off && !s.Encrypted() {
			return errors.New("it was not opened over HTTPS")
		}
		return s.SetHTTP(ctx, value == on)
	},
}
