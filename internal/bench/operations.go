package bench

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
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
	if d.unit.model.HTTPS == "only" {
		root = "https://"
	}
	if p := d.unit.model.Plain; p != 0 {
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
		el(devNS, "Manufacturer", m.Make), el(devNS, "Model", m.Name), el(devNS, "FirmwareVersion", m.Firmware),
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

func deleteUsers(d *Device, req *element) (*node, *fault) {
	name := req.find("Username").value()
	user, there := d.state.users[name]
	switch {
	case !there:
		return nil, invalid("UsernameMissing", "Username NOT recognized")
	case user.level == "Administrator":
		return nil, invalid("FixedUser", "Username may not be deleted")
	}
	delete(d.state.users, name)
	return response("DeleteUsers")
}

func createUsers(d *Device, req *element) (*node, *fault) {
	user := req.find("User")
	name, password := user.find("Username").value(), user.find("Password").Text
	if _, exists := d.state.users[name]; exists {
		return nil, &fault{code: "Sender", sub: "OperationProhibited", subsub: "UsernameClash", reason: "Username already exists"}
	}
	if d.fresh() && user.find("UserLevel").value() != "Administrator" {
		return nil, invalid("AdministratorRequired", "the first user must be an administrator")
	}
	if d.fresh() && d.is(namesItsUser) && name != itsUser {
		return nil, &fault{code: "Sender", sub: "OperationProhibited", reason: "The first user must be called " + itsUser}
	}
	if f := d.judgePassword(name, password); f != nil {
		return nil, f
	}
	d.had = append(d.had, password)
	d.settle(name, account{d.keeps(password), user.find("UserLevel").value()})
	return response("CreateUsers")
}

func setUser(d *Device, req *element) (*node, *fault) {
	user := req.find("User")
	name, password := user.find("Username").value(), user.find("Password").Text
	account, exists := d.state.users[name]
	if !exists {
		return nil, invalid("UsernameMissing", "Username does not exist")
	}
	if f := d.judgePassword(name, password); f != nil {
		return nil, f
	}
	if d.is(deafToKeys) {
		return response("SetUser")
	}
	account.password, account.level = d.keeps(password), user.find("UserLevel").value()
	d.had = append(d.had, password)
	d.settle(name, account)
	return response("SetUser")
}

// settle has a user from now on, or from a while later. The lock is held.
func (d *Device) settle(name string, a account) {
	late := func() {
		time.AfterFunc(d.host.port.sw.pace.Of(settleLate), func() {
			d.mu.Lock()
			defer d.mu.Unlock()
			d.state.users[name] = a
		})
	}
	switch {
	case d.is(lateUsers):
		late()
	case d.is(lateKeys):
		was := d.state.users[name]
		was.level = a.level
		d.state.users[name] = was
		late()
	default:
		d.state.users[name] = a
	}
}

func setClock(d *Device, req *element) (*node, *fault) {
	if zone := req.find("TimeZone", "TZ").value(); zone != "" {
		if !strings.ContainsAny(zone, "0123456789") {
			return nil, invalid("InvalidTimeZone", "An invalid time zone was specified")
		}
		d.state.zone = zone
	}
	d.state.summer = trueText(req.find("DaylightSavings").value())
	if req.find("DateTimeType").value() == "NTP" {
		if len(d.state.ntp) == 0 {
			return nil, &fault{code: "Sender", sub: "InvalidArgVal", subsub: "NtpServerUndefined", reason: "There is no NTP server"}
		}
		d.state.byNTP = true // its clock is as right or wrong as before: no NTP is spoken here
		return response("SetSystemDateAndTime")
	}
	number := func(path ...string) int {
		n, err := strconv.Atoi(req.find(append([]string{"UTCDateTime"}, path...)...).value())
		if err != nil {
			return -1
		}
		return n
	}
	year, month, day := number("Date", "Year"), number("Date", "Month"), number("Date", "Day")
	if year < 2000 || month < 1 || month > 12 || day < 1 || day > 31 {
		return nil, invalid("InvalidDateTime", "An invalid date or time was specified")
	}
	t := time.Date(year, time.Month(month), day, number("Time", "Hour"), number("Time", "Minute"), number("Time", "Second"), 0, time.UTC)
	d.state.offset, d.state.byNTP = time.Until(t), false
	return response("SetSystemDateAndTime")
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

func setDNS(d *Device, req *element) (*node, *fault) {
	list, f := given(d, req, "DNSManual")
	if f != nil {
		return nil, f
	}
	d.state.dns = list
	return response("SetDNS")
}

func setNTP(d *Device, req *element) (*node, *fault) {
	list, f := given(d, req, "NTPManual")
	if f != nil {
		return nil, f
	}
	d.state.ntp = list
	return response("SetNTP")
}

func getProtocols(d *Device, _ *element) (*node, *fault) {
	m := d.unit.model
	protocol := func(name string, on bool, port uint16) *node {
		return el(devNS, "NetworkProtocols", el(typNS, "Name", name), el(typNS, "Enabled", on), el(typNS, "Port", port))
	}
	list := []*node{protocol("HTTP", m.HTTPS != "only", cmp.Or(m.Plain, 80)), protocol("RTSP", true, 554)}
	if m.HTTPS != "" {
		list = append(list, protocol("HTTPS", m.HTTPS != "off", 443))
	}
	return response("GetNetworkProtocols", list)
}

func setScopes(d *Device, req *element) (*node, *fault) {
	var list []string
	for i := range req.Kids {
		s := req.Kids[i].value()
		if slices.Contains(d.fixedScopes(), s) {
			return nil, &fault{code: "Sender", sub: "OperationProhibited", subsub: "ScopeOverwrite", reason: "Trying overwriting permanent device scope"}
		}
		list = append(list, s)
	}
	d.state.scopes = list
	return response("SetScopes")
}

func setInterfaces(d *Device, req *element) (*node, *fault) {
	if req.find("InterfaceToken").value() != d.token() {
		return nil, invalid("InvalidNetworkInterface", "The supplied network interface token does not exist")
	}
	if d.unit.DHCPOnly {
		return nil, &fault{code: "Receiver", sub: "ActionNotSupported", reason: "Optional action not implemented"}
	}
	v4 := req.find("NetworkInterface", "IPv4")
	manual := v4.find("Manual")
	if trueText(v4.find("DHCP").value()) && manual.find("Address").value() == "" {
		d.state.dhcp, d.state.next, d.kept = true, nil, false
		return response("SetNetworkInterfaces", el(devNS, "RebootNeeded", d.unit.model.NeedsBoot && !d.is(silentRestart)))
	}
	bits, err := strconv.Atoi(manual.find("PrefixLength").value())
	addr, aerr := netip.ParseAddr(manual.find("Address").value())
	if err != nil || aerr != nil || bits < 1 || bits > 30 || !addr.Is4() || trueText(v4.find("DHCP").value()) {
		return nil, invalid("InvalidIPv4Address", "The suggested IPv4 address is invalid")
	}
	p := netip.PrefixFrom(addr, bits)
	d.state.next = &p
	return response("SetNetworkInterfaces", el(devNS, "RebootNeeded", d.unit.model.NeedsBoot && !d.is(silentRestart)))
}

// setGateway takes a gateway in the subnet the device is on or about to be on.
func setGateway(d *Device, req *element) (*node, *fault) {
	addr, err := netip.ParseAddr(req.find("IPv4Address").value())
	if err != nil || !addr.Is4() {
		return nil, invalid("InvalidGatewayAddress", "The supplied gateway address was invalid")
	}
	reachable := d.state.address.Contains(addr)
	if d.state.next != nil {
		reachable = reachable || d.state.next.Contains(addr)
	}
	if !reachable && !d.is(gatewayFirst) {
		return nil, invalid("InvalidGatewayAddress", "The gateway is not in the subnet of the device")
	}
	d.state.gateway = addr
	return response("SetNetworkDefaultGateway")
}

func reboot(*Device, *element) (*node, *fault) {
	return response("SystemReboot", el(devNS, "Message", "restarting"))
}

func factoryDefault(d *Device, req *element) (*node, *fault) {
	if req.find("FactoryDefault").value() != "Hard" {
		return nil, invalid("InvalidArgs", "only a hard reset is offered")
	}
	return response("SetSystemFactoryDefault")
}

// lampCommands are those of a device with an infrared lamp.
var lampCommands = []string{"tt:IRLamp|On", "tt:IRLamp|Off", "tt:IRLamp|Auto"}

func deviceCapabilities(_ *Device, _ *element) (*node, *fault) {
	return response("GetServiceCapabilities", el(devNS, "Capabilities", el(devNS, "Misc").with("AuxiliaryCommands", strings.Join(lampCommands, " "))))
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
