package bench

import (
	//nolint:gosec // HTTP Digest

	"net/http"
	"net/netip"
	"regexp"
	"strings"
	"time"
)

// ownManners are those that other files look for by name, and the like of them.
var ownManners = map[string]manner{
	gatewayFirst: {
		stands: "practice: an address is taken only with its gateway in place",
		refuse: func(d *Device, op string, req *element) *fault {
			to, err := netip.ParsePrefix(req.find("NetworkInterface", "IPv4", "Manual", "Address").value() + "/" + req.find("NetworkInterface", "IPv4", "Manual", "PrefixLength").value())
			if op == "SetNetworkInterfaces" && (err != nil || !to.Contains(d.state.gateway)) {
				return invalid("InvalidIPv4Address", "The gateway is not in this subnet")
			}
			return nil
		},
	},
	gatewayInside: {
		stands: "practice: a gateway is taken only in the subnet the device is in now",
		refuse: func(d *Device, op string, req *element) *fault {
			a, err := netip.ParseAddr(req.find("IPv4Address").value())
			if op == "SetNetworkDefaultGateway" && (err != nil || !d.state.address.Contains(a)) {
				return invalid("InvalidGatewayAddress", "The gateway is not in the subnet")
			}
			return nil
		},
	},
	cuts8:         {stands: "seen: a password is kept up to its 8th character, and nothing is said"},
	cuts12:        {stands: "seen: likewise, up to the 12th"},
	swallows:      {stands: "seen: a user is created, and the connection closed without an answer, once"},
	saysOK:        {stands: "seen: CreateUsers is carried out and answered by 200 and the text OK"},
	saysBlank:     {stands: "RFC 9110, 15.3.5: CreateUsers is carried out and answered by 204"},
	saysCut:       {stands: "seen: the answer to CreateUsers ends in the middle of its envelope"},
	saysGo:        {stands: "RFC 9110, 15.4.3: CreateUsers is carried out, and leads to a page"},
	saysMuch:      {stands: "seen: something that is no device answers every request with one and the same envelope, and does nothing"},
	mumblesAlways: {stands: "seen: what it answers to a password that is set, it answers to every write"},
	lateKeys:      {stands: "seen: a password is confirmed, and opens the device seconds later"},
	lateUsers:     {stands: "seen: a user is confirmed, and is there seconds later"},
	keepsFactory: {
		stands: "seen: the password from the factory cannot be changed over the LAN",
		refuse: func(_ *Device, op string, _ *element) *fault {
			if op == "SetUser" {
				return &fault{code: "Receiver", sub: "ActionNotSupported", reason: "Optional action not implemented"}
			}
			return nil
		},
	},
	closesIdle: {stands: "practice: keep-alive is said, and the connection closed after each answer"},
	ntpClosed: {
		stands: "seen: the NTP servers are refused to administrators too",
		refuse: func(_ *Device, op string, _ *element) *fault {
			if op == "GetNTP" || op == "SetNTP" {
				return &fault{code: "Sender", sub: "NotAuthorized", reason: "The action requires authorization", auth: true}
			}
			return nil
		},
	},
	noGateway: {
		stands: "seen: the default gateway is not offered",
		refuse: func(_ *Device, op string, _ *element) *fault {
			if op == "GetNetworkDefaultGateway" || op == "SetNetworkDefaultGateway" {
				return &fault{code: "Receiver", sub: "ActionNotSupported", reason: "Optional action not implemented"}
			}
			return nil
		},
	},
	emptyAnswers: {
		stands: "seen: what it does not have is answered by 200 and nothing",
		refuse: func(_ *Device, op string, _ *element) *fault {
			if op == "GetDNS" || op == "GetNetworkProtocols" || op == "GetScopes" {
				return notThere
			}
			return nil
		},
	},
	leadsToPath:    {stands: "RFC 9110, 15.4.8: the service is at another path, given relatively"},
	leadsToPort:    {stands: "RFC 9110, 15.4.9: the service is at another port"},
	leadsAway:      {stands: "seen: a device leads to its maker's pages"},
	deafToKeys:     {stands: "seen: a change of the password from the factory is confirmed, and not carried out"},
	nonceOnce:      {stands: "practice: a nonce is good for one request, and nothing is said of that"},
	nonceStale:     {stands: "RFC 7616, 3.3: a nonce is good for one request, and stale is said of the next"},
	muteJobs:       {stands: "Recording Control Service Specification, RecordingJobStateTrack: Error is optional"},
	noStill:        {stands: "Media Service Specification, 5.13: GetSnapshotUri is not offered"},
	frozenStill:    {stands: "practice: a picture that hangs"},
	blackStill:     {stands: "practice: a cap left on the lens"},
	blind:          {stands: "practice: a camera that answers and has no stream"},
	forgetsGateway: {stands: "practice: an address of its own clears the gateway"},
	"servers static": {
		stands: "practice: DNS and NTP servers are taken only with DHCP off",
		refuse: func(d *Device, op string, _ *element) *fault {
			if (op == "SetDNS" || op == "SetNTP") && d.state.dhcp {
				return invalid("SettingConflict", "DHCP is on")
			}
			return nil
		},
	},
	"lease first off": {
		stands: "practice: DHCP is switched off before another address is taken",
		refuse: func(d *Device, op string, req *element) *fault {
			if op == "SetNetworkInterfaces" && d.state.dhcp && req.find("NetworkInterface", "IPv4", "Manual", "Address").value() != d.state.address.Addr().String() {
				return invalid("SettingConflict", "DHCP is on")
			}
			return nil
		},
	},
	silentRestart: {stands: "practice: a restart is wanted for an address, and RebootNeeded is false"},
	lateRestart:   {stands: "practice: SystemReboot is acted on after a while"},
	lateService:   {stands: "practice: ARP is answered long before the device service"},
	noHello:       {stands: "seen: no Hello when it starts, or one that gets lost (WS-Discovery 1.1, 4.1)"},
	hidesUsers:    {stands: "Core Specification, access classes: GetUsers wants a password, whether there is a user or not"},
	listsUsers:    {stands: "practice: GetUsers is open to everyone"},
	oldFaults:     {stands: "SOAP 1.1, 4.4: faultcode and faultstring"},
	securityFaults: {
		stands: "SOAP Message Security 1.0, 12: the faults of WS-Security",
	},
	forbids: {stands: "RFC 9110, 15.5.4: 403, and no message"},
	"busy": {
		stands: "RFC 9110, 15.6.4: 503 with Retry-After",
		refuse: func(d *Device, _ string, _ *element) *fault {
			if d.asked++; d.asked%busyEvery == 0 {
				return &fault{code: "Receiver", sub: "Action", reason: "Busy", status: http.StatusServiceUnavailable, retry: time.Second}
			}
			return nil
		},
	},
	"prohibits names": {
		stands: "Core Specification, OperationProhibited: a refusal for good",
		refuse: func(_ *Device, op string, _ *element) *fault {
			if op == "SetScopes" {
				return prohibited
			}
			return nil
		},
	},
	"no clock": {
		stands: "practice: the clock cannot be set",
		refuse: func(_ *Device, op string, _ *element) *fault {
			if op == "SetSystemDateAndTime" {
				return noSuchSetting
			}
			return nil
		},
	},
	secretClock: {stands: "practice: GetSystemDateAndTime wants a password, though it is PRE_AUTH"},
	"no UTC": {
		stands: "Core Specification, tt:SystemDateTime: UTCDateTime is optional",
		shape: func(_ *Device, op string, answer *node) {
			if op == "GetSystemDateAndTime" {
				answer.remove("UTCDateTime")
			}
		},
	},
	sessionDigest: {stands: "RFC 7616, 3.4.2: MD5-sess"},
	"capital users": {
		stands: "practice: names of users in capitals",
		shape: func(_ *Device, op string, answer *node) {
			if op == "GetUsers" {
				answer.each("Username", func(n *node) { n.text = strings.ToUpper(n.text) })
			}
		},
	},
	"masks": {
		stands: "practice: a mask where a prefix length belongs, and leading zeros",
		shape: func(d *Device, op string, answer *node) {
			if op != "GetNetworkInterfaces" {
				return
			}
			answer.each("PrefixLength", func(n *node) {
				n.text = map[int]string{23: "255.255.254.0", 24: "255.255.255.0"}[d.state.address.Bits()]
			})
			answer.each("Address", func(n *node) {
				n.text = regexp.MustCompile(`\b\d{1,2}\b`).ReplaceAllStringFunc(n.text, func(s string) string { return strings.Repeat("0", 3-len(s)) + s })
			})
		},
	},
	junk:         {stands: "practice: octets after the envelope, a NUL and a bare ampersand in it"},
	deadAddress:  {stands: "WS-Discovery 2005/04, 5.3: several XAddrs, the first of which does not answer"},
	noDiscovery:  {stands: "practice: discovery switched off, video and the device service at their usual ports"},
	leadsToHTTPS: {stands: "RFC 9110, 15.4.2: port 80 leads to HTTPS"},
	untyped:      {stands: "WS-Discovery 2005/04, 5.3: Types and Scopes are optional in a match"},
	"two ports": {
		stands: "practice: a recorder with an inner network of its own",
		shape: func(_ *Device, op string, answer *node) {
			if op != "GetNetworkInterfaces" {
				return
			}
			inner := el(devNS, "NetworkInterfaces",
				el(typNS, "Enabled", true),
				el(typNS, "Info", el(typNS, "Name", "poe"), el(typNS, "HwAddress", "02:00:5e:00:00:99"), el(typNS, "MTU", 1500)),
				el(typNS, "IPv4", el(typNS, "Enabled", true), el(typNS, "Config",
					el(typNS, "Manual", el(typNS, "Address", "10.254.0.1"), el(typNS, "PrefixLength", 16)), el(typNS, "DHCP", false)))).with("token", "poe")
			answer.kids = append([]*node{inner}, answer.kids...)
		},
	},
	"two addresses": {
		stands: "Core Specification, tt:IPv4Configuration: several manual addresses on one interface",
		shape: func(d *Device, op string, answer *node) {
			if op == "GetNetworkInterfaces" && !d.state.dhcp {
				answer.each("Config", func(n *node) {
					n.kids = append([]*node{el(typNS, "Manual", el(typNS, "Address", "172.30.30.30"), el(typNS, "PrefixLength", 24))}, n.kids...)
				})
			}
		},
	},
}
