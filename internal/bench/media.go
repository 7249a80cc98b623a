package bench

import (
	"fmt"
	"net/netip"
	"slices"
)

// medNS is the media service's namespace.
const medNS = "http://www.onvif.org/ver10/media/wsdl"

// mediaOperations are those of the media service (Media Service Specification, 5.15).
var mediaOperations = map[string]operation{
	"GetVideoSourceConfigurations": {reading, false, getSources},
	"SetVideoSourceConfiguration":  {writing, false, setSource},
	"GetOSDs":                      {reading, false, getOSDs},
	"SetOSD":                       {writing, false, setOSD},
	"CreateOSD":                    {writing, false, createOSD},
	"GetProfiles":                  {reading, false, getProfiles},
	"GetStreamUri":                 {reading, false, getStreamURI},
	"GetSnapshotUri":               {reading, false, getSnapshotURI},
}

// profileToken is the only profile of a device.
const profileToken = "main"

func getProfiles(_ *Device, _ *element) (*node, *fault) {
	return el(medNS, "GetProfilesResponse", el(medNS, "Profiles", el(typNS, "Name", "main"),
		el(typNS, "VideoEncoderConfiguration", el(typNS, "Name", "vec0"), el(typNS, "UseCount", 1), el(typNS, "Encoding", "JPEG"),
			el(typNS, "Resolution", el(typNS, "Width", stillWidth), el(typNS, "Height", stillHeight))).with("token", "vec0")).with("token", profileToken).with("fixed", "true")), nil
}

func getSnapshotURI(d *Device, req *element) (*node, *fault) {
	if req.find("ProfileToken").value() != profileToken {
		return nil, invalid("NoProfile", "The requested profile token does not exist")
	}
	return el(medNS, "GetSnapshotUriResponse", el(medNS, "MediaUri", el(typNS, "Uri", d.serviceURL(snapshotPath)),
		el(typNS, "InvalidAfterConnect", false), el(typNS, "InvalidAfterReboot", false), el(typNS, "Timeout", "PT60S"))), nil
}

func getStreamURI(d *Device, req *element) (*node, *fault) {
	protocol := req.find("StreamSetup", "Transport", "Protocol").value()
	if req.find("ProfileToken").value() != profileToken {
		return nil, invalid("NoProfile", "The requested profile token does not exist")
	}
	scheme := "rtsp"
	switch {
	case protocol == "HTTP" && (d.is(streamsOverHTTP) || d.is(deadRTSP)):
		scheme = "http"
	case protocol != "RTSP" || d.is(streamsOverHTTP):
		return nil, invalid("InvalidStreamSetup", "The specified stream setup is not supported")
	case d.is(streamsOverTLS):
		scheme = "rtsps"
	}
	host := d.state.address.Addr().String()
	if d.state.rtsp != 0 && scheme == "rtsp" {
		host = netip.AddrPortFrom(d.state.address.Addr(), d.state.rtsp).String()
	}
	return el(medNS, "GetStreamUriResponse", el(medNS, "MediaUri", el(typNS, "Uri", scheme+"://"+host+streamPath),
		el(typNS, "InvalidAfterConnect", false), el(typNS, "InvalidAfterReboot", false), el(typNS, "Timeout", "PT60S"))), nil
}

// sourceToken is the only video source configuration of a device.
const sourceToken = "vsc0"

// osd is text on the screen.
type osd struct{ token, kind, plain, place string }

// osdsOf are what a model comes with: a name, a name beside the time, or nothing.
func osdsOf(m *Model) []osd {
	if m.Screen == "" {
		return nil
	}
	list := []osd{{"osd0", "DateAndTime", "", "UpperRight"}}
	if m.Screen == "named" {
		list = append(list, osd{"osd1", "Plain", m.Name, "LowerLeft"})
	}
	return list
}

// maxText is how many letters fit on the screen.
const maxText = 64

func getSources(d *Device, _ *element) (*node, *fault) {
	return el(medNS, "GetVideoSourceConfigurationsResponse", el(medNS, "Configurations",
		el(typNS, "Name", d.state.source), el(typNS, "UseCount", 2), el(typNS, "SourceToken", "src0"),
		el(typNS, "Bounds").with("x", "0").with("y", "0").with("width", "1920").with("height", "1080")).with("token", sourceToken)), nil
}

func setSource(d *Device, req *element) (*node, *fault) {
	k := req.find("Configuration")
	bounds := k.find("Bounds")
	if k.attr("token") != sourceToken || bounds.attr("width") != "1920" || bounds.attr("height") != "1080" || k.find("SourceToken").value() != "src0" {
		return nil, invalid("ConfigModify", "These parameters cannot be set")
	}
	d.state.source = k.find("Name").value()
	return el(medNS, "SetVideoSourceConfigurationResponse"), nil
}

func getOSDs(d *Device, _ *element) (*node, *fault) {
	var list []*node
	for _, o := range d.state.osds {
		text := el(typNS, "TextString", el(typNS, "Type", o.kind))
		if o.kind == "Plain" {
			text.kids = append(text.kids, el(typNS, "FontSize", 24), el(typNS, "PlainText", o.plain))
		}
		list = append(list, el(medNS, "OSDs", el(typNS, "VideoSourceConfigurationToken", sourceToken), el(typNS, "Type", "Text"),
			el(typNS, "Position", el(typNS, "Type", o.place)), text).with("token", o.token))
	}
	return el(medNS, "GetOSDsResponse", list), nil
}

// wantedOSD reads what is to be on the screen.
func wantedOSD(req *element) (osd, *fault) {
	o := req.find("OSD")
	text := o.find("TextString")
	w := osd{token: o.attr("token"), kind: text.find("Type").value(), plain: text.find("PlainText").value(), place: o.find("Position", "Type").value()}
	if o.find("VideoSourceConfigurationToken").value() != sourceToken || o.find("Type").value() != "Text" || w.kind != "Plain" || w.place == "" || len(w.plain) > maxText {
		return w, invalid("ConfigModify", "The configuration parameters are not possible to set")
	}
	return w, nil
}

func setOSD(d *Device, req *element) (*node, *fault) {
	w, f := wantedOSD(req)
	if f != nil {
		return nil, f
	}
	at := slices.IndexFunc(d.state.osds, func(o osd) bool { return o.token == w.token })
	if at < 0 {
		return nil, invalid("NoConfig", "The requested OSD does not exist")
	}
	d.state.osds[at] = w
	return el(medNS, "SetOSDResponse"), nil
}

func createOSD(d *Device, req *element) (*node, *fault) {
	w, f := wantedOSD(req)
	if f != nil {
		return nil, f
	}
	w.token = fmt.Sprintf("osd%d", len(d.state.osds))
	d.state.osds = append(d.state.osds, w)
	return el(medNS, "CreateOSDResponse", el(medNS, "OSDToken", w.token)), nil
}

// Screen gives what the picture source of a device is called, and the texts on its screen.
func (d *Device) Screen() (source string, texts []string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, o := range d.state.osds {
		texts = append(texts, o.plain)
	}
	return d.state.source, texts
}
