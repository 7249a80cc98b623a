package field

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"janustat/core/device"
	"janustat/internal/reach"
	"janustat/internal/speak/onvif"
	"janustat/internal/speak/wsd"
)

func kindOf(types []wsd.Type, scopes wsd.Scopes, services []string) (device.Kind, bool) {
	return onvif.KindOf(types, scopes, services)
}

// speaksDevice reports whether a match is of the standard device service, by
// its types or its scopes. Printers and the like speak discovery too, and are
// asked nothing more.
func speaksDevice(m *wsd.Match) bool {
	return m != nil && (slices.Contains(m.Types, wsd.AnyDevice) || slices.Contains(m.Types, wsd.Transmitter) ||
		slices.ContainsFunc(m.Scopes, func(s string) bool { return strings.HasPrefix(s, "onvif://") }))
}

func plainHardware(s string) string { return strings.ReplaceAll(s, "_", " ") }

// servicePath gives the path of the device service out of a match's addresses.
// Their host is not used: the device is met where it answered.
func servicePath(m *wsd.Match) string {
	for _, x := range m.XAddrs {
		u, err := url.Parse(x)
		if err == nil && u.Scheme == "http" && (u.Port() == "" || u.Port() == "80") && u.Path != "" {
			return u.EscapedPath()
		}
	}
	return onvif.DefaultPath
}

// transport carries HTTP over a path to one device.
func transport(p *reach.Path) *http.Transport {
	return &http.Transport{
		DialContext: func(ctx context.Context, _, address string) (net.Conn, error) {
			to, err := netip.ParseAddrPort(address)
			if err != nil {
				return nil, err
			}
			return p.Dial(ctx, to)
		},
		DisableCompression:  true,
		MaxIdleConnsPerHost: 1,
		IdleConnTimeout:     5 * time.Second,
		// A device that takes the connection and says nothing must not hold the survey up.
		ResponseHeaderTimeout: 8 * time.Second,
	}
}

// readDevice asks a device's service for what it tells without a password.
func readDevice(ctx context.Context, n *reach.Net, v *reach.Visitor, key hearing, m *wsd.Match) (device.Sighting, error) {
	path, err := n.Open(v, key.mac)
	if err != nil {
		return device.Sighting{}, err
	}
	defer path.Close()
	return readBy(ctx, transport(path), key, m)
}

// readBy asks by way of rt.
func readBy(ctx context.Context, rt http.RoundTripper, key hearing, m *wsd.Match) (s device.Sighting, err error) {
	c := onvif.New(hostOf(key.addr), servicePath(m), rt)
	defer c.Close()
	f := device.Facts{Service: servicePath(m), Ports: []uint16{80}}
	if f.Access, err = c.Access(ctx); err != nil {
		return device.Sighting{}, err
	}
	services, err := c.Services(ctx)
	if fatal(err) {
		return device.Sighting{}, err
	}
	scopes := wsd.ReadScopes(m.Scopes)
	f.Kind, f.Indoor = kindOf(m.Types, scopes, services)
	f.Name, f.Model = scopes.Name, plainHardware(scopes.Hardware)
	if err := readDetails(ctx, c, key.addr, &f); err != nil {
		return device.Sighting{}, err
	}
	return device.Sighting{At: time.Now(), By: "device service", MAC: key.mac, Address: key.addr, Endpoint: m.Endpoint, Facts: f}, nil
}

// hostOf gives an address as it stands in a URL. An IPv6 link-local one needs no
// zone: the path it is reached by knows the link.
func hostOf(a netip.Addr) string {
	if a.Is6() {
		return "[" + a.WithZone("").String() + "]"
	}
	return a.String()
}

// readDetails fills in what the device tells; what it refuses stays empty.
func readDetails(ctx context.Context, c *onvif.Client, at netip.Addr, f *device.Facts) error {
	info, err := c.Information(ctx)
	if fatal(err) {
		return err
	}
	if err == nil {
		f.Make, f.Model, f.Firmware, f.Serial = info.Make, info.Model, info.Firmware, info.Serial
	}
	settings, macs, err := c.Network(ctx, at)
	if fatal(err) {
		return err
	}
	if err == nil {
		f.OtherMAC = macs
		settings.Gateway, err = c.Gateway(ctx)
		if fatal(err) {
			return err
		}
		settings.Name = f.Name
		f.Settings = &settings
	}
	if f.Rules, err = c.Rules(ctx); fatal(err) {
		return err
	}
	return nil
}

// fatal tells an error of the conversation from a refusal by the device.
func fatal(err error) bool {
	return errors.Is(err, onvif.ErrUnreachable) || errors.Is(err, onvif.ErrNoReply)
}
