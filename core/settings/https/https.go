// Package https is that a device is spoken with over HTTPS alone: one that has it and does not serve it
// is told to, before a password is given to it wherever it takes that from everyone.
package https

import (
	"context"

	"janustat/core/setting"
)

// Name is that of the setting.
const Name setting.Name = "https"

// What a device does about HTTPS.
const (
	Off    = "off"    // it has it, and does not serve it
	Beside = "unused" // it serves it, and this conversation goes without
	On     = "on"     // this conversation goes over it
)

// Switch is the ability to serve HTTPS (Core Specification, GetNetworkProtocols, SetNetworkProtocols;
// RFC 9110, 4.2.2).
type Switch interface {
	// HTTPS gives what the device does about it; told is false where it has none, or does not say.
	HTTPS(ctx context.Context) (state string, told bool, err error)
	// SetHTTPS has it serve HTTPS, and meets it there. One whose HTTPS does not work is told to leave it
	// off again: then the error says why.
	SetHTTPS(ctx context.Context) error
}

// Setting is that. It is the first to be set, and a conversation begins anew with it.
var Setting = setting.Setting{
	Name: Name, Title: "HTTPS", Told: "HTTPS switched %s", Head: "https",
	Holds: "it is spoken with over HTTPS, under the certificate on record",
	Key:   "https", Form: "`on`",
	Meaning: "HTTPS is switched on where a device has it, before its first password where it accepts that; from then on it is only spoken with over HTTPS", Otherwise: "each keeps what it has",
	Check:    setting.OneOf(On),
	Wanted:   func(string, setting.Device) (string, error) { return On, nil },
	Optional: true, Watched: true, OneWay: true, Opens: true, Untold: "not offered",
	Read: func(ctx context.Context, conversation any) (string, bool, error) {
		s, ok := conversation.(Switch)
		if !ok {
			return "", false, nil
		}
		return s.HTTPS(ctx)
	},
	Set: func(ctx context.Context, conversation any, _ string) error {
		s, err := setting.Able[Switch](conversation, "HTTPS")
		if err != nil {
			return err
		}
		return s.SetHTTPS(ctx)
	},
}
