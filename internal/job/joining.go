package job

import (
	"cmp"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"janustat/core/device"
)

// Problem is something wrong in a job sheet, and where.
type Problem struct {
	Line, Column int
	Text         string
}

// Problems is all that is wrong with what a sheet says of devices that work together.
type Problems []Problem

// maxProblems is how many are listed.
const maxProblems = 40

// Error lists them, one a line, in the order of the sheet.
func (p Problems) Error() string {
	lines := make([]string, min(len(p), maxProblems))
	for i := range lines {
		lines[i] = fmt.Sprintf("line %d, column %d: %s", p[i].Line, p[i].Column, p[i].Text)
	}
	if more := len(p) - len(lines); more > 0 {
		lines = append(lines, fmt.Sprintf("and %d more", more))
	}
	return strings.Join(lines, "\n  ")
}

func (p Problems) err() error {
	if len(p) == 0 {
		return nil
	}
	slices.SortStableFunc(p, func(a, b Problem) int { return cmp.Or(a.Line-b.Line, a.Column-b.Column) })
	if len(p) == 1 {
		return fmt.Errorf("%w: %w", ErrSheet, p)
	}
	return fmt.Errorf("%w:\n  %w", ErrSheet, p)
}

// Ref is a device as the sheet names it, and where.
type Ref struct {
	Text         string
	Line, Column int
}

func refOf(n ast.Node) Ref {
	at := n.GetToken().Position
	return Ref{strings.TrimSpace(n.GetToken().Value), at.Line, at.Column}
}

func (r Ref) problem(format string, args ...any) Problem {
	return Problem{r.Line, r.Column, fmt.Sprintf(format, args...)}
}

// ChannelPlan is which camera goes to which channel of which recorder.
type ChannelPlan struct {
	Auto      bool // every camera, on any recorder that has a free channel
	None      bool // none, by a person's word
	Recorders []RecorderChannels
	problems  Problems
}

// RecorderChannels are the channels of one recorder.
type RecorderChannels struct {
	Recorder Ref
	Auto     bool // cameras that are named nowhere get its free channels
	Cameras  []ChannelCamera
}

// ChannelCamera is the camera of one channel.
type ChannelCamera struct {
	Number int
	Camera Ref
}

// none is what stands in the job sheet where devices of a sort are joined to no others, by a
// person's word.
const none = "none"

// Given reports whether the sheet says anything of channels.
func (c *ChannelPlan) Given() bool { return c.Auto || len(c.Recorders) > 0 }

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

// UnmarshalYAML reads `auto`, or what each recorder has. What is wrong is kept, to be told
// all at once.
func (c *ChannelPlan) UnmarshalYAML(n ast.Node) error {
	list, ok := entries(n)
	if !ok {
		here := refOf(n)
		switch c.Auto, c.None = here.Text == "auto", here.Text == none; {
		case c.Auto || c.None:
		case here.Text != "" && here.Text != "null":
			c.problems = append(c.problems, here.problem("channels: %q: write auto, none, or the channels of each recorder: {R01: {1: C01}}", here.Text))
		}
		return nil
	}
	cameras := map[string]Ref{}
	for _, e := range list {
		rc := RecorderChannels{Recorder: refOf(e.Key)}
		channels, ok := entries(e.Value)
		if !ok {
			if v := refOf(e.Value); v.Text == "auto" {
				rc.Auto = true
			} else {
				c.problems = append(c.problems, v.problem("channels.%s: %q: write auto, or {1: C01, 2: C02}", rc.Recorder.Text, v.Text))
			}
		}
		seen := map[int]bool{}
		for _, x := range channels {
			key, camera := refOf(x.Key), refOf(x.Value)
			n, err := strconv.Atoi(key.Text)
			switch {
			case err != nil || n < 1 || n > maxChannel:
				c.problems = append(c.problems, key.problem("channels.%s: %q cannot be a channel: they are numbered from 1", rc.Recorder.Text, key.Text))
				continue
			case seen[n]:
				c.problems = append(c.problems, key.problem("channels.%s: channel %d is there twice", rc.Recorder.Text, n))
				continue
			}
			seen[n] = true
			if was, twice := cameras[strings.ToLower(camera.Text)]; twice {
				c.problems = append(c.problems, camera.problem("channels.%s: %s is on another channel already, at line %d", rc.Recorder.Text, camera.Text, was.Line))
				continue
			}
			cameras[strings.ToLower(camera.Text)] = camera
			rc.Cameras = append(rc.Cameras, ChannelCamera{n, camera})
		}
		c.Recorders = append(c.Recorders, rc)
	}
	return nil
}

// IntercomPlan is which door station rings which indoor stations.
type IntercomPlan struct {
	Pairs    []Pair
	At       Ref  // of the whole
	None     bool // by a person's word
	problems Problems
}

// Pair is a door station and an indoor station that it rings.
type Pair struct {
	Door, Station Ref
	Floor         int
	Flat          string // digits
}

// flatForm is that of a flat's number, by which it is rung.
var flatForm = regexp.MustCompile(`^[0-9]{1,8}$`)

// UnmarshalYAML reads {D01: {I01: {floor: 1, flat: 101}}}.
func (p *IntercomPlan) UnmarshalYAML(n ast.Node) error {
	p.At = refOf(n)
	doors, ok := entries(n)
	if !ok {
		if p.None = p.At.Text == none; !p.None && p.At.Text != "" && p.At.Text != "null" {
			p.problems = append(p.problems, p.At.problem("intercoms: write none, or {D01: {I01: {floor: 1, flat: 101}}}"))
		}
		return nil
	}
	for _, d := range doors {
		door := refOf(d.Key)
		stations, ok := entries(d.Value)
		if !ok {
			p.problems = append(p.problems, door.problem("intercoms.%s: write the indoor stations it rings: {I01: {floor: 1, flat: 101}}", door.Text))
			continue
		}
		flats := map[string]bool{}
		for _, s := range stations {
			pair := Pair{Door: door, Station: refOf(s.Key)}
			where := "intercoms." + door.Text + "." + pair.Station.Text
			fields, _ := entries(s.Value)
			for _, f := range fields {
				value := refOf(f.Value)
				switch key := refOf(f.Key); key.Text {
				case "floor":
					floor, err := strconv.Atoi(value.Text)
					if err != nil || floor < -99 || floor > 999 {
						p.problems = append(p.problems, value.problem("%s.floor: %q is not a number", where, value.Text))
					}
					pair.Floor = floor
				case "flat":
					if pair.Flat = value.Text; !flatForm.MatchString(value.Text) {
						p.problems = append(p.problems, value.problem("%s.flat: %q: a flat is 1 to 8 digits, by which it is rung", where, value.Text))
					}
				default:
					p.problems = append(p.problems, key.problem("%s: unknown key %q: use floor and flat", where, key.Text))
				}
			}
			switch {
			case pair.Flat == "":
				p.problems = append(p.problems, pair.Station.problem("%s: give its flat, by which it is rung: {floor: 1, flat: 101}", where))
			case flats[pair.Flat]:
				p.problems = append(p.problems, pair.Station.problem("%s: flat %s is there twice", where, pair.Flat))
			}
			flats[pair.Flat] = true
			p.Pairs = append(p.Pairs, pair)
		}
	}
	return nil
}

// ReportPlan is the server that panels and call-home units report to.
type ReportPlan struct {
	Server   netip.Addr
	Port     uint16
	Devices  []Ref // kinds, tags, MACs or serials; every panel if left out
	None     bool  // by a person's word
	problems Problems
}

// UnmarshalYAML reads {server: 10.61.8.6, port: 7700, devices: [panel]}.
func (p *ReportPlan) UnmarshalYAML(n ast.Node) error {
	fields, ok := entries(n)
	if !ok {
		if p.None = refOf(n).Text == none; p.None {
			return nil
		}
		p.problems = append(p.problems, refOf(n).problem("reporting: write none, or {server: 10.61.8.6, port: 7700}"))
		return nil
	}
	for _, f := range fields {
		value := refOf(f.Value)
		switch key := refOf(f.Key); key.Text {
		case "server":
			a, err := netip.ParseAddr(value.Text)
			if err != nil || !a.Is4() || a.IsUnspecified() {
				p.problems = append(p.problems, value.problem("reporting.server: %q is not an IPv4 address", value.Text))
			}
			p.Server = a
		case "port":
			port, err := strconv.ParseUint(value.Text, 10, 16)
			if err != nil || port == 0 {
				p.problems = append(p.problems, value.problem("reporting.port: %q is not a port", value.Text))
			}
			p.Port = uint16(port)
		case "devices":
			if list, ok := f.Value.(*ast.SequenceNode); ok {
				for _, v := range list.Values {
					p.Devices = append(p.Devices, refOf(v))
				}
			} else {
				p.Devices = []Ref{value}
			}
		default:
			p.problems = append(p.problems, key.problem("reporting: unknown key %q: use server, port and devices", key.Text))
		}
	}
	if len(p.problems) == 0 && (!p.Server.IsValid() || p.Port == 0) {
		p.problems = append(p.problems, refOf(fields[0].Key).problem("reporting: give server and port"))
	}
	return nil
}

// checkJoining tells what is wrong of all that by itself.
func (s *Sheet) checkJoining() error {
	all := slices.Concat(s.Channels.problems, s.Intercoms.problems, s.Reporting.problems)
	if s.Channels.Given() {
		for _, u := range s.Users {
			if strings.EqualFold(u.Name, RecorderUser) {
				return fmt.Errorf("%w: users: the user %s is made for the recorder automatically: give yours another name", ErrSheet, RecorderUser)
			}
		}
	}
	return all.err()
}

// RecorderUser is the user that recorders open cameras by.
const RecorderUser = "recorder"

// Joining is which devices of a job work together.
type Joining struct {
	Recorders []JoinedRecorder // in the order of their tags
	Auto      []*device.Device // cameras that get a free channel, in the order of their tags
	Pairs     []JoinedPair
	Reporters []*device.Device
}

// JoinedRecorder is a recorder and its channels.
type JoinedRecorder struct {
	Device *device.Device
	Fixed  map[int]*device.Device
	Auto   bool // it takes cameras of Auto
}

// JoinedPair is a door station, and an indoor one that it rings.
type JoinedPair struct {
	Door, Station *device.Device
	Floor         int
	Flat          string
}

// Joined tells which devices of the job work together by the sheet, or all that is wrong
// with that.
func (a Among) Joined(devices []device.Device) (Joining, error) {
	var j Joining
	var wrong Problems
	var taken []*device.Device
	job := device.OfJob(devices)
	for i := range job {
		taken = append(taken, &job[i])
	}
	find := func(r Ref, where, what string, ok func(*device.Device) bool) *device.Device {
		for _, d := range taken {
			if a.means(r.Text, d) == notMeant {
				continue
			}
			if !ok(d) {
				wrong = append(wrong, r.problem("%s: %s is no %s", where, r.Text, what))
				return nil
			}
			return d
		}
		wrong = append(wrong, r.problem("%s: %s is not in the job", where, r.Text))
		return nil
	}
	a.joinChannels(&j, taken, find)
	paired := map[int64]bool{}
	for _, p := range a.Intercoms.Pairs {
		where := "intercoms." + p.Door.Text
		door := find(p.Door, "intercoms", "door station", func(d *device.Device) bool { return d.Kind == device.Intercom && !d.Indoor })
		station := find(p.Station, where, "indoor station", func(d *device.Device) bool { return d.Kind == device.Intercom && d.Indoor })
		if door != nil && station != nil {
			j.Pairs = append(j.Pairs, JoinedPair{door, station, p.Floor, p.Flat})
			paired[door.ID], paired[station.ID] = true, true
		}
	}
	for _, d := range taken {
		if len(a.Intercoms.Pairs) > 0 && d.Kind == device.Intercom && !paired[d.ID] && len(wrong) == 0 {
			wrong = append(wrong, a.Intercoms.At.problem("intercoms: %s is in no pair: add it, or leave it out of the job", d.Tag))
		}
	}
	if a.Reporting.Server.IsValid() {
		reporters := a.Reporting.Devices
		if len(reporters) == 0 {
			reporters = []Ref{{Text: string(device.Panel)}}
		}
		for _, r := range reporters {
			meant := slices.DeleteFunc(slices.Clone(taken), func(d *device.Device) bool { return string(d.Kind) != r.Text })
			if !slices.Contains(device.Kinds, device.Kind(r.Text)) {
				meant = []*device.Device{find(r, "reporting.devices", "device", func(*device.Device) bool { return true })}
			}
			for _, d := range meant {
				if d != nil && !slices.Contains(j.Reporters, d) {
					j.Reporters = append(j.Reporters, d)
				}
			}
		}
	}
	return j, wrong.err()
}

// finder gives the device that a reference means, if it is one to be found there.
type finder func(r Ref, where, what string, ok func(*device.Device) bool) *device.Device

func (a Among) joinChannels(j *Joining, taken []*device.Device, find finder) {
	named := map[int64]bool{}
	anyAuto := a.Channels.Auto
	for _, rc := range a.Channels.Recorders {
		d := find(rc.Recorder, "channels", "recorder", func(d *device.Device) bool { return d.Kind == device.Recorder })
		r := JoinedRecorder{Device: d, Fixed: map[int]*device.Device{}, Auto: rc.Auto}
		anyAuto = anyAuto || rc.Auto
		for _, c := range rc.Cameras {
			if camera := find(c.Camera, "channels."+rc.Recorder.Text, "camera", func(d *device.Device) bool {
				return d.Kind == device.Camera || d.Kind == device.Intercom && !d.Indoor // a door station has a picture too
			}); camera != nil {
				r.Fixed[c.Number], named[camera.ID] = camera, true
			}
		}
		if d != nil {
			j.Recorders = append(j.Recorders, r)
		}
	}
	for _, d := range taken {
		switch {
		case a.Channels.Auto && d.Kind == device.Recorder:
			j.Recorders = append(j.Recorders, JoinedRecorder{Device: d, Auto: true})
		case anyAuto && d.Kind == device.Camera && !named[d.ID]:
			j.Auto = append(j.Auto, d)
		}
	}
}
