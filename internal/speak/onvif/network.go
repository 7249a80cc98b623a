package onvif

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"janustat/core/device"
	"janustat/internal/speak/soap"
)

// interfaceXML is one network interface of GetNetworkInterfaces.
type interfaceXML struct {
	Token   string `xml:"token,attr"`
	Enabled *flag  `xml:"Enabled"` // one that does not say is
	Info    struct {
		HwAddress string
	}
	IPv4 struct {
		Config struct {
			Manual    []addressXML
			LinkLocal *addressXML
			FromDHCP  *addressXML
			DHCP      flag
		}
	}
}

type addressXML struct {
	Address      string
	PrefixLength prefixLength
}

func (a addressXML) parse() (netip.Addr, int) {
	addr, ok := parseAddr(a.Address)
	if !ok || a.PrefixLength < 0 {
		return netip.Addr{}, 0
	}
	return addr, int(a.PrefixLength)
}

func (i interfaceXML) enabled() bool { return i.Enabled == nil || bool(*i.Enabled) }

func (i interfaceXML) mac() device.MAC {
	m, err := device.ParseMAC(strings.TrimSpace(i.Info.HwAddress))
	if err != nil {
		return device.MAC{}
	}
	return m
}

// addresses are all that an interface has, the one it uses as a rule first.
func (i interfaceXML) addresses() (out []addressXML) {
	cfg := i.IPv4.Config
	if cfg.DHCP && cfg.FromDHCP != nil {
		out = append(out, *cfg.FromDHCP)
	}
	if !cfg.DHCP {
		out = append(out, cfg.Manual...)
	}
	if cfg.LinkLocal != nil {
		out = append(out, *cfg.LinkLocal)
	}
	if cfg.DHCP {
		out = append(out, cfg.Manual...)
	}
	return out
}

// settings gives the address in use on an interface: the one that the device was met at,
// or else the one it uses as a rule.
func (i interfaceXML) settings(at netip.Addr) device.Settings {
	s := device.Settings{DHCP: bool(i.IPv4.Config.DHCP)}
	for _, a := range i.addresses() {
		addr, prefix := a.parse()
		if addr == at && at.IsValid() {
			s.Address, s.Prefix = addr, prefix
			return s
		}
		if !s.Address.IsValid() {
			s.Address, s.Prefix = addr, prefix
		}
	}
	return s
}

func (i interfaceXML) has(at netip.Addr) bool {
	return at.IsValid() && slices.ContainsFunc(i.addresses(), func(a addressXML) bool { addr, _ := a.parse(); return addr == at })
}

// Network reads the interface that the device is met by, its address, and the MACs of all
// (GetNetworkInterfaces). at and mac are the address and the MAC it was met at. Of several
// interfaces it is the one with that MAC; where none says so, the one with that address;
// or else the only one that is enabled.
func (c *Client) Network(ctx context.Context, at netip.Addr, mac device.MAC) (device.Settings, []device.MAC, error) {
	var a struct {
		NetworkInterfaces []interfaceXML
	}
	if err := c.recall(ctx, "GetNetworkInterfaces", "", &a); err != nil {
		return device.Settings{}, nil, err
	}
	all := a.NetworkInterfaces[:min(len(a.NetworkInterfaces), maxInterfaces)]
	var macs []device.MAC
	for _, n := range all {
		if m := n.mac(); !m.IsZero() {
			macs = append(macs, m)
		}
	}
	best, err := metBy(all, at, mac)
	if err != nil {
		return device.Settings{}, macs, fmt.Errorf("GetNetworkInterfaces: %w", err)
	}
	s := all[best].settings(at)
	c.iface, c.subnet, c.others = all[best].Token, netip.Prefix{}, nil
	if s.Address.Is4() && s.Prefix > 0 {
		c.subnet = netip.PrefixFrom(s.Address, s.Prefix).Masked()
	}
	for i, n := range all {
		if i == best || !n.enabled() {
			continue
		}
		for _, x := range n.addresses() {
			if addr, prefix := x.parse(); addr.Is4() && prefix > 0 {
				c.others = append(c.others, netip.PrefixFrom(addr, prefix).Masked())
			}
		}
	}
	return s, macs, nil
}

// interfaces asks for them, whatever was told before: what opens a device shows by that.
func (c *Client) interfaces(ctx context.Context) error {
	return c.keep(ctx, "GetNetworkInterfaces", "", nil)
}

// maxInterfaces bounds the interfaces that are looked at.
const maxInterfaces = 64

func metBy(all []interfaceXML, at netip.Addr, mac device.MAC) (int, error) {
	best, worth, rivals, enabled := -1, -1, 0, 0
	for i, n := range all {
		w := 0
		if n.enabled() {
			enabled++
			w++
		}
		if n.has(at) {
			w += 2
		}
		if !mac.IsZero() && n.mac() == mac {
			w += 4
		}
		switch {
		case w > worth:
			best, worth, rivals = i, w, 0
		case w == worth:
			rivals++
		}
	}
	switch {
	case worth < 1:
		return -1, errors.New("no interface is enabled")
	case worth == 1 && rivals > 0 && !mac.IsZero():
		return -1, fmt.Errorf("it has %d interfaces, and none says that it is the one with %s or %s", enabled, mac, at)
	}
	return best, nil
}

// gatewaysXML is the answer of GetNetworkDefaultGateway.
type gatewaysXML struct {
	V4 []string `xml:"NetworkGateway>IPv4Address"`
	V6 []string `xml:"NetworkGateway>IPv6Address"`
}

// ofOthers gives the IPv4 gateways that are in the subnets of other interfaces only.
func (c *Client) ofOthers(g gatewaysXML) (ours, others []netip.Addr) {
	for _, s := range g.V4 {
		addr, ok := parseAddr(s)
		if !ok || !addr.Is4() || addr.IsUnspecified() {
			continue
		}
		elsewhere := slices.ContainsFunc(c.others, func(p netip.Prefix) bool { return p.Contains(addr) })
		if elsewhere && !c.subnet.Contains(addr) {
			others = append(others, addr)
		} else {
			ours = append(ours, addr)
		}
	}
	return ours, others
}

// Gateway reads the IPv4 default gateway of the interface last read by Network
// (GetNetworkDefaultGateway); the zero address is none.
func (c *Client) Gateway(ctx context.Context) (netip.Addr, error) {
	var a gatewaysXML
	if err := c.recall(ctx, "GetNetworkDefaultGateway", "", &a); err != nil {
		return netip.Addr{}, err
	}
	ours, _ := c.ofOthers(a)
	if in := slices.IndexFunc(ours, c.subnet.Contains); in > 0 {
		return ours[in], nil
	}
	if len(ours) > 0 {
		return ours[0], nil
	}
	return netip.Addr{}, nil
}

// SetAddress sets a static address with DHCP off on the interface last read by Network
// (SetNetworkInterfaces); restart tells whether the device wants one first.
func (c *Client) SetAddress(ctx context.Context, s device.Settings) (restart bool, err error) {
	if c.iface == "" {
		return false, errors.New("SetNetworkInterfaces: its interface was not read")
	}
	var a struct{ RebootNeeded flag }
	err = c.call(ctx, "SetNetworkInterfaces", fmt.Sprintf(
		"<tds:InterfaceToken>%s</tds:InterfaceToken><tds:NetworkInterface><tt:Enabled>true</tt:Enabled>"+
			"<tt:IPv4><tt:Enabled>true</tt:Enabled><tt:Manual><tt:Address>%s</tt:Address><tt:PrefixLength>%d</tt:PrefixLength></tt:Manual>"+
			"<tt:DHCP>false</tt:DHCP></tt:IPv4></tds:NetworkInterface>",
		soap.Text(c.iface), s.Address, s.Prefix), &a)
	return bool(a.RebootNeeded), err
}

// SetDHCP has the interface ask for its IPv4 address by DHCP (SetNetworkInterfaces), and DNS and
// NTP servers likewise where the device has them (SetDNS and SetNTP, FromDHCP).
func (c *Client) SetDHCP(ctx context.Context) (restart bool, err error) {
	if c.iface == "" {
		return false, errors.New("SetNetworkInterfaces: its interface was not read")
	}
	var fault *soap.Fault
	for _, op := range []string{"SetDNS", "SetNTP"} {
		if err := c.call(ctx, op, "<tds:FromDHCP>true</tds:FromDHCP>", nil); err != nil && !errors.As(err, &fault) {
			return false, err
		}
	}
	var a struct{ RebootNeeded flag }
	err = c.call(ctx, "SetNetworkInterfaces", fmt.Sprintf(
		"<tds:InterfaceToken>%s</tds:InterfaceToken><tds:NetworkInterface><tt:Enabled>true</tt:Enabled>"+
			"<tt:IPv4><tt:Enabled>true</tt:Enabled><tt:DHCP>true</tt:DHCP></tt:IPv4></tds:NetworkInterface>", soap.Text(c.iface)), &a)
	return bool(a.RebootNeeded), err
}

// SetGateway sets the IPv4 default gateway (SetNetworkDefaultGateway). Those of IPv6, and
// of other interfaces, go back as they were.
func (c *Client) SetGateway(ctx context.Context, gateway netip.Addr) error {
	var was gatewaysXML
	var fault *soap.Fault
	if err := c.recall(ctx, "GetNetworkDefaultGateway", "", &was); err != nil && !errors.As(err, &fault) {
		return err
	}
	_, others := c.ofOthers(was)
	inner := ""
	for _, a := range append([]netip.Addr{gateway}, others...) {
		inner += fmt.Sprintf("<tds:IPv4Address>%s</tds:IPv4Address>", a)
	}
	for _, text := range was.V6 {
		if a, err := netip.ParseAddr(strings.TrimSpace(text)); err == nil && a.Is6() {
			inner += fmt.Sprintf("<tds:IPv6Address>%s</tds:IPv6Address>", a)
		}
	}
	return c.call(ctx, "SetNetworkDefaultGateway", inner, nil)
}
