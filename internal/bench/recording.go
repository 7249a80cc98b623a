package bench

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Namespaces of the services of a recorder.
const (
	recNS = "http://www.onvif.org/ver10/recording/wsdl"
	rcvNS = "http://www.onvif.org/ver10/receiver/wsdl"
)

// recordingOperations and receiverOperations are those of the Recording Control and the
// Receiver Service Specification.
var (
	recordingOperations = map[string]operation{
		"GetServiceCapabilities":       {preAuth, false, recorderCapabilities},
		"GetRecordings":                {reading, false, getRecordings},
		"GetRecordingJobs":             {reading, false, getJobs},
		"GetRecordingJobState":         {reading, false, getJobState},
		"CreateRecording":              {writing, false, createRecording},
		"SetRecordingConfiguration":    {writing, false, setRecording},
		"CreateRecordingJob":           {writing, false, createJob},
		"DeleteRecording":              {writing, false, deleteRecording},
		"SetRecordingJobMode":          {writing, false, setJobMode},
		"SetRecordingJobConfiguration": {writing, false, setJob},
		"DeleteRecordingJob":           {writing, false, deleteJob},
	}
	receiverOperations = map[string]operation{
		"GetReceivers":           {reading, false, getReceivers},
		"GetReceiverState":       {reading, false, getReceiverState},
		"CreateReceiver":         {writing, false, createReceiver},
		"ConfigureReceiver":      {writing, false, configureReceiver},
		"DeleteReceiver":         {writing, false, deleteReceiver},
		"SetReceiverMode":        {writing, false, setReceiverMode},
		"GetServiceCapabilities": {preAuth, false, receiverCapabilities},
	}
)

// recorder is what a recorder keeps over restarts.
type recorder struct {
	recordings []recording
	jobs       []recordingJob
	receivers  []receiver
	made       int // tokens
}

type recording struct{ token, id, name, location, description, address, content, retention string }

type recordingJob struct {
	token, recording, receiver, mode string
	priority                         int
	own                              bool // its receiver is one of the recorder's own, and is not told
}

// recorderOf is what a model comes with: its channels, where they cannot be made.
func recorderOf(m *Model) (r recorder) {
	if m.Channels > 0 && !m.Makes {
		for n := range m.Channels {
			r.recordings = append(r.recordings, recording{token: fmt.Sprintf("rec%02d", n+1)})
		}
	}
	return r
}

// lay has a recorder's channels as somebody has set them up.
func (r *recorder) lay(u *Unit) {
	for _, l := range u.Records {
		for len(r.recordings) < l.Channel {
			r.recordings = append(r.recordings, recording{token: fmt.Sprintf("rec%02d", len(r.recordings)+1)})
		}
		x := &r.recordings[l.Channel-1]
		x.id, x.name, x.location, x.retention, x.content = l.Source, l.Name, l.Location, l.Retention, l.Content
		if l.URI == "" && (l.Job == "" || l.Job == "none") { // a job without a source is there too
			continue
		}
		token := ""
		if l.URI != "" {
			v := receiver{token: r.token("Rcv"), uri: l.URI, user: l.User, password: l.Password, mode: l.Mode, stream: l.Stream, protocol: l.Protocol}
			token = v.token
			r.receivers = append(r.receivers, v)
		}
		if l.Job != "none" {
			r.jobs = append(r.jobs, recordingJob{token: r.token("Job"), recording: x.token, receiver: token, mode: cmp.Or(l.Job, "Active"), priority: cmp.Or(l.Priority, 1), own: l.Own})
		}
	}
}

// Laid gives the channels of a recorder as they are now, and how many receivers it has.
func (d *Device) Laid() (out []Laid, receivers int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	r := &d.state.recorder
	for i, x := range r.recordings {
		l := Laid{Channel: i + 1, Source: x.id, Name: x.name, Location: x.location, Retention: x.retention, Content: x.content}
		for _, j := range r.jobs {
			if j.recording != x.token || j.priority < l.Priority {
				continue
			}
			l.Job, l.Priority, l.Own = j.mode, j.priority, j.own
			if v := r.receiver(j.receiver); v != nil {
				l.URI, l.User, l.Password, l.Mode, l.Stream, l.Protocol = v.uri, v.user, v.password, v.mode, v.stream, v.protocol
			}
		}
		out = append(out, l)
	}
	return out, len(r.receivers)
}

func (r *recorder) token(prefix string) string {
	r.made++
	return fmt.Sprintf("%s-%d", prefix, r.made)
}

func answerOf(ns, name string, content ...any) (*node, *fault) {
	return el(ns, name+"Response", content...), nil
}

func recorderCapabilities(d *Device, _ *element) (*node, *fault) {
	m := d.unit.model
	return answerOf(recNS, "GetServiceCapabilities", el(recNS, "Capabilities").with("DynamicRecordings", fmt.Sprint(m.Makes)).
		with("DynamicTracks", "false").with("MaxRecordings", fmt.Sprint(m.Channels)).with("MaxRecordingJobs", fmt.Sprint(m.Channels)).with("Encoding", "H264 JPEG"))
}

func getRecordings(d *Device, _ *element) (*node, *fault) {
	var list []*node
	all := d.state.recorder.recordings
	if d.is(sortedTokens) { // as texts are sorted: 1, 10, 2
		all = slices.SortedStableFunc(slices.Values(all), func(a, b recording) int {
			return strings.Compare(strings.TrimLeft(a.token[3:], "0"), strings.TrimLeft(b.token[3:], "0"))
		})
	}
	for _, x := range all {
		list = append(list, el(recNS, "RecordingItem", el(typNS, "RecordingToken", x.token),
			el(typNS, "Configuration",
				el(typNS, "Source", el(typNS, "SourceId", x.id), el(typNS, "Name", x.name), el(typNS, "Location", x.location), el(typNS, "Description", x.description), el(typNS, "Address", x.address)),
				el(typNS, "Content", x.content), el(typNS, "MaximumRetentionTime", cmp.Or(x.retention, "PT0S"))),
			el(typNS, "Tracks", el(typNS, "Track", el(typNS, "TrackToken", "video"), el(typNS, "Configuration", el(typNS, "TrackType", "Video"), el(typNS, "Description", ""))))))
	}
	return answerOf(recNS, "GetRecordings", list)
}

// wantedRecording reads a configuration.
func wantedRecording(req *element, r *recording) *fault {
	k := req.find("RecordingConfiguration")
	s := k.find("Source")
	if s.XMLName.Local == "" || len(s.find("Name").value()) > 64 {
		return invalid("BadConfiguration", "The configuration is invalid")
	}
	r.id, r.name, r.description, r.address, r.content = s.find("SourceId").value(), s.find("Name").value(), s.find("Description").value(), s.find("Address").value(), k.find("Content").value()
	r.location, r.retention = s.find("Location").value(), k.find("MaximumRetentionTime").value()
	return nil
}

func createRecording(d *Device, req *element) (*node, *fault) {
	r := &d.state.recorder
	if !d.unit.model.Makes || len(r.recordings) >= d.unit.model.Channels {
		return nil, &fault{code: "Receiver", sub: "Action", subsub: "MaxRecordings", reason: "The device cannot create a new recording"}
	}
	x := recording{}
	if f := wantedRecording(req, &x); f != nil {
		return nil, f
	}
	x.token = r.token("Rec")
	r.recordings = append(r.recordings, x)
	return answerOf(recNS, "CreateRecording", el(recNS, "RecordingToken", x.token))
}

func setRecording(d *Device, req *element) (*node, *fault) {
	r := &d.state.recorder
	at := slices.IndexFunc(r.recordings, func(x recording) bool { return x.token == req.find("RecordingToken").value() })
	if at < 0 {
		return nil, invalid("NoRecording", "The RecordingToken does not reference an existing recording")
	}
	if f := wantedRecording(req, &r.recordings[at]); f != nil {
		return nil, f
	}
	return answerOf(recNS, "SetRecordingConfiguration")
}

func jobNode(j recordingJob) *node {
	return el(typNS, "JobConfiguration", el(typNS, "RecordingToken", j.recording), el(typNS, "Mode", j.mode), el(typNS, "Priority", j.priority),
		el(typNS, "Source", el(typNS, "SourceToken", el(typNS, "Token", j.receiver)).with("Type", typNS+"/Receiver")))
}

func getJobs(d *Device, _ *element) (*node, *fault) {
	var list []*node
	for _, j := range d.state.recorder.jobs {
		list = append(list, el(recNS, "JobItem", el(typNS, "JobToken", j.token), jobNode(j)))
	}
	return answerOf(recNS, "GetRecordingJobs", list)
}

func createJob(d *Device, req *element) (*node, *fault) {
	r := &d.state.recorder
	k := req.find("JobConfiguration")
	priority, _ := strconv.Atoi(k.find("Priority").value())
	j := recordingJob{priority: priority, recording: k.find("RecordingToken").value(), mode: k.find("Mode").value(), receiver: k.find("Source", "SourceToken", "Token").value()}
	if f := d.sourced(k, &j.receiver); f != nil {
		return nil, f
	}
	if !slices.ContainsFunc(r.recordings, func(x recording) bool { return x.token == j.recording }) {
		return nil, invalid("NoRecording", "The RecordingToken does not reference an existing recording")
	}
	if d.is(refusesJobs) {
		return nil, &fault{code: "Receiver", sub: "Action", subsub: "MaxRecordingJobs", reason: "The device cannot create another job"}
	}
	j.token = r.token("Job")
	r.jobs = append(r.jobs, j)
	d.startReceiver(r.receiver(j.receiver))
	answer := jobNode(j)
	answer.space = recNS
	return answerOf(recNS, "CreateRecordingJob", el(recNS, "JobToken", j.token), answer)
}

func setJob(d *Device, req *element) (*node, *fault) {
	r, k := &d.state.recorder, req.find("JobConfiguration")
	at := slices.IndexFunc(r.jobs, func(j recordingJob) bool { return j.token == req.find("JobToken").value() })
	token := k.find("Source", "SourceToken", "Token").value()
	if at < 0 {
		return nil, invalid("NoRecordingJob", "The JobToken does not reference an existing job")
	}
	if f := d.sourced(k, &token); f != nil {
		return nil, f
	}
	j := &r.jobs[at]
	j.receiver, j.mode = token, k.find("Mode").value()
	d.startReceiver(r.receiver(token))
	answer := jobNode(*j)
	answer.space = recNS
	return answerOf(recNS, "SetRecordingJobConfiguration", answer)
}

// sourced reads the source of a job: a receiver that is there, or one that is made for it
// (AutoCreateReceiver). The lock is held.
func (d *Device) sourced(k *element, token *string) *fault {
	r, source := &d.state.recorder, k.find("Source")
	if d.is(namesTracks) && source.find("Tracks", "Destination").value() == "" {
		return invalid("BadConfiguration", "The job names no tracks")
	}
	if d.is(ownReceivers) && source.find("AutoCreateReceiver").value() == "true" {
		v := receiver{token: r.token("Rcv")}
		r.receivers = append(r.receivers, v)
		*token = v.token
	}
	if r.receiver(*token) == nil || !d.is(ownReceivers) && source.find("SourceToken").attr("Type") == "" {
		return invalid("BadConfiguration", "The configuration is invalid")
	}
	return nil
}

func deleteJob(d *Device, req *element) (*node, *fault) {
	r, token := &d.state.recorder, req.find("JobToken").value()
	at := slices.IndexFunc(r.jobs, func(j recordingJob) bool { return j.token == token })
	if at < 0 {
		return nil, invalid("NoRecordingJob", "The JobToken does not reference an existing job")
	}
	if d.is(ownReceivers) { // made with it, and gone with it
		r.drop(r.jobs[at].receiver)
	}
	r.jobs = slices.Delete(r.jobs, at, at+1)
	return answerOf(recNS, "DeleteRecordingJob")
}

// drop takes a receiver away.
func (r *recorder) drop(token string) {
	if v := r.receiver(token); v != nil && v.changed != nil {
		close(v.changed)
	}
	r.receivers = slices.DeleteFunc(r.receivers, func(v receiver) bool { return v.token == token })
}

func setJobMode(d *Device, req *element) (*node, *fault) {
	for i := range d.state.recorder.jobs {
		if j := &d.state.recorder.jobs[i]; j.token == req.find("JobToken").value() {
			j.mode = req.find("Mode").value()
			return answerOf(recNS, "SetRecordingJobMode")
		}
	}
	return nil, invalid("NoRecordingJob", "The JobToken does not reference an existing job")
}

func getJobState(d *Device, req *element) (*node, *fault) {
	r := &d.state.recorder
	for _, j := range r.jobs {
		if j.token != req.find("JobToken").value() {
			continue
		}
		if d.is(noJobStates) {
			return nil, noSuchSetting
		}
		state, fault := "Idle", ""
		if j.own {
			state = "Active"
		}
		if v := r.receiver(j.receiver); v != nil {
			if fault = v.fault; d.is(muteJobs) {
				fault = ""
			}
			if v.state == "Connected" && d.is(brokenDisk) {
				state, fault = "Error", "The disk cannot be written"
			} else if v.state == "Connected" && j.mode == "Active" && !r.outranked(j) {
				state = "Active"
			} else if fault != "" {
				state = "Error"
			}
		}
		track := el(typNS, "Track", el(typNS, "SourceTag", ""), el(typNS, "Destination", "video"))
		if fault != "" {
			track.kids = append(track.kids, el(typNS, "Error", fault))
		}
		track.kids = append(track.kids, el(typNS, "State", state))
		if d.is(tracksFail) && state == "Active" {
			track.kids[len(track.kids)-1].text = "Error"
		}
		return answerOf(recNS, "GetRecordingJobState", el(recNS, "State", el(typNS, "RecordingToken", j.recording), el(typNS, "State", state),
			el(typNS, "Sources", el(typNS, "SourceToken", el(typNS, "Token", j.receiver)), el(typNS, "State", state), el(typNS, "Tracks", track))))
	}
	return nil, invalid("NoRecordingJob", "The JobToken does not reference an existing job")
}

// outranked reports whether a recording is made by another job, of a higher priority
// (Recording Control Service Specification, 5.2).
func (r *recorder) outranked(j recordingJob) bool {
	return slices.ContainsFunc(r.jobs, func(o recordingJob) bool {
		return o.recording == j.recording && o.mode == "Active" && o.priority > j.priority
	})
}

func deleteRecording(d *Device, req *element) (*node, *fault) {
	r := &d.state.recorder
	token := req.find("RecordingToken").value()
	r.recordings = slices.DeleteFunc(r.recordings, func(x recording) bool { return x.token == token })
	return answerOf(recNS, "DeleteRecording")
}
