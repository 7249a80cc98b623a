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

// HTTPS reports whether the device has HTTPS, whether it serves it, and at which port: 443 where it does
// not say.
func (c *Client) HTTPS(ctx context.Context) (has, serves bool, port uint16, err error) {
	return c.protocol(ctx, "HTTPS", usualHTTPS)
}

// HTTP reports the same of HTTP, at port 80 where it does not say.
func (c *Client) HTTP(ctx context.Context) (has, serves bool, port uint16, err error) {
	return c.protocol(ctx, "HTTP", usualHTTP)
}

func (c *Client) protocol(ctx context.Context, name string, usual uint16) (has, serves bool, port uint16, err error) {
	list, err := c.protocols(ctx)
	for _, p := range list {
		if strings.TrimSpace(p.Name) != name {
			continue
		}
		port = usual
		if len(p.Port) > 0 {
			if n, err := strconv.ParseUint(strings.TrimSpace(p.Port[0]), 10, 16); err == nil && n > 0 {
				port = uint16(n)
			}
		}
		return true, bool(p.Enabled), port, nil
	}
	return false, false, 0, err
}

// Ports of HTTP and HTTPS (RFC 9110, 4.2.1 and 4.2.2).
const (
	usualHTTP  = 80
	usualHTTPS = 443
)

// ServeHTTPS has the device serve HTTPS at a port, or not (SetNetworkProtocols).
func (c *Client) ServeHTTPS(ctx context.Context, on bool, port uint16) error {
	return c.setProtocol(ctx, "HTTPS", on, port)
}

// ServeHTTP has the device serve HTTP at a port, or not.
func (c *Client) ServeHTTP(ctx context.Context, on bool, port uint16) error {
	return c.setProtocol(ctx, "HTTP", on, port)
}

// setProtocol sets one protocol. Those that are not named stay as they are.
func (c *Client) setProtocol(ctx context.Context, name string, on bool, port uint16) error {
	return c.call(ctx, "SetNetworkProtocols",
		fmt.Sprintf("<tds:NetworkProtocols><tt:Name>%s</tt:Name><tt:Enabled>%t</tt:Enabled><tt:Port>%d</tt:Port></tds:NetworkProtocols>", name, on, port), nil)
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

// SetRTSPPort has streams played at another port (SetNetworkProtocols).
func (c *Client) SetRTSPPort(ctx context.Context, port uint16) error {
	return c.setProtocol(ctx, "RTSP", true, port)
}
