package bench

import (
	"slices"
	"strings"
)

// uplinkNS is the namespace of the Uplink Specification.
const uplinkNS = "http://www.onvif.org/ver10/uplink/wsdl"

// Manners of what connects a device with the world, that others look for by name.
const (
	uplinked        = "uplinked"
	dynamicName     = "dynamic name"
	remotelyFound   = "remotely found"
	keepsUplink     = "keeps its uplink"
	fixedDiscovery  = "fixed discovery"
	silentDiscovery = "discovery off"
)

// outsideManners are those.
var outsideManners = map[string]manner{
	uplinked:        {stands: "Uplink Specification, GetUplinks; Core Specification, GetRemoteUser: somebody has connected it to a service outside"},
	dynamicName:     {stands: "Core Specification, GetDynamicDNS: it keeps a name up to date"},
	remotelyFound:   {stands: "Core Specification, GetRemoteDiscoveryMode: it makes itself known to a proxy outside"},
	keepsUplink:     {stands: "practice: DeleteUplink is confirmed, and the uplink stays"},
	fixedDiscovery:  {stands: "practice: the discovery mode cannot be set"},
	silentDiscovery: {stands: "Core Specification, SetDiscoveryMode: it comes as NonDiscoverable"},
}

// outward is what connects a device with the world beyond its LAN.
type outward struct {
	uplinks    []string
	remoteUser string
	dynamic    string
	proxied    bool
	hidden     bool // on its own LAN: it announces nothing and answers no probe
}

// outwardOf is what a device comes with.
func (d *Device) outwardOf() (o outward) {
	if d.is(uplinked) {
		o.uplinks, o.remoteUser = []string{"wss://relay.oakhollow.example:443/devices"}, "oakhollow-cloud"
	}
	if d.is(dynamicName) {
		o.dynamic = "cam-" + strings.ToLower(d.unit.Serial) + ".dyn.example"
	}
	o.proxied, o.hidden = d.is(remotelyFound), d.is(silentDiscovery)
	return o
}

// outer reports whether a device has services of that sort.
func (d *Device) outer() bool {
	return slices.ContainsFunc([]string{uplinked, dynamicName, remotelyFound}, d.is)
}

// Outside gives the uplinks of the device, its remote user, its dynamic name, and whether it can be
// found remotely, and on its LAN.
func (d *Device) Outside() (uplinks []string, user, name string, proxied, hidden bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	o := d.state.outward
	return slices.Clone(o.uplinks), o.remoteUser, o.dynamic, o.proxied, o.hidden
}

// uplinkOperations are those of the Uplink Specification.
var uplinkOperations = map[string]operation{
	"GetUplinks": {reading, false, func(d *Device, _ *element) (*node, *fault) {
		out := el(uplinkNS, "GetUplinksResponse")
		for _, at := range d.state.outward.uplinks {
			out.kids = append(out.kids, el(uplinkNS, "Configuration", el(uplinkNS, "RemoteAddress", at), el(uplinkNS, "UserLevel", "Administrator"), el(uplinkNS, "Status", "Connected")))
		}
		return out, nil
	}},
	"DeleteUplink": {writing, false, func(d *Device, req *element) (*node, *fault) {
		at := req.find("RemoteAddress").value()
		if !slices.Contains(d.state.outward.uplinks, at) {
			return nil, invalid("NoConfig", "No uplink of this address")
		}
		if !d.is(keepsUplink) {
			d.state.outward.uplinks = slices.DeleteFunc(slices.Clone(d.state.outward.uplinks), func(o string) bool { return o == at })
		}
		return el(uplinkNS, "DeleteUplinkResponse"), nil
	}},
}

func getRemoteUser(d *Device, _ *element) (*node, *fault) {
	out := el(devNS, "GetRemoteUserResponse")
	if d.state.outward.remoteUser != "" {
		out.kids = append(out.kids, el(devNS, "RemoteUser", el(typNS, "Username", d.state.outward.remoteUser), el(typNS, "UseDerivedPassword", false)))
	}
	return out, nil
}

func setRemoteUser(d *Device, req *element) (*node, *fault) {
	d.state.outward.remoteUser = req.find("RemoteUser", "Username").value()
	return response("SetRemoteUser")
}

func getDynamicDNS(d *Device, _ *element) (*node, *fault) {
	kind := "NoUpdate"
	info := el(devNS, "DynamicDNSInformation")
	if d.state.outward.dynamic != "" {
		kind = "ClientUpdates"
		info.kids = append(info.kids, el(typNS, "Name", d.state.outward.dynamic))
	}
	info.kids = slices.Insert(info.kids, 0, el(typNS, "Type", kind))
	return response("GetDynamicDNS", info)
}

func setDynamicDNS(d *Device, req *element) (*node, *fault) {
	switch req.find("Type").value() {
	case "NoUpdate":
		d.state.outward.dynamic = ""
	case "ClientUpdates":
		d.state.outward.dynamic = req.find("Name").value()
	default:
		return nil, invalid("InvalidArgVal", "No such type")
	}
	return response("SetDynamicDNS")
}

// modes are the two of discovery (tt:DiscoveryMode), by whether it is off.
var modes = map[bool]string{false: "Discoverable", true: "NonDiscoverable"}

func getRemoteMode(d *Device, _ *element) (*node, *fault) {
	return response("GetRemoteDiscoveryMode", el(devNS, "RemoteDiscoveryMode", modes[!d.state.outward.proxied]))
}

func setRemoteMode(d *Device, req *element) (*node, *fault) {
	d.state.outward.proxied = req.find("RemoteDiscoveryMode").value() == modes[false]
	return response("SetRemoteDiscoveryMode")
}

func getMode(d *Device, _ *element) (*node, *fault) {
	return response("GetDiscoveryMode", el(devNS, "DiscoveryMode", modes[d.state.outward.hidden]))
}

func setMode(d *Device, req *element) (*node, *fault) {
	switch mode := req.find("DiscoveryMode").value(); {
	case d.is(fixedDiscovery):
		return nil, &fault{code: "Receiver", sub: "ActionNotSupported", reason: "Optional action not implemented"}
	case mode != modes[true] && mode != modes[false]:
		return nil, invalid("InvalidArgVal", "No such mode")
	default:
		d.state.outward.hidden = mode == modes[true]
	}
	return response("SetDiscoveryMode")
}

// hidden reports whether it announces nothing.
func (d *Device) hidden() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.state.outward.hidden
}

// Uplink is somebody who connects the device with a further service outside.
func (d *Device) Uplink(at string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.state.outward.uplinks = append(slices.Clone(d.state.outward.uplinks), at)
}
