// Package httpport is the port at which a device serves its pages and its service over HTTP. Where a router forwards
// ports from outside, each device needs one of its own.
package httpport

import (
	"context"

	"janustat/core/setting"
)

// Name is that of the setting.
const Name setting.Name = "http port"

// Usual is the port of HTTP (RFC 9110, 4.2.1).
const Usual = 80

// Keeper is the ability to serve HTTP at another port (Core Specification, SetNetworkProtocols).
type Keeper interface {
	// HTTPPort gives it; told is false where the device does not say, or serves no HTTP.
	HTTPPort(ctx context.Context) (port uint16, told bool, err error)
	// SetHTTPPort sets it, and meets the device there, where it is spoken with over HTTP.
	SetHTTPPort(ctx context.Context, port uint16) error
}

// Setting is the port. It is set once the device is at its address, and a conversation begins anew with it.
var Setting = setting.Port(setting.Setting{
	Name: Name, Title: "HTTP port", Told: "HTTP port set to %s", Head: "http port",
	Holds:   "it serves HTTP at the port that the job sheet says",
	Key:     "ports.http",
	Meaning: "where devices serve their pages and their service over HTTP: for routers that forward a port to each", Otherwise: "each keeps its own",
	Opens: true, Last: true, Optional: true,
}, 8000, []uint16{443, 554}, setting.Every, Keeper.HTTPPort, Keeper.SetHTTPPort)
