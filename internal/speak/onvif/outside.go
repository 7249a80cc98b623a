package onvif

import (
	"cmp"
	"context"
	"errors"
	"strings"

	"janustat/core/settings/outside"
	"janustat/internal/speak/soap"
)

// uplinkNS is the service of connections that a device makes to the outside by itself (Uplink
// Specification).
const uplinkNS = "http://www.onvif.org/ver10/uplink/wsdl"

// maxUplinks bounds how many are removed at once: what lists more than that is asked again.
const maxUplinks = 32

// means are what a device can have of that, by its own word (GetServiceCapabilities).
type means struct {
	uplink                  service
	uplinks                 bool
	users, dynamic, proxied bool
}

// outsideMeans reads them; told is false where the device has none of which it tells.
func (c *Client) outsideMeans(ctx context.Context) (m means, told bool, err error) {
	list, err := c.services(ctx)
	if err != nil {
		return m, false, err
	}
	m.uplink, m.uplinks = c.serviceIn(list, uplinkNS, "tup")
	var a struct {
		Capabilities struct {
			Network struct {
				DynDNS flag `xml:",attr"`
			}
			Security struct {
				RemoteUserHandling flag `xml:",attr"`
			}
			System struct {
				RemoteDiscovery flag `xml:",attr"`
			}
		}
	}
	err = c.recall(ctx, "GetServiceCapabilities", "", &a)
	if Untold(err) {
		if c.proven {
			c.hold("GetServiceCapabilities", []byte(nothingTold))
		}
		return m, m.uplinks, nil
	}
	m.users, m.dynamic, m.proxied = bool(a.Capabilities.Security.RemoteUserHandling), bool(a.Capabilities.Network.DynDNS), bool(a.Capabilities.System.RemoteDiscovery)
	return m, err == nil && (m.uplinks || m.users || m.dynamic || m.proxied), err
}

// Outside reads the device's connections to the outside; told is false where it has no means to tell.
func (c *Client) Outside(ctx context.Context) (o outside.Links, told bool, err error) {
	m, told, err := c.outsideMeans(ctx)
	if err != nil || !told {
		return o, false, err
	}
	if m.uplinks {
		var a struct {
			Configuration []struct{ RemoteAddress string }
		}
		if err := unlessFault(c.callOf(ctx, m.uplink, "GetUplinks", "", &a)); err != nil {
			return o, false, err
		}
		for _, u := range a.Configuration {
			o.Uplinks = append(o.Uplinks, c.said(strings.TrimSpace(u.RemoteAddress)))
		}
	}
	if m.users {
		var a struct{ RemoteUser struct{ Username string } }
		if err := unlessFault(c.call(ctx, "GetRemoteUser", "", &a)); err != nil {
			return o, false, err
		}
		o.RemoteUser = c.said(strings.TrimSpace(a.RemoteUser.Username))
	}
	if m.dynamic {
		var a struct {
			DynamicDNSInformation struct{ Type, Name string }
		}
		if err := unlessFault(c.call(ctx, "GetDynamicDNS", "", &a)); err != nil {
			return o, false, err
		}
		switch d := a.DynamicDNSInformation; strings.TrimSpace(d.Type) {
		case "ClientUpdates":
			o.DynamicDNS = cmp.Or(c.said(strings.TrimSpace(d.Name)), "under a name that it does not show")
		case "ServerUpdates":
			o.DynamicDNS = "by its DHCP server"
		}
	}
	if m.proxied {
		var a struct{ RemoteDiscoveryMode string }
		if err := unlessFault(c.call(ctx, "GetRemoteDiscoveryMode", "", &a)); err != nil {
			return o, false, err
		}
		o.Remote = strings.TrimSpace(a.RemoteDiscoveryMode) == discoverable
	}
	return o, true, nil
}

// CloseOutside removes the connections that the device has to the outside: what is so already is not
// written, and one that is refused keeps no other.
func (c *Client) CloseOutside(ctx context.Context) error {
	m, _, err := c.outsideMeans(ctx)
	if err != nil {
		return err
	}
	o, _, err := c.Outside(ctx)
	if err != nil {
		return err
	}
	var refused error
	carry := func(err error) error {
		var fault *soap.Fault
		if errors.As(err, &fault) && !errors.Is(err, ErrRefused) {
			refused = errors.Join(refused, err)
			return nil
		}
		return err
	}
	for _, at := range o.Uplinks[:min(len(o.Uplinks), maxUplinks)] {
		if err := carry(c.callOf(ctx, m.uplink, "DeleteUplink", "<tup:RemoteAddress>"+soap.Text(at)+"</tup:RemoteAddress>", nil)); err != nil {
			return err
		}
	}
	if o.RemoteUser != "" { // none is sent: the standard's way to remove it
		if err := carry(c.call(ctx, "SetRemoteUser", "", nil)); err != nil {
			return err
		}
	}
	if o.DynamicDNS != "" {
		if err := carry(c.call(ctx, "SetDynamicDNS", "<tds:Type>NoUpdate</tds:Type>", nil)); err != nil {
			return err
		}
	}
	if o.Remote {
		if err := carry(c.call(ctx, "SetRemoteDiscoveryMode", "<tds:RemoteDiscoveryMode>NonDiscoverable</tds:RemoteDiscoveryMode>", nil)); err != nil {
			return err
		}
	}
	return refused
}

// discoverable is the mode of a device that announces itself (tt:DiscoveryMode).
const discoverable = "Discoverable"

// Discoverable reports whether the device announces itself on the LAN (GetDiscoveryMode); told is
// false where it does not say.
func (c *Client) Discoverable(ctx context.Context) (on, told bool, err error) {
	var a struct{ DiscoveryMode string }
	if err = c.recall(ctx, "GetDiscoveryMode", "", &a); err != nil {
		if c.proven && Untold(err) {
			c.hold("GetDiscoveryMode", []byte(nothingTold))
		}
		return false, false, unlessFault(err)
	}
	mode := strings.TrimSpace(a.DiscoveryMode)
	return mode == discoverable, mode != "", nil
}

// SetDiscoverable has the device announce itself, or not (SetDiscoveryMode).
func (c *Client) SetDiscoverable(ctx context.Context, on bool) error {
	mode := "NonDiscoverable"
	if on {
		mode = discoverable
	}
	return c.call(ctx, "SetDiscoveryMode", "<tds:DiscoveryMode>"+mode+"</tds:DiscoveryMode>", nil)
}
