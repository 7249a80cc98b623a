package bench

import (
	"slices"
	"strings"
)

// character is what a device of a kind announces and offers.
type character struct {
	types    [][2]string
	scopes   []string
	services []string
}

var characters = map[string]character{
	"camera": {
		types:    [][2]string{{netNS, "NetworkVideoTransmitter"}, {devNS, "Device"}},
		scopes:   []string{"type/video_encoder", "Profile/Streaming", "Profile/T"},
		services: []string{"http://www.onvif.org/ver10/media/wsdl", "http://www.onvif.org/ver10/events/wsdl"},
	},
	"recorder": {
		types:  [][2]string{{devNS, "Device"}},
		scopes: []string{"Profile/G", "type/Network_Video_Storage"},
		services: []string{
			"http://www.onvif.org/ver10/recording/wsdl", "http://www.onvif.org/ver10/receiver/wsdl",
			"http://www.onvif.org/ver10/replay/wsdl", "http://www.onvif.org/ver10/search/wsdl",
		},
	},
	"door-station": {
		types:    [][2]string{{netNS, "NetworkVideoTransmitter"}, {devNS, "Device"}},
		scopes:   []string{"type/video_encoder", "type/audio_encoder", "Profile/Streaming", "Profile/C"},
		services: []string{"http://www.onvif.org/ver10/media/wsdl", "http://www.onvif.org/ver10/doorcontrol/wsdl"},
	},
	"indoor-station": {
		types:    [][2]string{{devNS, "Device"}},
		scopes:   []string{"type/audio_encoder"},
		services: []string{"http://www.onvif.org/ver10/deviceIO/wsdl"},
	},
	"panel": {
		types:    [][2]string{{devNS, "Device"}},
		scopes:   []string{"Profile/A", "Profile/C"},
		services: []string{"http://www.onvif.org/ver10/accesscontrol/wsdl", "http://www.onvif.org/ver10/doorcontrol/wsdl"},
	},
}

// character is that of the device's kind; a recorder without channels that can be set has
// no services for them.
func (d *Device) character() character {
	c := characters[d.unit.model.Kind]
	if d.unit.model.Kind == "recorder" && d.unit.model.Channels == 0 {
		c.services = slices.DeleteFunc(slices.Clone(c.services), func(ns string) bool { return ns == recNS || ns == rcvNS })
	}
	if d.is(uplinked) {
		c.services = append(slices.Clone(c.services), uplinkNS)
	}
	if d.is(keepsKeys) {
		c.services = append(slices.Clone(c.services), keystoreNS)
	}
	return c
}

// offers reports whether a device has what an operation is of.
func (d *Device) offers(ns, name string) bool {
	switch {
	case name == "SendAuxiliaryCommand":
		return d.unit.model.Lamp
	case ns == devNS && name == "GetServiceCapabilities":
		return d.unit.model.Lamp || d.outer()
	case name == "StartFirmwareUpgrade":
		return d.is(takesFirmware)
	case name == "UpgradeSystemFirmware":
		return d.is(firmwareAttached)
	case name == "GetSystemUris":
		return d.is(backsUp)
	case name == "GetSystemBackup":
		return d.is(backsUpAttached) || d.is(backsUpInside)
	case ns == keystoreNS:
		return d.is(keepsKeys)
	case ns == uplinkNS, strings.HasSuffix(name, "RemoteUser"):
		return d.is(uplinked)
	case strings.HasSuffix(name, "DynamicDNS"):
		return d.is(dynamicName)
	case strings.HasSuffix(name, "RemoteDiscoveryMode"):
		return d.is(remotelyFound)
	case ns == recNS || ns == rcvNS:
		return d.unit.model.Channels > 0
	case name == "GetSnapshotUri" && d.is(noStill):
		return false
	case name == "GetProfiles" || name == "GetStreamUri" || name == "GetSnapshotUri":
		return d.streams()
	}
	return true
}

// fixedScopes are those a client cannot set.
func (d *Device) fixedScopes() []string {
	out := []string{scopeRoot + "hardware/" + strings.ReplaceAll(d.unit.model.Name, " ", "_")}
	for _, s := range d.character().scopes {
		out = append(out, scopeRoot+s)
	}
	return out
}

func (d *Device) allScopes() []string {
	return slices.Concat(d.fixedScopes(), d.state.scopes)
}
