package bench

import (
	"cmp"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
)

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

func setProtocols(d *Device, req *element) (*node, *fault) {
	if d.is(fixedPorts) {
		return nil, noSuchSetting
	}
	for i := range req.Kids {
		p := &req.Kids[i]
		port, err := strconv.ParseUint(p.find("Port").value(), 10, 16)
		switch name := p.find("Name").value(); {
		case p.XMLName.Local != "NetworkProtocols" || name == "HTTPS" && d.unit.model.HTTPS == "":
			return nil, invalid("ServiceNotSupported", "The supplied network service is not supported")
		case name == "HTTP" || name == "HTTPS":
			on := trueText(p.find("Enabled").value())
			s := d.state.serving
			if err != nil || port == 0 || port == uint64(cmp.Or(d.state.rtsp, rtspPort)) {
				return nil, invalid("PortAlreadyInUse", "The selected port is already in use")
			}
			at, other := &s.plainPort, cmp.Or(s.securePort, 443)
			if name == "HTTPS" {
				at, other, s.secure = &s.securePort, cmp.Or(s.plainPort, d.unit.model.Plain, 80), on
			} else {
				s.plain = on
			}
			if port == uint64(other) {
				return nil, invalid("PortAlreadyInUse", "The selected port is already in use")
			}
			if !d.is(deafPorts) {
				*at = uint16(port)
			}
			d.serve(s)
			time.AfterFunc(d.host.port.sw.pace.Of(portLate), d.openPages)
			continue
		case name != "RTSP":
			return nil, invalid("ServiceNotSupported", "The supplied network service is not supported")
		}
		if err != nil || port == 0 || port == 80 || port == 443 {
			return nil, invalid("PortAlreadyInUse", "The selected port is already in use")
		}
		d.state.rtsp = uint16(port)
		time.AfterFunc(d.host.port.sw.pace.Of(portLate), d.restream)
	}
	return response("SetNetworkProtocols")
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
