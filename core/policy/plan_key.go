package policy

import (
	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/secret"
)

// KeyPlan is the plan of a device met where it is, for trying a password.
func KeyPlan(d *device.Device, user string, p secret.Password) commission.Plan {
	var channels *commission.Channels
	if d.Kind == device.Recorder { // whether it has room for all is known before anything is decided
		channels = &commission.Channels{}
	}
	return commission.Plan{
		Channels: channels,
		ID:       d.ID, Tag: d.Tag, MAC: d.MAC, Ports: d.OtherMAC, Serial: d.Serial, Endpoint: d.Endpoint, From: d.Address(), Known: !d.OpenedAt.IsZero(), MuteTLS: d.MuteTLS,
		Target: device.Settings{Address: d.Address()}, User: user, Password: p, Service: d.Service, TLS: d.TLS, Tongues: d.Preferred(), Pins: d.Pins, Login: d.Login, ClockSet: d.Commissioned(),
	}
}
