// Package outside is what connects a device with the world beyond its site, as far as the open
// standard tells it: uplinks, a remote user, a dynamic DNS name, remote discovery.
package outside

import (
	"context"
	"strings"

	"janustat/core/setting"
)

// Name is that of the setting.
const Name setting.Name = "outside"

// Nothing is the value of a device that has no such connection, as far as it tells.
const Nothing = "none"

// Links are the connections of a device.
type Links struct {
	Uplinks    []string // addresses that it connects to by itself (Uplink Specification, GetUplinks)
	RemoteUser string   // by which it logs in there (Core Specification, GetRemoteUser)
	DynamicDNS string   // a name that it keeps up to date, or "by its server" (GetDynamicDNS)
	Remote     bool     // it makes itself known to a proxy outside (GetRemoteDiscoveryMode)
}

// String lists them.
func (l Links) String() string {
	var words []string
	for _, at := range l.Uplinks {
		words = append(words, "uplink "+at)
	}
	if l.RemoteUser != "" {
		words = append(words, "remote user "+l.RemoteUser)
	}
	if l.DynamicDNS != "" {
		words = append(words, "dynamic DNS "+l.DynamicDNS)
	}
	if l.Remote {
		words = append(words, "remote discovery")
	}
	if len(words) == 0 {
		return Nothing
	}
	return strings.Join(words, "; ")
}

// Connected is the ability to tell such connections, and to remove them.
type Connected interface {
	// Outside gives them; told is false where the device has no means to tell.
	Outside(ctx context.Context) (links Links, told bool, err error)
	// CloseOutside removes all of them.
	CloseOutside(ctx context.Context) error
}

// Setting is that a device has no such connection.
var Setting = setting.Setting{
	Name: Name, Title: "outside connections", Told: "outside connections removed, %s left", Head: "outside",
	Holds: "no uplink, remote user, dynamic DNS name or remote discovery is left, as far as the device reports",
	Key:   "outside", Form: "`off`",
	Meaning: "uplinks, remote users, dynamic DNS names and remote discovery are removed from every device; what was there is in the record", Otherwise: "they stay, and are in the record",
	Check:    setting.OneOf("off"),
	Wanted:   func(string, setting.Device) (string, error) { return Nothing, nil },
	Optional: true, Watched: true, OneWay: true, Untold: "cannot be seen",
	Read: func(ctx context.Context, conversation any) (string, bool, error) {
		c, ok := conversation.(Connected)
		if !ok {
			return "", false, nil
		}
		links, told, err := c.Outside(ctx)
		return links.String(), told, err
	},
	Set: func(ctx context.Context, conversation any, _ string) error {
		c, err := setting.Able[Connected](conversation, "outside connections")
		if err != nil {
			return err
		}
		return c.CloseOutside(ctx)
	},
}
