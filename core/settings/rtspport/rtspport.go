// Package rtspport is the port at which a device plays its picture. Where a router forwards ports
// from outside, each camera needs one of its own.
package rtspport

import (
	"context"
	"strconv"
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

func read(said string) (setting.Ports, error) { return setting.ReadPorts(said, 554, 80, 443) }

// Setting is the port.
var Setting = setting.Setting{
	Name: Name, Title: "RTSP port", Told: "RTSP port set to %s", Head: "rtsp",
	Holds: "it plays at the port that the job sheet says",
	Key:   "ports.rtsp", Form: setting.PortForm(554), Ports: read,
	Meaning: "where cameras and door stations play their pictures: for routers that forward a port to each", Otherwise: "each keeps its own",
	Check:   func(said string) error { _, err := read(said); return err },
	Wanted:  setting.WantedPort(read, func(d setting.Device) bool { return d.Camera }),
	Settles: 20 * time.Second,
	Read: func(ctx context.Context, conversation any) (string, bool, error) {
		k, ok := conversation.(Keeper)
		if !ok {
			return "", false, nil
		}
		port, told, err := k.RTSPPort(ctx)
		return strconv.Itoa(int(port)), told, err
	},
	Set: func(ctx context.Context, conversation any, value string) error {
		k, err := setting.Able[Keeper](conversation, "RTSP port")
		if err != nil {
			return err
		}
		port, err := strconv.ParseUint(value, 10, 16)
		if err != nil {
			return err
		}
		return k.SetRTSPPort(ctx, uint16(port))
	},
}
