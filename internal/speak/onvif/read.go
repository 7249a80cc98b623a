package onvif

import (
	"context"
	"errors"
	"net/netip"
	"strings"

	"janustat/core/secret"
	"janustat/internal/speak/soap"
	"janustat/internal/speak/wsd"
)

// Information is the answer of GetDeviceInformation.
type Information struct {
	Make     string `xml:"Manufacturer"`
	Model    string `xml:"Model"`
	Firmware string `xml:"FirmwareVersion"`
	Serial   string `xml:"SerialNumber"`
	Hardware string `xml:"HardwareId"`
}

// Information reads maker, model, firmware and serial (GetDeviceInformation).
func (c *Client) Information(ctx context.Context) (Information, error) {
	var a Information
	err := c.recall(ctx, "GetDeviceInformation", "", &a)
	for _, s := range []*string{&a.Make, &a.Model, &a.Firmware, &a.Serial, &a.Hardware} {
		*s = c.said(*s)
	}
	return a, err
}

// Serial asks for the serial number without a password; "" where the device does not
// tell it to everyone.
func (c *Client) Serial(ctx context.Context) (string, error) {
	other := c.like()
	a, err := other.Information(ctx)
	var fault *soap.Fault
	if errors.As(err, &fault) {
		return "", nil
	}
	if err == nil && a.Make != "" && a.Model != "" && a.Firmware != "" && a.Serial != "" && c.told["GetDeviceInformation"] == nil {
		c.hold("GetDeviceInformation", other.answer) // whoever is told all of it is told no more with a password
	}
	return a.Serial, err
}

// Servers are the servers of one sort that a device is set to ask.
type Servers struct {
	Offered   bool // it has this setting
	FromDHCP  bool
	Addresses []netip.Addr // IPv4, in order; those given by name are left out
}

type hostXML struct{ IPv4Address, IPv6Address string }

type hostsOf struct {
	FromDHCP     flag
	SearchDomain []string
	DNSManual    []hostXML
	DNSFromDHCP  []hostXML
	NTPManual    []hostXML
	NTPFromDHCP  []hostXML
}

// DNS reads the DNS servers (GetDNS). A device without the setting is no error.
func (c *Client) DNS(ctx context.Context) (Servers, error) {
	var a struct{ DNSInformation hostsOf }
	err := c.recall(ctx, "GetDNS", "", &a)
	return servers(err, bool(a.DNSInformation.FromDHCP), a.DNSInformation.DNSManual, a.DNSInformation.DNSFromDHCP)
}

// NTP reads the NTP servers (GetNTP). A device without the setting is no error.
func (c *Client) NTP(ctx context.Context) (Servers, error) {
	var a struct{ NTPInformation hostsOf }
	err := c.recall(ctx, "GetNTP", "", &a)
	c.ntp, err = servers(err, bool(a.NTPInformation.FromDHCP), a.NTPInformation.NTPManual, a.NTPInformation.NTPFromDHCP)
	return c.ntp, err
}

func servers(err error, fromDHCP bool, manual, given []hostXML) (Servers, error) {
	if err != nil {
		return Servers{}, unlessFault(err)
	}
	out := Servers{Offered: true, FromDHCP: fromDHCP}
	if fromDHCP {
		manual = given
	}
	for _, h := range manual {
		if a, ok := parseAddr(h.IPv4Address); ok && a.Is4() && !a.IsUnspecified() {
			out.Addresses = append(out.Addresses, a)
		}
	}
	return out, nil
}

type scopeXML struct {
	ScopeDef  string
	ScopeItem string
}

func (c *Client) scopes(ctx context.Context) ([]scopeXML, error) {
	var a struct{ Scopes []scopeXML }
	err := c.recall(ctx, "GetScopes", "", &a)
	return a.Scopes, err
}

// Name reads the device's name, which is a scope (GetScopes).
func (c *Client) Name(ctx context.Context) (string, error) {
	list, err := c.scopes(ctx)
	if err != nil {
		return "", err
	}
	var uris []string
	for _, s := range list {
		uris = append(uris, strings.TrimSpace(s.ScopeItem))
	}
	return c.said(wsd.ReadScopes(uris).Name), nil
}

// Rules reads the password rules the device publishes
// (GetPasswordComplexityConfiguration); nil when it publishes none.
func (c *Client) Rules(ctx context.Context) (*secret.Rules, error) {
	var a struct {
		MinLen                  number
		Uppercase               number
		Number                  number
		SpecialChars            number
		BlockUsernameOccurrence flag
	}
	err := c.recall(ctx, "GetPasswordComplexityConfiguration", "", &a)
	if Untold(err) {
		return nil, nil // not offered, or not before there is an administrator
	}
	if err != nil {
		return nil, err
	}
	// What no password can meet stays so, and adds up without running over.
	bound := func(n number) int { return min(max(int(n), 0), maxRule) }
	return &secret.Rules{
		MinLen: bound(a.MinLen), Upper: bound(a.Uppercase), Digits: bound(a.Number), Special: bound(a.SpecialChars), NoUser: bool(a.BlockUsernameOccurrence),
	}, nil
}

// maxRule bounds what a device may demand, in characters.
const maxRule = 1 << 16
