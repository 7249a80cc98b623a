package onvif

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"janustat/core/device"
	"janustat/core/secret"
	"janustat/internal/speak/soap"
	"janustat/internal/speak/wsd"
)

// Clock gives the device's clock minus ours (GetSystemDateAndTime), and how far off
// that may be for the time the answer was on its way. The answer has whole
// seconds; half of one is added as the best guess.
func (c *Client) Clock(ctx context.Context) (offset, doubt time.Duration, err error) {
	offset, took, err := c.readClock(ctx)
	if err != nil {
		return 0, 0, err
	}
	// An answer that was long on its way tells little: the quickest of a few counts.
	for range clockTries - 1 {
		if took <= clockPatience {
			break
		}
		if again, less, err := c.readClock(ctx); err == nil && less < took {
			offset, took = again, less
		}
	}
	c.offset, c.clockKnown = offset, true
	return offset, took / 2, nil
}

const (
	// clockPatience is how long the clock may be on its way, either way, before it is
	// read or set once more.
	clockPatience = time.Second / 2
	clockTries    = 3
)

// dateXML is a moment (tt:DateTime).
type dateXML struct {
	Time struct{ Hour, Minute, Second number }
	Date struct{ Year, Month, Day number }
}

func (d dateXML) moment() time.Time {
	if d.Date.Year == 0 {
		return time.Time{}
	}
	return time.Date(int(d.Date.Year), time.Month(d.Date.Month), int(d.Date.Day), int(d.Time.Hour), int(d.Time.Minute), int(d.Time.Second), 0, time.UTC)
}

type clockXML struct {
	Kind     string  `xml:"SystemDateAndTime>DateTimeType"`
	Zone     string  `xml:"SystemDateAndTime>TimeZone>TZ"`
	Daylight string  `xml:"SystemDateAndTime>DaylightSavings"`
	UTC      dateXML `xml:"SystemDateAndTime>UTCDateTime"`
	Local    dateXML `xml:"SystemDateAndTime>LocalDateTime"`
}

// utc gives the device's time: as it says, or by the Date of its answer (RFC 9110,
// 6.6.1), or its local time where its zone is none.
func (a clockXML) utc(date time.Time) (time.Time, bool) {
	if t := a.UTC.moment(); !t.IsZero() {
		return t, true
	}
	if !date.IsZero() {
		return date, true
	}
	zone := strings.ToUpper(strings.TrimSpace(a.Zone))
	plain := zone == "" || strings.HasPrefix(zone, "UTC") && strings.Trim(zone, "UTC0+-:") == "" || strings.HasPrefix(zone, "GMT") && strings.Trim(zone, "GMT0+-:") == ""
	t := a.Local.moment()
	return t, plain && !t.IsZero()
}

// readClock reads the clock once, and tells how long the answer took.
func (c *Client) readClock(ctx context.Context) (offset, took time.Duration, err error) {
	var a clockXML
	// This operation is open to everyone (access class PRE_AUTH), and a token could not be
	// right yet. Some devices want the password all the same, once it is known to fit.
	was := c.scheme
	if was == byToken {
		c.scheme = anonymous
	}
	err = c.call(ctx, "GetSystemDateAndTime", "", &a)
	c.scheme = was
	if errors.Is(err, ErrRefused) && was == byToken && c.proven {
		err = c.call(ctx, "GetSystemDateAndTime", "", &a)
	}
	if err != nil {
		return 0, 0, err
	}
	told, ok := a.utc(c.date)
	if !ok {
		return 0, 0, fmt.Errorf("GetSystemDateAndTime: no UTC time in the answer")
	}
	took = c.answered.Sub(c.asked)
	c.byNTP = strings.TrimSpace(a.Kind) == "NTP"
	c.zone, c.daylight = strings.TrimSpace(a.Zone), strings.TrimSpace(a.Daylight)
	return told.Add(500 * time.Millisecond).Sub(c.asked.Add(took / 2)), took, nil
}

// ByNTP reports whether the clock followed NTP when it was last read.
func (c *Client) ByNTP() bool { return c.byNTP }

// Zone gives the time zone as it was last read, and false where the device tells none.
func (c *Client) Zone() (zone string, told bool) { return c.said(c.zone), c.zone != "" }

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
	err := c.call(ctx, "GetDeviceInformation", "", &a)
	for _, s := range []*string{&a.Make, &a.Model, &a.Firmware, &a.Serial, &a.Hardware} {
		*s = c.said(*s)
	}
	return a, err
}

// Serial asks for the serial number without a password; "" where the device does not
// tell it to everyone.
func (c *Client) Serial(ctx context.Context) (string, error) {
	a, err := c.like().Information(ctx)
	var fault *soap.Fault
	if errors.As(err, &fault) {
		return "", nil
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
	err := c.call(ctx, "GetDNS", "", &a)
	return servers(err, bool(a.DNSInformation.FromDHCP), a.DNSInformation.DNSManual, a.DNSInformation.DNSFromDHCP)
}

// NTP reads the NTP servers (GetNTP). A device without the setting is no error.
func (c *Client) NTP(ctx context.Context) (Servers, error) {
	var a struct{ NTPInformation hostsOf }
	err := c.call(ctx, "GetNTP", "", &a)
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

// HasTLSOff reports whether the device has HTTPS and it is switched off
// (GetNetworkProtocols). A device that does not tell has none.
func (c *Client) HasTLSOff(ctx context.Context) (bool, error) {
	var a struct {
		NetworkProtocols []struct {
			Name    string
			Enabled flag
		}
	}
	err := unlessFault(c.call(ctx, "GetNetworkProtocols", "", &a))
	for _, p := range a.NetworkProtocols {
		if strings.TrimSpace(p.Name) == "HTTPS" && !p.Enabled {
			return true, nil
		}
	}
	return false, err
}

type scopeXML struct {
	ScopeDef  string
	ScopeItem string
}

func (c *Client) scopes(ctx context.Context) ([]scopeXML, error) {
	var a struct{ Scopes []scopeXML }
	err := c.call(ctx, "GetScopes", "", &a)
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
	err := c.call(ctx, "GetPasswordComplexityConfiguration", "", &a)
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

// User is an account on the device.
type User struct {
	Name  string `xml:"Username"`
	Level string `xml:"UserLevel"`
}

// Users reads the accounts (GetUsers).
func (c *Client) Users(ctx context.Context) ([]User, error) {
	var a struct{ User []User }
	err := c.call(ctx, "GetUsers", "", &a)
	a.User = a.User[:min(len(a.User), maxUsers)]
	for i := range a.User {
		a.User[i] = User{c.said(a.User[i].Name), c.said(a.User[i].Level)}
	}
	return a.User, err
}

// maxUsers bounds the accounts that are kept of a device.
const maxUsers = 256

// Access tells a fresh device from one with a password, offering none: a
// device without an administrator lets everyone list its users.
func (c *Client) Access(ctx context.Context) (device.Access, error) {
	c.logout()
	users, err := c.Users(ctx)
	switch {
	case errors.Is(err, ErrRefused):
		c.closed = true
		return device.Sealed, nil
	case err != nil:
		return "", err
	}
	c.closed = false
	for _, u := range users {
		if strings.EqualFold(u.Level, "Administrator") {
			c.listsUsers = true
			return device.Sealed, nil
		}
	}
	return device.Fresh, nil
}

// Enter offers a password once and uses it from then on; false means refused.
func (c *Client) Enter(ctx context.Context, user string, p secret.Password) (bool, error) {
	if err := c.syncClock(ctx); err != nil {
		return false, err
	}
	if !c.challenged || c.listsUsers {
		// Which scheme the device wants is in its refusal of an anonymous request.
		c.logout()
		if err := c.lookClosed(ctx); err != nil {
			return false, err
		}
	}
	if err := c.mayLogin(); err != nil {
		return false, err
	}
	c.login(user, p)
	// On a connection that is about to go, the password would be lost: that is a try, of which
	// nothing is learnt.
	c.Close()
	users, err := c.Users(ctx)
	// A device without any administrator answers whoever asks: only one that knows this user
	// has been opened, or one that was closed to everyone a moment ago. Some leave their
	// administrators out of the list.
	known := c.closed && c.openedBy == opening || slices.ContainsFunc(users, func(u User) bool { return strings.EqualFold(u.Name, user) })
	if err == nil && known && c.openedBy != opening {
		_, _, err = c.Network(ctx, netip.Addr{}, device.MAC{})
	}
	if errors.Is(err, ErrRefused) || err == nil && !known {
		c.logout()
		return false, nil
	}
	if c.proven = err == nil; c.proven && c.scheme == byDigest {
		c.digest.fits()
	}
	return c.proven, err
}

// lookClosed finds an operation that the device closes to those without a password, by which
// one can be offered: most list their users to administrators alone, some to everyone.
func (c *Client) lookClosed(ctx context.Context) error {
	c.openedBy = opening
	_, err := c.Users(ctx)
	if c.closed = errors.Is(err, ErrRefused); c.closed {
		return nil
	}
	if err != nil {
		return err
	}
	_, _, err = c.Network(ctx, netip.Addr{}, device.MAC{})
	var locked *LockedError
	switch {
	case errors.Is(err, ErrRefused):
		c.openedBy = openingToo
	case errors.Is(err, ErrUnreachable), errors.Is(err, ErrNoReply), errors.As(err, &locked):
		return err
	}
	return nil // else it is open to everyone, as far as can be seen
}

// Opens reports whether a password opens the device for a user of any level, all of
// whom may read the network settings (Core Specification, access class
// READ_SYSTEM). It is offered once; the client goes on with its own.
func (c *Client) Opens(ctx context.Context, user string, p secret.Password) (bool, error) {
	c.Close() // offered on a connection that turns out to be gone, it would be a try for nothing
	other := c.like()
	if err := other.mayLogin(); err != nil {
		return false, err
	}
	other.login(user, p)
	_, _, err := other.Network(ctx, netip.Addr{}, device.MAC{})
	var fault *soap.Fault
	if errors.As(err, &fault) && fault.Status == http.StatusForbidden && other.scheme == byDigest {
		return true, nil // known to it, and not allowed even this (RFC 9110, 15.5.4); a wrong password gets 401
	}
	if errors.Is(err, ErrRefused) {
		return false, nil
	}
	return err == nil, err
}

// RefusesAnonymous reports whether the network settings are closed to those without a password.
func (c *Client) RefusesAnonymous(ctx context.Context) (bool, error) {
	_, _, err := c.like().Network(ctx, netip.Addr{}, device.MAC{})
	if errors.Is(err, ErrRefused) {
		return true, nil
	}
	return false, err
}
