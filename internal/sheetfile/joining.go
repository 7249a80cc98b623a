package sheetfile

import (
	"net/netip"
	"regexp"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"janustat/core/sheet"
)

func refOf(n ast.Node) sheet.Ref {
	at := n.GetToken().Position
	return sheet.Ref{Text: strings.TrimSpace(n.GetToken().Value), Line: at.Line, Column: at.Column}
}

// none is what stands in the job sheet where devices of a sort are joined to no others, by a
// person's word.
const none = "none"

// entries gives keys and values of a mapping, none for anything else.
func entries(n ast.Node) (out []*ast.MappingValueNode, ok bool) {
	switch n := n.(type) {
	case *ast.MappingNode:
		return n.Values, true
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{n}, true
	}
	return nil, false
}

// maxChannel is more than any recorder has.
const maxChannel = 512

// readChannels reads `auto`, or what each recorder has.
func readChannels(n ast.Node) (c sheet.ChannelPlan, wrong sheet.Problems) {
	list, ok := entries(n)
	if !ok {
		here := refOf(n)
		switch c.Auto, c.None = here.Text == "auto", here.Text == none; {
		case c.Auto || c.None:
		case here.Text != "" && here.Text != "null":
			wrong = append(wrong, here.Problem("channels: %q: write auto, none, or the channels of each recorder: {R01: {1: C01}}", here.Text))
		}
		return c, wrong
	}
	cameras := map[string]sheet.Ref{}
	for _, e := range list {
		rc := sheet.RecorderChannels{Recorder: refOf(e.Key)}
		channels, ok := entries(e.Value)
		if !ok {
			if v := refOf(e.Value); v.Text == "auto" {
				rc.Auto = true
			} else {
				wrong = append(wrong, v.Problem("channels.%s: %q: write auto, or {1: C01, 2: C02}", rc.Recorder.Text, v.Text))
			}
		}
		seen := map[int]bool{}
		for _, x := range channels {
			key, camera := refOf(x.Key), refOf(x.Value)
			n, err := strconv.Atoi(key.Text)
			switch {
			case err != nil || n < 1 || n > maxChannel:
				wrong = append(wrong, key.Problem("channels.%s: %q cannot be a channel: they are numbered from 1", rc.Recorder.Text, key.Text))
				continue
			case seen[n]:
				wrong = append(wrong, key.Problem("channels.%s: channel %d is there twice", rc.Recorder.Text, n))
				continue
			}
			seen[n] = true
			if was, twice := cameras[strings.ToLower(camera.Text)]; twice {
				wrong = append(wrong, camera.Problem("channels.%s: %s is on another channel already, at line %d", rc.Recorder.Text, camera.Text, was.Line))
				continue
			}
			cameras[strings.ToLower(camera.Text)] = camera
			rc.Cameras = append(rc.Cameras, sheet.ChannelCamera{Number: n, Camera: camera})
		}
		c.Recorders = append(c.Recorders, rc)
	}
	return c, wrong
}

// flatForm is that of a flat's number, by which it is rung.
var flatForm = regexp.MustCompile(`^[0-9]{1,8}$`)

// readIntercoms reads {D01: {I01: {floor: 1, flat: 101}}}.
func readIntercoms(n ast.Node) (p sheet.IntercomPlan, wrong sheet.Problems) {
	p.At = refOf(n)
	doors, ok := entries(n)
	if !ok {
		if p.None = p.At.Text == none; !p.None && p.At.Text != "" && p.At.Text != "null" {
			wrong = append(wrong, p.At.Problem("intercoms: write none, or {D01: {I01: {floor: 1, flat: 101}}}"))
		}
		return p, wrong
	}
	for _, d := range doors {
		door := refOf(d.Key)
		stations, ok := entries(d.Value)
		if !ok {
			wrong = append(wrong, door.Problem("intercoms.%s: write the indoor stations it rings: {I01: {floor: 1, flat: 101}}", door.Text))
			continue
		}
		flats := map[string]bool{}
		for _, s := range stations {
			pair := sheet.Pair{Door: door, Station: refOf(s.Key)}
			where := "intercoms." + door.Text + "." + pair.Station.Text
			fields, _ := entries(s.Value)
			for _, f := range fields {
				value := refOf(f.Value)
				switch key := refOf(f.Key); key.Text {
				case "floor":
					floor, err := strconv.Atoi(value.Text)
					if err != nil || floor < -99 || floor > 999 {
						wrong = append(wrong, value.Problem("%s.floor: %q is not a number", where, value.Text))
					}
					pair.Floor = floor
				case "flat":
					if pair.Flat = value.Text; !flatForm.MatchString(value.Text) {
						wrong = append(wrong, value.Problem("%s.flat: %q: a flat is 1 to 8 digits, by which it is rung", where, value.Text))
					}
				default:
					wrong = append(wrong, key.Problem("%s: unknown key %q: use floor and flat", where, key.Text))
				}
			}
			switch {
			case pair.Flat == "":
				wrong = append(wrong, pair.Station.Problem("%s: give its flat, by which it is rung: {floor: 1, flat: 101}", where))
			case flats[pair.Flat]:
				wrong = append(wrong, pair.Station.Problem("%s: flat %s is there twice", where, pair.Flat))
			}
			flats[pair.Flat] = true
			p.Pairs = append(p.Pairs, pair)
		}
	}
	return p, wrong
}

// readReporting reads {server: 10.61.8.6, port: 7700, devices: [panel]}.
func readReporting(n ast.Node) (p sheet.ReportPlan, wrong sheet.Problems) {
	fields, ok := entries(n)
	if !ok {
		if p.None = refOf(n).Text == none; p.None {
			return p, wrong
		}
		wrong = append(wrong, refOf(n).Problem("reporting: write none, or {server: 10.61.8.6, port: 7700}"))
		return p, wrong
	}
	for _, f := range fields {
		value := refOf(f.Value)
		switch key := refOf(f.Key); key.Text {
		case "server":
			a, err := netip.ParseAddr(value.Text)
			if err != nil || !a.Is4() || a.IsUnspecified() {
				wrong = append(wrong, value.Problem("reporting.server: %q is not an IPv4 address", value.Text))
			}
			p.Server = a
		case "port":
			port, err := strconv.ParseUint(value.Text, 10, 16)
			if err != nil || port == 0 {
				wrong = append(wrong, value.Problem("reporting.port: %q is not a port", value.Text))
			}
			p.Port = uint16(port)
		case "devices":
			if list, ok := f.Value.(*ast.SequenceNode); ok {
				for _, v := range list.Values {
					p.Devices = append(p.Devices, refOf(v))
				}
			} else {
				p.Devices = []sheet.Ref{value}
			}
		default:
			wrong = append(wrong, key.Problem("reporting: unknown key %q: use server, port and devices", key.Text))
		}
	}
	if len(wrong) == 0 && (!p.Server.IsValid() || p.Port == 0) {
		wrong = append(wrong, refOf(fields[0].Key).Problem("reporting: give server and port"))
	}
	return p, wrong
}

// readJoining reads what a sheet says of devices that work together.
func readJoining(body ast.Node, s *sheet.Sheet) (wrong sheet.Problems) {
	list, _ := entries(body)
	for _, e := range list {
		var w sheet.Problems
		switch refOf(e.Key).Text {
		case "channels":
			s.Channels, w = readChannels(e.Value)
		case "intercoms":
			s.Intercoms, w = readIntercoms(e.Value)
		case "reporting":
			s.Reporting, w = readReporting(e.Value)
		}
		wrong = append(wrong, w...)
	}
	return wrong
}
