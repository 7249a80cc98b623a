// Package httpsport is the port at which a device that is spoken with over HTTPS serves that. Where a router forwards
// ports from outside, each device needs one of its own.
package httpsport

import (
	"context"
	"strconv"

	"janustat/core/setting"
)

// Name is that of the setting.
const Name setting.Name = "https port"

// Usual is the port of HTTPS (RFC 9110, 4.2.2).
const Usual = 443

// Keeper is the ability to serve HTTPS at another port (Core Specification, SetNetworkProtocols).
type Keeper interface {
	// HTTPSPort gives it; told is false where the device does not say, or is not spoken with over HTTPS.
	HTTPSPort(ctx context.Context) (port uint16, told bool, err error)
	// SetHTTPSPort sets it, and meets the device there, under the certificate that it has.
	SetHTTPSPort(ctx context.Context, port uint16) error
}

func read(said string) (setting.Ports, error) { return setting.ReadPorts(said, Usual, 80, 554) }

// Setting is the port. It is set once the device is at its address, and a conversation begins anew with it.
var Setting = setting.Setting{
	Name: Name, Title: "HTTPS port", Told: "HTTPS port set to %s", Head: "https port",
	Holds: "it serves HTTPS at the port that the job sheet says",
	Key:   "ports.https", Form: setting.PortForm(8443), Ports: read,
	Meaning: "where devices serve their pages and their service over HTTPS, on those that were opened over it: for routers that forward a port to each", Otherwise: "each keeps its own",
	Check:  func(said string) error { _, err := read(said); return err },
	Wanted: setting.WantedPort(read, func(setting.Device) bool { return true }),
	Opens:  true, Last: true, Optional: true,
	Read: func(ctx context.Context, conversation any) (string, bool, error) {
		k, ok := conversation.(Keeper)
		if !ok {
			return "", false, nil
		}
		port, told, err := k.HTTPSPort(ctx)
		return strconv.Itoa(int(port)), told, err
	},
	Set: func(ctx context.Context, conversation any, value string) error {
		k, err := setting.Able[Keeper](conversation, "HTTPS port")
		if err != nil {
			return err
		}
		port, err := strconv.ParseUint(value, 10, 16)
		if err != nil {
			return err
		}
		return k.SetHTTPSPort(ctx, uint16(port))
	},
}
