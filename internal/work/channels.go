package work

import (
	"context"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/policy"
	"janustat/core/secret"
	"janustat/internal/keyring"
)

// ChannelRow is one channel of a recorder, with all that has to be typed where the recorder
// cannot be told over the LAN.
type ChannelRow struct {
	Recorder *device.Device
	Number   int // 0 is any free one
	Camera   *device.Device
	Name     string
	URI      string // of the stream, without the user
	User     string
	Password secret.Password // zero where the camera does not have it yet
	State    commission.State
	Why      string
}

// Channels tells which camera is on which channel, by the job sheet and by what the
// register knows. Nothing is sent. keys may be nil: then there are no passwords.
func (d *Desk) Channels(ctx context.Context, keys *keyring.Keyring) ([]ChannelRow, error) {
	draft := keyring.New("", "")
	if keys != nil {
		var err error
		if draft, err = keys.Draft(); err != nil {
			return nil, err
		}
	}
	planner, err := d.Planner(ctx, draft)
	if err != nil {
		return nil, err
	}
	if err := d.joined(planner); err != nil {
		return nil, err
	}
	planner.AdmitNewcomers = true // nothing is given to them
	plans := planner.Plans(d.Devices)
	policy.Recorded(plans, d.Devices)
	var out []ChannelRow
	for _, p := range plans {
		for _, l := range p.Links {
			if l.Step != commission.StepChannel {
				continue
			}
			row := ChannelRow{Recorder: device.ByID(d.Devices, p.ID), Number: l.Number, Camera: device.ByID(d.Devices, l.Peer.ID), Name: l.Peer.Label(), User: l.User, State: commission.Waiting}
			row.URI = uriOf(l.Peer)
			if keys != nil && !row.Camera.OpenedAt.IsZero() {
				row.Password = keys.UserFor(row.Camera.MAC, l.User)
			}
			for _, k := range row.Recorder.Links {
				if k.Kind == string(commission.StepChannel) && k.Peer == l.Peer.Tag {
					row.State, row.Why = commission.State(k.State), k.Why
				}
			}
			out = append(out, row)
		}
	}
	return out, nil
}

// uriOf is where the stream of a camera is watched, without the user; "" where that is not known yet.
func uriOf(p commission.Peer) string {
	if p.Stream.Path == "" {
		return ""
	}
	return p.Stream.URI(p.Address)
}
