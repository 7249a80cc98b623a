// Package httpsport is the port at which a device that is spoken with over HTTPS serves that. Where a router forwards
// ports from outside, each device needs one of its own.
package httpsport

import (
	"context"

	"janustat/core/setting"
)

// Name is that of the setting.
const Name setting.Name = "https port"

// Keeper is the ability to serve HTTPS at another port (Core Specification, SetNetworkProtocols).
type Keeper interface {
	// HTTPSPort gives it; told is false where the device does not say, or is not spoken with over HTTPS.
	HTTPSPort(ctx context.Context) (port uint16, told bool, err error)
	// SetHTTPSPort sets it, and meets the device there, under the certificate that it has.
	SetHTTPSPort(ctx context.Context, port uint16) error
}

// Setting is the port. It is set once the device is at its address, and a conversation begins anew with it.
var Setting = setting.Port(setting.Setting{
	Name: Name, Title: "HTTPS port", Told: "HTTPS port set to %s", Head: "https port",
	Holds:   "it serves HTTPS at the port that the job sheet says",
	Key:     "ports.https",
	Meaning: "where devices serve their pages and their service over HTTPS, on those that were opened over it: for routers that forward a port to each", Otherwise: "each keeps its own",
	Opens: true, Last: true, Optional: true,
}, 8443, []uint16{80, 554}, setting.Every, Keeper.HTTPSPort, Keeper.SetHTTPSPort)
