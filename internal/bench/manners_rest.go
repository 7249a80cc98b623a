package bench

import (
	"net/netip"
	"strings"
	"time"
)

// Manners of addresses, restarts and clocks, that others look for by name.
const (
	oddToken       = "odd token"
	lateMove       = "late move"
	restartsItself = "restarts itself"
	startsTwice    = "starts twice"
	factoryFirst   = "factory first"
	followsNTP     = "follows NTP"
)

// moveLate is how late a device moves that is late with it, and deliveredFor how long one has
// the address from the factory after its start that has it first.
const (
	moveLate     = 6 * time.Second
	deliveredFor = 5 * time.Second
)

// asDelivered has the device answer at its factory address for a while, with nothing but ARP
// and pings. It reports whether the device goes on.
func (d *Device) asDelivered() bool {
	was, err := netip.ParsePrefix(d.unit.model.Factory)
	if err != nil || d.host.up(was, netip.Addr{}) != nil {
		return true
	}
	defer d.host.down()
	return sleep(d.ctx, d.host.port.sw.pace.Of(deliveredFor))
}

func ahead(m *Model, u *Unit) { u.Clock = 3 * time.Hour }

// restManners are those of addresses, of restarts, of clocks and of streams.
var restManners = map[string]manner{
	countsViewers:   {stands: "practice: wrong passwords of viewers lock it for everybody", weight: 1, group: "picture"},
	streamsOverTLS:  {stands: "Media2 Service Specification, GetStreamUri: RTSPS, and nothing without TLS", weight: 1, group: "picture"},
	streamsOverHTTP: {stands: "Streaming Specification, RTP/RTSP/HTTP/TCP: streams inside HTTP alone", weight: 1, group: "picture"},
	deadRTSP:        {stands: "practice: RTSP is named, and its port is shut; inside HTTP it streams", weight: 1, group: "picture"},
	fixedPorts:      {stands: "Core Specification, SetNetworkProtocols: a device need not have it", group: "picture"},
	oddToken:        {stands: "Core Specification, tt:ReferenceToken: any 64 characters", weight: 2, group: "interfaces"},
	"radio first": {
		stands: "Core Specification, GetNetworkInterfaces: further interfaces, switched off", weight: 2, group: "interfaces",
		shape: func(_ *Device, op string, answer *node) {
			if op != "GetNetworkInterfaces" {
				return
			}
			radio := el(devNS, "NetworkInterfaces", el(typNS, "Enabled", false),
				el(typNS, "Info", el(typNS, "Name", "wlan0"), el(typNS, "HwAddress", "02:00:5e:00:00:77"), el(typNS, "MTU", 1500)),
				el(typNS, "IPv4", el(typNS, "Enabled", false), el(typNS, "Config", el(typNS, "DHCP", true)))).with("token", "wlan0")
			answer.kids = append([]*node{radio}, answer.kids...)
		},
	},
	"no hardware address": {
		stands: "Core Specification, tt:NetworkInterface: Info is optional", weight: 2, group: "interfaces",
		shape: func(_ *Device, op string, answer *node) {
			if op == "GetNetworkInterfaces" {
				answer.remove("Info")
			}
		},
	},
	"dashed hardware address": {
		stands: "IEEE 802: hexadecimal representation, with dashes and capitals", weight: 2, group: "interfaces",
		shape: func(_ *Device, op string, answer *node) {
			answer.each("HwAddress", func(n *node) { n.text = strings.ToUpper(strings.ReplaceAll(n.text, ":", "-")) })
		},
	},
	"lease of the past": {
		stands: "seen: FromDHCP holds an old lease while DHCP is off", weight: 2, group: "addresses",
		shape: func(d *Device, op string, answer *node) {
			if op == "GetNetworkInterfaces" && !d.state.dhcp {
				answer.each("Config", func(n *node) {
					n.kids = append(n.kids, el(typNS, "FromDHCP", el(typNS, "Address", "192.0.2.55"), el(typNS, "PrefixLength", 24)))
				})
			}
		},
	},
	"link-local beside": {
		stands: "Core Specification, tt:IPv4Configuration: LinkLocal beside", weight: 2, group: "addresses",
		shape: func(d *Device, op string, answer *node) {
			if op == "GetNetworkInterfaces" && !d.state.dhcp {
				answer.each("Config", func(n *node) {
					n.kids = append([]*node{el(typNS, "LinkLocal", el(typNS, "Address", "169.254.77.7"), el(typNS, "PrefixLength", 16))}, n.kids...)
				})
			}
		},
	},
	"gateway of zeros": {
		stands: "seen: 0.0.0.0 for no gateway", weight: 2, group: "gateway",
		shape: func(d *Device, op string, answer *node) {
			if op == "GetNetworkDefaultGateway" && !d.state.gateway.IsValid() {
				answer.each("NetworkGateway", func(n *node) { n.kids = append(n.kids, el(typNS, "IPv4Address", "0.0.0.0")) })
			}
		},
	},
	"IPv6 gateway first": {
		stands: "Core Specification, tt:NetworkGateway: IPv6 addresses beside", weight: 1, group: "gateway",
		shape: func(_ *Device, op string, answer *node) {
			if op == "GetNetworkDefaultGateway" {
				answer.each("NetworkGateway", func(n *node) { n.kids = append([]*node{el(typNS, "IPv6Address", "fe80::1")}, n.kids...) })
			}
		},
	},
	"time server by name": {
		stands: "Core Specification, tt:NTPInformation: servers by name", weight: 2, group: "servers",
		shape: func(d *Device, op string, answer *node) {
			if op == "GetNTP" && len(d.state.ntp) == 0 {
				answer.each("NTPInformation", func(n *node) {
					n.kids = append(n.kids, el(typNS, "NTPManual", el(typNS, "Type", "DNS"), el(typNS, "DNSname", "time.example.org")))
				})
			}
		},
	},
	"search domains": {
		stands: "Core Specification, tt:DNSInformation: SearchDomain", weight: 1, group: "servers",
		shape: func(_ *Device, op string, answer *node) {
			if op == "GetDNS" {
				answer.each("DNSInformation", func(n *node) { n.kids = append(n.kids, el(typNS, "SearchDomain", "lan.example.org")) })
			}
		},
	},
	"forgets servers": {
		stands: "seen: DNS and NTP servers are lost at a restart", weight: 1, group: "restart",
		boot: func(d *Device) { d.state.dns, d.state.ntp = nil, nil }, brings: func(m *Model, _ *Unit) { m.NeedsBoot = true },
	},
	"clock of power-on": {
		stands: "practice: no battery, the clock begins anew at a restart", weight: 1, group: "restart",
		boot: func(d *Device) { d.state.offset = d.unit.Clock }, brings: func(m *Model, u *Unit) { ahead(m, u); m.NeedsBoot = true },
	},
	lateMove:       {stands: "seen: another address is taken seconds after the answer", weight: 2, group: "restart"},
	restartsItself: {stands: "Core Specification, SetNetworkInterfaces; seen: it restarts by itself", weight: 2, group: "restart", brings: func(m *Model, _ *Unit) { m.Restart = 4 * time.Second }},
	startsTwice:    {stands: "seen: it starts, and starts once more", weight: 1, group: "restart", brings: func(m *Model, _ *Unit) { m.NeedsBoot = true }},
	factoryFirst:   {stands: "seen: after a start it has its factory address for some seconds", weight: 2, group: "restart", brings: func(m *Model, _ *Unit) { m.NeedsBoot = true }},
	"no zone": {
		stands: "Core Specification, tt:SystemDateTime: TimeZone is optional", weight: 1, group: "clock",
		shape: func(_ *Device, op string, answer *node) {
			if op == "GetSystemDateAndTime" {
				answer.remove("TimeZone")
			}
		},
	},
	"local time beside": {
		stands: "Core Specification, tt:SystemDateTime: LocalDateTime", weight: 1, group: "clock", brings: ahead,
		shape: func(d *Device, op string, answer *node) {
			if op != "GetSystemDateAndTime" {
				return
			}
			t := d.clock().UTC().Add(5 * time.Hour)
			answer.each("SystemDateAndTime", func(n *node) {
				n.kids = append([]*node{el(typNS, "LocalDateTime",
					el(typNS, "Time", el(typNS, "Hour", t.Hour()), el(typNS, "Minute", t.Minute()), el(typNS, "Second", t.Second())),
					el(typNS, "Date", el(typNS, "Year", t.Year()), el(typNS, "Month", int(t.Month())), el(typNS, "Day", t.Day())))}, n.kids...)
			})
		},
	},
	followsNTP: {stands: "Core Specification, SetSystemDateAndTime: its clock follows NTP", weight: 2, group: "time"},
	"stream of the past": {
		stands: "seen: URLs of streams and services name an address that it had before", weight: 2, group: "picture",
		shape: func(d *Device, op string, answer *node) {
			switch op {
			case "GetStreamUri", "GetSnapshotUri", "GetServices", "GetCapabilities":
				for _, name := range []string{"Uri", "XAddr"} {
					answer.each(name, func(n *node) { n.text = strings.ReplaceAll(n.text, d.state.address.Addr().String(), "198.18.7.7") })
				}
			}
		},
	},
}
