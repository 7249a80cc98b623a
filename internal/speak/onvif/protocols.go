package onvif

import (
	"context"
	"fmt"
	"strconv"
	"strings"
)

// protocol is one that a device serves, or could (tt:NetworkProtocol).
type protocol struct {
	Name    string
	Enabled flag
	Port    []string
}

// protocols reads them (GetNetworkProtocols). A device that does not tell has none.
func (c *Client) protocols(ctx context.Context) ([]protocol, error) {
	var a struct{ NetworkProtocols []protocol }
	err := unlessFault(c.recall(ctx, "GetNetworkProtocols", "", &a))
	return a.NetworkProtocols, err
}

// HasTLSOff reports whether the device has HTTPS and it is switched off.
func (c *Client) HasTLSOff(ctx context.Context) (bool, error) {
	list, err := c.protocols(ctx)
	for _, p := range list {
		if strings.TrimSpace(p.Name) == "HTTPS" && !p.Enabled {
			return true, nil
		}
	}
	return false, err
}

// RTSPPort gives the port that streams are played at; told is false where the device does not say.
func (c *Client) RTSPPort(ctx context.Context) (port uint16, told bool, err error) {
	list, err := c.protocols(ctx)
	for _, p := range list {
		if strings.TrimSpace(p.Name) == "RTSP" && len(p.Port) > 0 {
			n, err := strconv.ParseUint(strings.TrimSpace(p.Port[0]), 10, 16)
			return uint16(n), err == nil && n > 0, nil
		}
	}
	return 0, false, err
}

// SetRTSPPort has streams played at another port (SetNetworkProtocols). Protocols that are not named
// stay as they are.
func (c *Client) SetRTSPPort(ctx context.Context, port uint16) error {
	return c.call(ctx, "SetNetworkProtocols",
		fmt.Sprintf("<tds:NetworkProtocols><tt:Name>RTSP</tt:Name><tt:Enabled>true</tt:Enabled><tt:Port>%d</tt:Port></tds:NetworkProtocols>", port), nil)
}
