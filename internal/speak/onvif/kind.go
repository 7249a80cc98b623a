package onvif

import (
	"slices"
	"strings"

	"janustat/core/device"
	"janustat/internal/speak/wsd"
)

// Namespaces of the services that tell what a device is for.
const (
	mediaNS     = "http://www.onvif.org/ver10/media/wsdl"
	replayNS    = "http://www.onvif.org/ver10/replay/wsdl"
	media2NS    = "http://www.onvif.org/ver20/media/wsdl"
	recordingNS = "http://www.onvif.org/ver10/recording/wsdl"
	receiverNS  = "http://www.onvif.org/ver10/receiver/wsdl"
	accessNS    = "http://www.onvif.org/ver10/accesscontrol/wsdl"
	doorNS      = "http://www.onvif.org/ver10/doorcontrol/wsdl"
)

// types that say what a device is for, by their local names in any case (Core
// Specification, "device discovery", and the specifications of each type of device).
var (
	transmitters = []string{"networkvideotransmitter"}
	recorders    = []string{"networkvideostorage", "networkvideorecorder", "networkvideorecording"}
	others       = []string{"networkvideodisplay", "networkvideoanalytics", "device"}
)

// NamesDevice reports whether a type without a namespace is one of the standard's.
func NamesDevice(local string) bool {
	local = strings.ToLower(local)
	return slices.Contains(transmitters, local) || slices.Contains(recorders, local) || local != "device" && slices.Contains(others, local)
}

// KindOf tells what a device is from its announced types, its scopes and its
// services, and whether an intercom is an indoor station.
//
// A recorder receives streams, or says that it is one by its type or its scope; what
// records and plays back and has no picture of its own is one too (a camera with a memory
// card has a picture). A door with a voice is an intercom; a door without, a panel. A
// voice with neither picture nor door is an indoor station.
func KindOf(types []wsd.Type, scopes wsd.Scopes, services []string) (kind device.Kind, indoor bool) {
	has := func(ns ...string) bool {
		return slices.ContainsFunc(ns, func(n string) bool { return slices.Contains(services, n) })
	}
	scope := func(t ...string) bool {
		return slices.ContainsFunc(scopes.Types, func(have string) bool {
			have = strings.NewReplacer("_", "", "-", "", " ", "").Replace(strings.ToLower(have))
			return slices.ContainsFunc(t, func(want string) bool { return have == strings.ReplaceAll(want, "_", "") })
		})
	}
	typed := func(names []string) bool {
		return slices.ContainsFunc(types, func(t wsd.Type) bool { return slices.Contains(names, strings.ToLower(t.Local)) }) || scope(names...)
	}
	profile := func(p string) bool { return containsFold(scopes.Profiles, p) }

	voice := scope("audio_encoder", "audio_decoder")
	picture := scope("video_encoder") || typed(transmitters)
	door := has(accessNS, doorNS) || profile("A") || profile("C") || profile("D")
	switch {
	case has(receiverNS) && has(recordingNS), typed(recorders), scope("network_video_storage", "recorder", "nvr"),
		has(recordingNS) && has(replayNS) && !picture:
		return device.Recorder, false
	case door && voice:
		return device.Intercom, false
	case door:
		return device.Panel, false
	case voice && !picture:
		return device.Intercom, true
	case picture || has(mediaNS, media2NS):
		return device.Camera, false
	default:
		return device.Other, false
	}
}
