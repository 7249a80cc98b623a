package onvif

import (
	"slices"

	"janustat/core/device"
	"janustat/internal/speak/wsd"
)

// Namespaces of the services that tell what a device is for.
const (
	mediaNS     = "http://www.onvif.org/ver10/media/wsdl"
	media2NS    = "http://www.onvif.org/ver20/media/wsdl"
	recordingNS = "http://www.onvif.org/ver10/recording/wsdl"
	receiverNS  = "http://www.onvif.org/ver10/receiver/wsdl"
	accessNS    = "http://www.onvif.org/ver10/accesscontrol/wsdl"
	doorNS      = "http://www.onvif.org/ver10/doorcontrol/wsdl"
)

// KindOf tells what a device is from its announced types, its scopes and its
// services, and whether an intercom is an indoor station.
//
// A recorder receives streams (a camera with a memory card records but does
// not receive). A door with a voice is an intercom; a door without, a panel. A
// voice with neither picture nor door is an indoor station.
func KindOf(types []wsd.Type, scopes wsd.Scopes, services []string) (kind device.Kind, indoor bool) {
	has := func(ns ...string) bool {
		return slices.ContainsFunc(ns, func(n string) bool { return slices.Contains(services, n) })
	}
	scope := func(t string) bool { return containsFold(scopes.Types, t) }
	profile := func(p string) bool { return containsFold(scopes.Profiles, p) }

	voice := scope("audio_encoder") || scope("audio_decoder")
	picture := scope("video_encoder") || slices.Contains(types, wsd.Transmitter)
	door := has(accessNS, doorNS) || profile("A") || profile("C")
	switch {
	case has(receiverNS) && has(recordingNS), scope("network_video_storage"):
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
