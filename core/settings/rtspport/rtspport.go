// Package rtspport is the port at which a device plays its picture. Where a router forwards ports
// from outside, each camera needs one of its own.
package rtspport

import (
	"context"
	"time"

	"janustat/core/setting"
)

// Name is that of the setting.
const Name setting.Name = "rtsp port"

// Keeper is the ability to play at another port (RFC 2326, 3.2: 554 is the usual one).
type Keeper interface {
	// RTSPPort gives it; told is false where the device does not say.
	RTSPPort(ctx context.Context) (port uint16, told bool, err error)
	SetRTSPPort(ctx context.Context, port uint16) error
}

// Setting is the port.
var Setting = setting.Port(setting.Setting{
	Name: Name, Title: "RTSP port", Told: "RTSP port set to %s", Head: "rtsp",
	Holds:   "it plays at the port that the job sheet says",
	Key:     "ports.rtsp",
	Meaning: "where cameras and door stations play their pictures: for routers that forward a port to each", Otherwise: "each keeps its own",
	Settles: 20 * time.Second,
}, 554, []uint16{80, 443}, func(d setting.Device) bool { return d.Camera }, Keeper.RTSPPort, Keeper.SetRTSPPort)
