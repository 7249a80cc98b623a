package onvif

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"janustat/core/secret"
	"janustat/internal/speak/soap"
	"janustat/internal/speak/wsd"
)

// CreateAdministrator creates the first user (CreateUsers) on a fresh device.
func (c *Client) CreateAdministrator(ctx context.Context, user string, p secret.Password) error {
	return c.call(ctx, "CreateUsers", userXML(user, p, "Administrator"), nil)
}

// SetPassword gives an administrator another password (SetUser).
func (c *Client) SetPassword(ctx context.Context, user string, p secret.Password) error {
	return c.call(ctx, "SetUser", userXML(user, p, "Administrator"), nil)
}

// CreateUser creates a further user (CreateUsers). The level is one of
// tt:UserLevel: Administrator, Operator or User.
func (c *Client) CreateUser(ctx context.Context, user string, p secret.Password, level string) error {
	return c.call(ctx, "CreateUsers", userXML(user, p, level), nil)
}

// SetUser gives a user that is there another password and level (SetUser).
func (c *Client) SetUser(ctx context.Context, user string, p secret.Password, level string) error {
	return c.call(ctx, "SetUser", userXML(user, p, level), nil)
}

// DeleteUser takes a user away (DeleteUsers).
func (c *Client) DeleteUser(ctx context.Context, user string) error {
	return c.call(ctx, "DeleteUsers", "<tds:Username>"+soap.Text(user)+"</tds:Username>", nil)
}

func userXML(user string, p secret.Password, level string) string {
	return "<tds:User><tt:Username>" + soap.Text(user) + "</tt:Username><tt:Password>" +
		soap.Text(p.Reveal()) + "</tt:Password><tt:UserLevel>" + soap.Text(level) + "</tt:UserLevel></tds:User>"
}

// SetDNS sets the IPv4 DNS servers by hand (SetDNS). Search domains and IPv6 servers go
// back as they were.
func (c *Client) SetDNS(ctx context.Context, servers []netip.Addr) error {
	var was struct{ DNSInformation hostsOf }
	var fault *soap.Fault
	if err := c.recall(ctx, "GetDNS", "", &was); err != nil && !errors.As(err, &fault) {
		return err
	}
	keep := ""
	for _, d := range was.DNSInformation.SearchDomain {
		keep += "<tds:SearchDomain>" + soap.Text(d) + "</tds:SearchDomain>"
	}
	hosts := hostsXML("DNSManual", servers)
	for _, h := range was.DNSInformation.DNSManual {
		if a, err := netip.ParseAddr(strings.TrimSpace(h.IPv6Address)); err == nil && a.Is6() && !a.IsUnspecified() {
			hosts += fmt.Sprintf("<tds:DNSManual><tt:Type>IPv6</tt:Type><tt:IPv6Address>%s</tt:IPv6Address></tds:DNSManual>", a)
		}
	}
	return c.call(ctx, "SetDNS", "<tds:FromDHCP>false</tds:FromDHCP>"+keep+hosts, nil)
}

// SetNTP sets the NTP servers by hand (SetNTP), and has the clock follow them
// (SetSystemDateAndTime) where it does not. The time zone goes back as it was.
func (c *Client) SetNTP(ctx context.Context, servers []netip.Addr) error {
	// One that has these servers already, and may have lost what came after, is told the rest.
	has := c.ntp.Offered && !c.ntp.FromDHCP && slices.Equal(c.ntp.Addresses, servers)
	c.ntp = Servers{}
	if !has {
		if err := c.call(ctx, "SetNTP", "<tds:FromDHCP>false</tds:FromDHCP>"+hostsXML("NTPManual", servers), nil); err != nil {
			return err
		}
	}
	if c.byNTP {
		return nil
	}
	return c.call(ctx, setTime, "<tds:DateTimeType>NTP</tds:DateTimeType>"+c.zoneXML(c.zone), nil)
}

// SetZone sets the time zone (SetSystemDateAndTime), and leaves how the clock goes. timed tells that
// the time was set with it, and in time.
func (c *Client) SetZone(ctx context.Context, zone string) (timed bool, err error) {
	if _, _, err := c.ClockNow(ctx); err != nil {
		return false, err
	}
	if c.byNTP {
		return false, c.call(ctx, setTime, "<tds:DateTimeType>NTP</tds:DateTimeType>"+c.zoneXML(zone), nil)
	}
	c.newZone = zone
	defer func() { c.newZone = "" }()
	late, err := c.SetClock(ctx)
	return err == nil && late == 0, err
}

// zoneXML gives the time zone, and whether daylight saving is on, as they are to stay.
func (c *Client) zoneXML(zone string) string {
	daylight := "false"
	if low := strings.ToLower(c.daylight); low == "true" || low == "1" {
		daylight = "true"
	}
	out := "<tds:DaylightSavings>" + daylight + "</tds:DaylightSavings>"
	if zone != "" {
		out += "<tds:TimeZone><tt:TZ>" + soap.Text(zone) + "</tt:TZ></tds:TimeZone>"
	}
	return out
}

func hostsXML(element string, servers []netip.Addr) string {
	var b strings.Builder
	for _, a := range servers {
		fmt.Fprintf(&b, "<tds:%s><tt:Type>IPv4</tt:Type><tt:IPv4Address>%s</tt:IPv4Address></tds:%s>", element, a, element)
	}
	return b.String()
}

// SetClock sets UTC by hand (SetSystemDateAndTime), a few times where the time is
// long on its way. late is by how much it may be behind where that did not help, else 0.
//
// A device that followed NTP follows it again after that: its server may be away today.
func (c *Client) SetClock(ctx context.Context) (late time.Duration, err error) {
	followed := false
	for try := 1; ; try++ {
		// A token made by the clock as it was would be refused, as a wrong password is. And
		// the time goes on the connection that this reading has made or used.
		// One that was heard just now has told its time, and its connection is there.
		if fresh := try == 1 && c.clockKnown && c.now().Sub(c.answered) < clockPatience; !fresh {
			if _, _, err := c.Clock(ctx); err != nil || try > clockTries {
				return late, err
			}
		}
		followed = followed || c.byNTP
		told, err := c.tellTime(ctx)
		c.clockKnown = false
		if errors.Is(err, errIdleGone) && try < clockTries {
			continue
		}
		if err != nil {
			if followed && errors.Is(err, ErrNoReply) { // it may have taken it, and has lost its mode then
				_ = c.followNTP(ctx)
			}
			return 0, err
		}
		if late = c.answered.Sub(told); late <= clockPatience {
			if err := c.syncClock(ctx); err != nil || !followed {
				return 0, err
			}
			return 0, c.followNTP(ctx)
		}
	}
}

// followNTP has the clock follow the NTP servers that the device has. One that refuses goes on
// by hand, as it was told the time.
func (c *Client) followNTP(ctx context.Context) error {
	return unlessFault(c.call(ctx, setTime, "<tds:DateTimeType>NTP</tds:DateTimeType>"+c.zoneXML(c.zone), nil))
}

// setTime is the operation that sets the clock. Sent twice, it does no harm.
const setTime = "SetSystemDateAndTime"

// tellTime sends the time. Only whole seconds can be told, so it is sent when one begins.
func (c *Client) tellTime(ctx context.Context) (t time.Time, err error) {
	t = c.now().UTC().Truncate(time.Second).Add(time.Second)
	begins := time.NewTimer(t.Sub(c.now()))
	defer begins.Stop()
	select {
	case <-begins.C:
	case <-ctx.Done():
		return t, fmt.Errorf("%s: %w: %w", setTime, ErrUnreachable, ctx.Err())
	}
	return t, c.call(ctx, setTime, fmt.Sprintf(
		"<tds:DateTimeType>Manual</tds:DateTimeType>"+c.zoneXML(cmp.Or(c.newZone, c.zone))+
			"<tds:UTCDateTime><tt:Time><tt:Hour>%d</tt:Hour><tt:Minute>%d</tt:Minute><tt:Second>%d</tt:Second></tt:Time>"+
			"<tt:Date><tt:Year>%d</tt:Year><tt:Month>%d</tt:Month><tt:Day>%d</tt:Day></tt:Date></tds:UTCDateTime>",
		t.Hour(), t.Minute(), t.Second(), t.Year(), t.Month(), t.Day()), nil)
}

// SetName sets the device's name: the name scope is replaced, the other
// configurable scopes are sent back as they were (SetScopes replaces them all).
func (c *Client) SetName(ctx context.Context, name string) error {
	list, err := c.scopes(ctx)
	if err != nil {
		return err
	}
	items := []string{wsd.NameScope(name)}
	for _, s := range list {
		item := strings.TrimSpace(s.ScopeItem)
		if strings.EqualFold(strings.TrimSpace(s.ScopeDef), "Configurable") && !wsd.IsNameScope(item) {
			items = append(items, item)
		}
	}
	var b strings.Builder
	for _, item := range items {
		b.WriteString("<tds:Scopes>" + soap.Text(item) + "</tds:Scopes>")
	}
	return c.call(ctx, "SetScopes", b.String(), nil)
}

// Restart restarts the device (SystemReboot).
func (c *Client) Restart(ctx context.Context) error { return c.call(ctx, "SystemReboot", "", nil) }

// Reset puts the device back into its factory state (SetSystemFactoryDefault,
// Hard: network settings and users included).
func (c *Client) Reset(ctx context.Context) error {
	return c.call(ctx, factoryReset, "<tds:FactoryDefault>Hard</tds:FactoryDefault>", nil)
}
