package bench

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// operations of the device service that the simulated devices offer. Filled in
// init, since some look the table up themselves.
var operations map[string]operation

func init() {
	operations = map[string]operation{
		"GetSystemDateAndTime": {preAuth, true, getClock},
		"GetServices":          {preAuth, true, getServices},
		"GetCapabilities":      {preAuth, true, getCapabilities},
		"GetDeviceInformation": {reading, false, getInformation},
		"GetNetworkInterfaces": {reading, false, getInterfaces},
		"GetScopes":            {reading, false, getScopes},
		"GetUsers":             {secret, true, getUsers},
		"GetDNS":               {reading, false, getDNS},
		"GetNTP":               {reading, false, getNTP},
		"GetNetworkProtocols":  {reading, false, getProtocols},
		"SetNetworkProtocols":  {writing, false, setProtocols},

		"GetNetworkDefaultGateway":           {reading, false, getGateway},
		"GetPasswordComplexityConfiguration": {reading, true, getRules},

		"CreateUsers":              {writing, true, createUsers},
		"SetUser":                  {writing, false, setUser},
		"DeleteUsers":              {writing, false, deleteUsers},
		"SetSystemDateAndTime":     {writing, false, setClock},
		"SetScopes":                {writing, false, setScopes},
		"SetNetworkInterfaces":     {writing, false, setInterfaces},
		"SetNetworkDefaultGateway": {writing, false, setGateway},
		"SystemReboot":             {writing, false, reboot},
		"SetSystemFactoryDefault":  {writing, false, factoryDefault},
		"SetDNS":                   {writing, false, setDNS},
		"SetNTP":                   {writing, false, setNTP},
		"GetServiceCapabilities":   {preAuth, true, deviceCapabilities},
		"SendAuxiliaryCommand":     {writing, false, auxiliary},
		"GetRemoteUser":            {secret, false, getRemoteUser},
		"SetRemoteUser":            {writing, false, setRemoteUser},
		"GetDynamicDNS":            {reading, false, getDynamicDNS},
		"StartFirmwareUpgrade":     {writing, false, startFirmware},
		"UpgradeSystemFirmware":    {writing, false, upgradeFirmware},
		"GetSystemUris":            {reading, false, getSystemURIs},
		"GetSystemBackup":          {reading, false, getSystemBackup},
		"SetDynamicDNS":            {writing, false, setDynamicDNS},
		"GetRemoteDiscoveryMode":   {reading, false, getRemoteMode},
		"SetRemoteDiscoveryMode":   {writing, false, setRemoteMode},
		"GetDiscoveryMode":         {reading, false, getMode},
		"SetDiscoveryMode":         {writing, false, setMode},
	}
}

func getClock(d *Device, _ *element) (*node, *fault) {
	t := d.clock().UTC()
	return response("GetSystemDateAndTime", el(devNS, "SystemDateAndTime",
		el(typNS, "DateTimeType", map[bool]string{true: "NTP", false: "Manual"}[d.state.byNTP]),
		el(typNS, "DaylightSavings", d.state.summer),
		el(typNS, "TimeZone", el(typNS, "TZ", d.state.zone)),
		el(typNS, "UTCDateTime",
			el(typNS, "Time", el(typNS, "Hour", t.Hour()), el(typNS, "Minute", t.Minute()), el(typNS, "Second", t.Second())),
			el(typNS, "Date", el(typNS, "Year", t.Year()), el(typNS, "Month", int(t.Month())), el(typNS, "Day", t.Day())))))
}

func (d *Device) serviceURL(path string) string {
	root := "http://"
	if d.secureOnly.Load() {
		root = "https://"
		if p := d.securePort.Load(); p != 0 {
			path = fmt.Sprintf(":%d%s", p, path)
		}
	} else if p := cmp.Or(d.plainPort.Load(), uint32(d.unit.model.Plain)); p != 0 {
		path = fmt.Sprintf(":%d%s", p, path)
	}
	if a := d.host.address(); a.IsValid() {
		return root + a.String() + path
	}
	return root + "[" + linkLocal6(d.unit.mac).String() + "]" + path
}

// servicePath is where a further service is.
func (d *Device) servicePath(i int) string { return fmt.Sprintf("%s/s%d", d.unit.model.Path, i) }

func getServices(d *Device, _ *element) (*node, *fault) {
	service := func(ns, path string) *node {
		return el(devNS, "Service", el(devNS, "Namespace", ns), el(devNS, "XAddr", d.serviceURL(path)),
			el(devNS, "Version", el(typNS, "Major", 2), el(typNS, "Minor", 60)))
	}
	list := []*node{service(devNS, d.unit.model.Path)}
	for i, ns := range d.character().services {
		list = append(list, service(ns, d.servicePath(i)))
	}
	return response("GetServices", list)
}

func getCapabilities(d *Device, _ *element) (*node, *fault) {
	caps := el(typNS, "Capabilities", el(typNS, "Device", el(typNS, "XAddr", d.serviceURL(d.unit.model.Path))))
	caps.space = devNS
	extension := el(typNS, "Extension")
	for i, ns := range d.character().services {
		x := el(typNS, "XAddr", d.serviceURL(d.servicePath(i)))
		switch {
		case strings.Contains(ns, "/media/"):
			caps.kids = append(caps.kids, el(typNS, "Media", x))
		case strings.Contains(ns, "/recording/"):
			extension.kids = append(extension.kids, el(typNS, "Recording", x))
		case strings.Contains(ns, "/receiver/"):
			extension.kids = append(extension.kids, el(typNS, "Receiver", x))
		}
	}
	caps.kids = append(caps.kids, extension)
	return response("GetCapabilities", caps)
}

func getInformation(d *Device, _ *element) (*node, *fault) {
	m := d.unit.model
	return response("GetDeviceInformation",
		el(devNS, "Manufacturer", m.Make), el(devNS, "Model", m.Name), el(devNS, "FirmwareVersion", d.version()),
		el(devNS, "SerialNumber", d.unit.Serial), el(devNS, "HardwareId", "rev B"))
}

// token names the interface of a device.
func (d *Device) token() string {
	if d.is(oddToken) {
		return `eth 0 <"Büro" & 'Hof'>`
	}
	return "eth0"
}

func getInterfaces(d *Device, _ *element) (*node, *fault) {
	address := func(name string) *node {
		return el(typNS, name, el(typNS, "Address", d.state.address.Addr()), el(typNS, "PrefixLength", d.state.address.Bits()))
	}
	config := el(typNS, "Config")
	switch own := d.state.address; {
	case !own.IsValid():
	case own.Addr().IsLinkLocalUnicast() && d.state.dhcp:
		config.kids = append(config.kids, address("LinkLocal"))
	case d.state.dhcp:
		config.kids = append(config.kids, address("FromDHCP"))
	default:
		config.kids = append(config.kids, address("Manual"))
	}
	config.kids = append(config.kids, el(typNS, "DHCP", d.state.dhcp))
	return response("GetNetworkInterfaces", el(devNS, "NetworkInterfaces",
		el(typNS, "Enabled", true),
		el(typNS, "Info", el(typNS, "Name", d.token()), el(typNS, "HwAddress", d.unit.mac), el(typNS, "MTU", 1500)),
		el(typNS, "IPv4", el(typNS, "Enabled", d.state.address.IsValid() || d.state.dhcp), config)).with("token", d.token()))
}

func getGateway(d *Device, _ *element) (*node, *fault) {
	gateway := el(devNS, "NetworkGateway")
	if d.state.gateway.IsValid() {
		gateway.kids = append(gateway.kids, el(typNS, "IPv4Address", d.state.gateway))
	}
	return response("GetNetworkDefaultGateway", gateway)
}

func getScopes(d *Device, _ *element) (*node, *fault) {
	var list []*node
	add := func(def string, items []string) {
		for _, s := range items {
			list = append(list, el(devNS, "Scopes", el(typNS, "ScopeDef", def), el(typNS, "ScopeItem", s)))
		}
	}
	add("Fixed", d.fixedScopes())
	add("Configurable", d.state.scopes)
	return response("GetScopes", list)
}

func getUsers(d *Device, _ *element) (*node, *fault) {
	var list []*node
	for name, a := range d.state.users {
		list = append(list, el(devNS, "User", el(typNS, "Username", name), el(typNS, "UserLevel", a.level)))
	}
	return response("GetUsers", list)
}

func getRules(d *Device, _ *element) (*node, *fault) {
	r := d.unit.model.Rules
	if r == nil || r.Silent {
		return nil, &fault{code: "Receiver", sub: "ActionNotSupported", reason: "Optional action not implemented"}
	}
	return response("GetPasswordComplexityConfiguration",
		el(devNS, "MinLen", r.Min), el(devNS, "Uppercase", r.Upper), el(devNS, "Number", r.Digits),
		el(devNS, "SpecialChars", r.Special), el(devNS, "BlockUsernameOccurrence", r.NoUser),
		el(devNS, "PolicyConfigurationLocked", true))
}

var noSuchSetting = &fault{code: "Receiver", sub: "ActionNotSupported", reason: "Optional action not implemented"}

func servers(d *Device, operation, information, manual string, list []netip.Addr) (*node, *fault) {
	if d.unit.model.NoServers {
		return nil, noSuchSetting
	}
	info := el(devNS, information, el(typNS, "FromDHCP", d.state.dhcp && len(list) == 0))
	for _, a := range list {
		info.kids = append(info.kids, el(typNS, manual, el(typNS, "Type", "IPv4"), el(typNS, "IPv4Address", a)))
	}
	return response(operation, info)
}

func getDNS(d *Device, _ *element) (*node, *fault) {
	return servers(d, "GetDNS", "DNSInformation", "DNSManual", d.state.dns)
}

func getNTP(d *Device, _ *element) (*node, *fault) {
	return servers(d, "GetNTP", "NTPInformation", "NTPManual", d.state.ntp)
}

// given reads the servers of a request, of which there may be several.
func given(d *Device, req *element, name string) ([]netip.Addr, *fault) {
	if d.unit.model.NoServers {
		return nil, noSuchSetting
	}
	var list []netip.Addr
	for i := range req.Kids {
		if req.Kids[i].XMLName.Local != name {
			continue
		}
		a, err := netip.ParseAddr(req.Kids[i].find("IPv4Address").value())
		if err != nil || !a.Is4() || req.Kids[i].find("Type").value() != "IPv4" {
			return nil, invalid("InvalidIPv4Address", "The suggested IPv4 address is invalid")
		}
		list = append(list, a)
	}
	return list, nil
}

func getProtocols(d *Device, _ *element) (*node, *fault) {
	m := d.unit.model
	protocol := func(name string, on bool, port uint16) *node {
		return el(devNS, "NetworkProtocols", el(typNS, "Name", name), el(typNS, "Enabled", on), el(typNS, "Port", port))
	}
	list := []*node{protocol("HTTP", d.state.serving.plain, cmp.Or(d.state.serving.plainPort, m.Plain, 80)), protocol("RTSP", true, cmp.Or(d.state.rtsp, rtspPort))}
	if m.HTTPS != "" {
		list = append(list, protocol("HTTPS", d.state.serving.secure, cmp.Or(d.state.serving.securePort, 443)))
	}
	return response("GetNetworkProtocols", list)
}

// lampCommands are those of a device with an infrared lamp.
var lampCommands = []string{"tt:IRLamp|On", "tt:IRLamp|Off", "tt:IRLamp|Auto"}

func deviceCapabilities(d *Device, _ *element) (*node, *fault) {
	is := map[bool]string{false: "false", true: "true"}
	out := el(devNS, "Capabilities",
		el(devNS, "Network").with("DynDNS", is[d.is(dynamicName)]),
		el(devNS, "Security").with("RemoteUserHandling", is[d.is(uplinked)]),
		el(devNS, "System").with("RemoteDiscovery", is[d.is(remotelyFound)]).with("DiscoveryBye", "true"))
	if d.unit.model.Lamp {
		out.kids = append(out.kids, el(devNS, "Misc").with("AuxiliaryCommands", strings.Join(lampCommands, " ")))
	}
	return response("GetServiceCapabilities", out)
}

func auxiliary(d *Device, req *element) (*node, *fault) {
	command := req.find("AuxiliaryCommand").value()
	if !slices.Contains(lampCommands, command) {
		return nil, invalid("", "The requested AuxiliaryCommand is not supported")
	}
	d.winks = append(d.winks, command)
	return response("SendAuxiliaryCommand", el(devNS, "AuxiliaryCommandResponse", "done"))
}

// Winks gives what the device was told to show itself by.
func (d *Device) Winks() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.Clone(d.winks)
}
