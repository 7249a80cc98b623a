package onvif

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"janustat/core/secret"
	"janustat/internal/speak/rtsp"
	"janustat/internal/speak/soap"
)

// Recorder is the receiver and the recording control service of a device (Receiver Service
// and Recording Control Service Specification).
type Recorder struct {
	c                   *Client
	recording, receiver service
	// as they were read last
	Room     int // how many channels it can have; 0 is not told
	Free     int // for how many more it has jobs and receivers; -1 is not told
	Channels []Channel
	dynamic  bool // it creates recordings
	stray    []receiverXML
}

// Channel is a recording with the job that fills it and the receiver that it comes from.
type Channel struct {
	Number   int
	Source   string // SourceId of the recording: what the camera is called by
	Name     string // of the source
	URI      string // that the receiver connects to, without the user
	User     string // in that URI
	Password string // likewise; "" where the recorder does not tell it
	State    string // of the receiver: NotConnected, Connecting, Connected, Unknown; "" without one
	Error    string // of the job's track, in the recorder's words
	// JobState is the state of the job that fills it: Idle, Active, PartiallyActive, Error; ""
	// where the recorder does not tell.
	JobState string
	// Used tells that something is on it, whether that is understood or not: a source, or a job
	// with one.
	Used bool
	// Contested tells that several active jobs fill it from different sources, of which the one
	// of the highest priority does: somebody wants that.
	Contested bool
	// Plays says what that is, in the recorder's words, without what may be a password.
	Plays string

	token, job, from   string
	config             sourceXML
	content, retention string
	priority           string // of its job
	active             bool
}

// Records reports whether the channel records what its receiver brings, as far as the recorder
// tells: a receiver may be connected, and the disk be broken.
func (k *Channel) Records() bool {
	return k.State == "Connected" && k.Error == "" && (k.JobState == "" || k.JobState == "Active" || k.JobState == "PartiallyActive")
}

type sourceXML struct{ SourceId, Name, Location, Description, Address string } //nolint:revive // named by the standard

type recordingXML struct {
	Token         string `xml:"RecordingToken"`
	Configuration struct {
		Source               sourceXML
		Content              string
		MaximumRetentionTime string
	}
}

type jobXML struct {
	Token         string `xml:"JobToken"`
	Configuration struct {
		RecordingToken, Mode, Priority string
		Source                         []struct {
			SourceToken struct{ Token string }
		}
	} `xml:"JobConfiguration"`
}

type receiverXML struct {
	Token         string
	Configuration struct{ Mode, MediaUri string } //nolint:revive // named by the standard
}

// Recorder finds the services; false where the device lacks one of them.
func (c *Client) Recorder(ctx context.Context) (*Recorder, bool, error) {
	list, err := c.services(ctx)
	if err != nil {
		return nil, false, err
	}
	r := &Recorder{c: c}
	var has, also bool
	r.recording, has = c.serviceIn(list, recordingNS, "trc")
	r.receiver, also = c.serviceIn(list, receiverNS, "trv")
	return r, has && also, nil
}

// channelForm is how the number of a channel stands in the content of a recording.
var channelForm = regexp.MustCompile(`^Channel (\d{1,4})$`)

// Read reads every channel (GetRecordings, GetRecordingJobs, GetReceivers and their states).
func (r *Recorder) Read(ctx context.Context) error {
	var caps struct {
		Capabilities struct {
			Dynamic string `xml:"DynamicRecordings,attr"`
			Max     string `xml:"MaxRecordings,attr"`
			Jobs    string `xml:"MaxRecordingJobs,attr"`
		}
	}
	var more struct {
		Capabilities struct {
			Receivers string `xml:"SupportedReceivers,attr"`
		}
	}
	if err := unlessFault(r.c.callOf(ctx, r.recording, "GetServiceCapabilities", "", &caps)); err != nil {
		return err
	}
	r.dynamic = strings.EqualFold(caps.Capabilities.Dynamic, "true") || caps.Capabilities.Dynamic == "1"
	if err := unlessFault(r.c.callOf(ctx, r.receiver, "GetServiceCapabilities", "", &more)); err != nil {
		return err
	}
	var recordings struct{ RecordingItem []recordingXML }
	var jobs struct{ JobItem []jobXML }
	var receivers struct{ Receivers []receiverXML }
	for _, ask := range []struct {
		at  service
		op  string
		out any
	}{{r.recording, "GetRecordings", &recordings}, {r.recording, "GetRecordingJobs", &jobs}, {r.receiver, "GetReceivers", &receivers}} {
		if err := r.c.callOf(ctx, ask.at, ask.op, "", ask.out); err != nil {
			return err
		}
	}
	if r.Room = limit(caps.Capabilities.Max); !r.dynamic {
		r.Room = len(recordings.RecordingItem)
	}
	busy := 0 // jobs: one without a source is there to be given one
	for _, j := range jobs.JobItem {
		if len(j.Configuration.Source) > 0 && strings.TrimSpace(j.Configuration.Source[0].SourceToken.Token) != "" {
			busy++
		}
	}
	r.Free = spare(limit(caps.Capabilities.Jobs), busy, spare(limit(more.Capabilities.Receivers), len(receivers.Receivers), -1))
	r.Channels, r.stray = nil, nil
	used := map[string]bool{}
	for i, x := range recordings.RecordingItem {
		k := Channel{Number: i + 1, token: x.Token, config: x.Configuration.Source, content: x.Configuration.Content, retention: x.Configuration.MaximumRetentionTime, Source: strings.TrimSpace(x.Configuration.Source.SourceId), Name: r.c.said(x.Configuration.Source.Name)}
		if m := channelForm.FindStringSubmatch(strings.TrimSpace(x.Configuration.Content)); m != nil {
			k.Number, _ = strconv.Atoi(m[1]) // digits, by its form
		}
		for _, j := range filling(jobs.JobItem, x.Token) {
			from := ""
			if len(j.Configuration.Source) > 0 {
				from = strings.TrimSpace(j.Configuration.Source[0].SourceToken.Token)
			}
			used[from] = true // of jobs that others outrank, too
			k.Contested = k.Contested || k.active && j.Configuration.Mode == "Active" && from != k.from
			if k.job == "" {
				k.job, k.from, k.active, k.priority = j.Token, from, j.Configuration.Mode == "Active", strings.TrimSpace(j.Configuration.Priority)
			}
			k.Used = k.Used || from != ""
		}
		for _, v := range receivers.Receivers {
			if v.Token == k.from && k.from != "" {
				k.URI, k.User, k.Password = parted(v.Configuration.MediaUri)
				k.Plays = r.c.said(shown(v.Configuration.MediaUri))
			}
		}
		k.Used = k.Used || k.Source != ""
		if k.Plays == "" {
			k.Plays = cmp.Or(r.c.said(k.Source), k.Name, "a source that it does not name")
		}
		r.Channels = append(r.Channels, k)
	}
	for _, v := range receivers.Receivers {
		if !used[v.Token] {
			r.stray = append(r.stray, v)
		}
	}
	return r.states(ctx)
}

// states reads how each channel that has a receiver fares.
func (r *Recorder) states(ctx context.Context) error {
	for i := range r.Channels {
		k := &r.Channels[i]
		if k.from == "" {
			continue
		}
		var a struct{ ReceiverState struct{ State string } }
		if err := unlessFault(r.c.callOf(ctx, r.receiver, "GetReceiverState", "<trv:ReceiverToken>"+escape(k.from)+"</trv:ReceiverToken>", &a)); err != nil {
			return err
		}
		k.State = strings.TrimSpace(a.ReceiverState.State)
		var j struct {
			State struct {
				State   string
				Sources []struct {
					Tracks struct{ Track []struct{ Error string } }
				}
			}
		}
		if err := unlessFault(r.c.callOf(ctx, r.recording, "GetRecordingJobState", "<trc:JobToken>"+escape(k.job)+"</trc:JobToken>", &j)); err != nil {
			return err
		}
		k.JobState = r.c.said(strings.TrimSpace(j.State.State))
		for _, s := range j.State.Sources {
			for _, t := range s.Tracks.Track {
				if said := r.c.said(strings.TrimSpace(t.Error)); said != "" {
					k.Error = said
				}
			}
		}
	}
	return nil
}

// filling gives the jobs of a recording, the one that fills it first: of those that are
// active the one of the highest priority (Recording Control Service Specification, 5.2), then
// those that are not.
func filling(all []jobXML, recording string) []jobXML {
	var own []jobXML
	for _, j := range all {
		if j.Configuration.RecordingToken == recording {
			own = append(own, j)
		}
	}
	rank := func(j jobXML) (active bool, priority int) {
		priority, _ = strconv.Atoi(strings.TrimSpace(j.Configuration.Priority)) // 0 is the lowest
		return j.Configuration.Mode == "Active", priority
	}
	slices.SortStableFunc(own, func(a, b jobXML) int {
		activeA, priorityA := rank(a)
		activeB, priorityB := rank(b)
		if activeA != activeB {
			return map[bool]int{true: -1, false: 1}[activeA]
		}
		return priorityB - priorityA
	})
	return own
}

// spare gives what a limit leaves beside what is there, or other where that is less; limits that
// are not told leave everything.
func spare(limit, there, other int) int {
	if limit == 0 {
		return other
	}
	left := max(0, limit-there)
	if other >= 0 {
		left = min(left, other)
	}
	return left
}

// limit reads one that a recorder tells; 0 where it does not.
func limit(text string) int {
	most, _ := strconv.ParseFloat(strings.TrimSpace(text), 64)
	return int(max(0, min(most, 4096)))
}

// shown gives of a URI what may be shown: no user and no query, where passwords stand, and
// nothing of one that cannot be read.
func shown(uri string) string {
	u, err := url.Parse(strings.TrimSpace(uri))
	if err != nil || u.Opaque != "" {
		return ""
	}
	u.User, u.RawQuery, u.Fragment = nil, "", ""
	return u.String()
}

// parted takes the user out of a URI.
func parted(uri string) (bare, user, password string) {
	u, err := url.Parse(strings.TrimSpace(uri))
	if err != nil {
		return "", "", ""
	}
	if u.User != nil {
		user = u.User.Username()
		password, _ = u.User.Password()
		if strings.Trim(password, "*•x") == "" {
			password = "" // blotted out
		}
	}
	u.User = nil
	return u.String(), user, password
}

// Wanted is what a channel is to be.
type Wanted struct {
	Number       int
	Source, Name string
	Description  string
	URI          string // without the user
	User         string
	Password     secret.Password
	// ShownSource and ShownName are how the recorder shows what it was told; "" is as it was told.
	ShownSource, ShownName string
}

// At gives the channel of a number, as it was read last; nil where there is none.
func (r *Recorder) At(number int) *Channel {
	for i := range r.Channels {
		if r.Channels[i].Number == number {
			return &r.Channels[i]
		}
	}
	return nil
}

// Is reports whether a channel is as it is to be, as far as the recorder tells.
func (k *Channel) Is(w Wanted) bool {
	return k != nil && k.fits(w) && k.named(w) && k.active
}

func (k *Channel) fits(w Wanted) bool {
	// Some show no user: that it is the right one shows by the pictures.
	return k.from != "" && rtsp.Same(k.URI, w.URI) && (k.User == w.User || k.User == "" && k.State == "Connected") && (k.Password == "" || k.Password == w.Password.Reveal())
}

func (k *Channel) named(w Wanted) bool {
	return (k.Source == w.Source || w.ShownSource != "" && k.Source == w.ShownSource) && (k.Name == w.Name || w.ShownName != "" && k.Name == w.ShownName)
}

// as gives a recording's configuration with a camera as its source: what was not asked for
// goes back as it was read.
func (k *Channel) as(w Wanted) string {
	location, description, content, retention := k.config.Location, cmp.Or(k.config.Description, w.Description), k.content, cmp.Or(strings.TrimSpace(k.retention), "PT0S")
	if strings.TrimSpace(content) == "" {
		content = fmt.Sprintf("Channel %d", w.Number)
	}
	return fmt.Sprintf("<tt:Source><tt:SourceId>%s</tt:SourceId><tt:Name>%s</tt:Name><tt:Location>%s</tt:Location><tt:Description>%s</tt:Description><tt:Address>%s</tt:Address></tt:Source>"+
		"<tt:Content>%s</tt:Content><tt:MaximumRetentionTime>%s</tt:MaximumRetentionTime>",
		escape(w.Source), escape(w.Name), escape(location), escape(description), escape(w.URI), escape(content), escape(retention))
}

// Set has a channel record a camera. What is so already is not written; force writes the
// receiver though it looks right, since its password may be another. The user goes in the
// URI that the receiver is given (RFC 3986, 3.2.1): the standard has no other place for it.
func (r *Recorder) Set(ctx context.Context, w Wanted, force bool) error {
	if err := r.Read(ctx); err != nil {
		return err
	}
	k := r.At(w.Number)
	if k == nil {
		if !r.dynamic {
			return fmt.Errorf("it has no channel %d", w.Number)
		}
		var a struct{ RecordingToken string }
		k = &Channel{}
		if err := r.c.callOf(ctx, r.recording, "CreateRecording", "<trc:RecordingConfiguration>"+k.as(w)+"</trc:RecordingConfiguration>", &a); err != nil {
			return err
		}
		k = &Channel{Number: w.Number, Source: w.Source, Name: w.Name, token: a.RecordingToken}
		if err := r.feed(ctx, k, w, force); err != nil {
			if refusedIt(err) { // an empty one is of no use, and takes the room of another
				_ = r.c.callOf(ctx, r.recording, "DeleteRecording", "<trc:RecordingToken>"+escape(k.token)+"</trc:RecordingToken>", nil)
			}
			return err
		}
		return nil
	}
	// What may be refused for want of room comes before what it is called.
	if err := r.feed(ctx, k, w, force); err != nil {
		return err
	}
	if !k.named(w) {
		inner := "<trc:RecordingToken>" + escape(k.token) + "</trc:RecordingToken><trc:RecordingConfiguration>" + k.as(w) + "</trc:RecordingConfiguration>"
		return r.c.callOf(ctx, r.recording, "SetRecordingConfiguration", inner, nil)
	}
	return nil
}

// feed gives a recording its receiver and its job.
func (r *Recorder) feed(ctx context.Context, k *Channel, w Wanted, force bool) error {
	switch from := k.from; {
	case from != "" && k.fits(w) && !force:
	case from != "":
		inner := "<trv:ReceiverToken>" + escape(from) + "</trv:ReceiverToken><trv:Configuration>" + w.receiver() + "</trv:Configuration>"
		if err := r.c.callOf(ctx, r.receiver, "ConfigureReceiver", inner, nil); err != nil {
			return err
		}
	default:
		token, err := r.newReceiver(ctx, w)
		if err != nil {
			return err
		}
		k.from = token
		if k.job != "" { // a job that was there without a source
			inner := "<trc:JobToken>" + escape(k.job) + "</trc:JobToken><trc:JobConfiguration>" + k.jobFor() + "</trc:JobConfiguration>"
			return r.orDropped(ctx, k.from, r.c.callOf(ctx, r.recording, "SetRecordingJobConfiguration", inner, nil))
		}
	}
	job := k.jobFor()
	switch {
	case k.job == "":
		return r.orDropped(ctx, k.from, r.c.callOf(ctx, r.recording, "CreateRecordingJob", "<trc:JobConfiguration>"+job+"</trc:JobConfiguration>", nil))
	case !k.active:
		return r.c.callOf(ctx, r.recording, "SetRecordingJobMode", "<trc:JobToken>"+escape(k.job)+"</trc:JobToken><trc:Mode>Active</trc:Mode>", nil)
	}
	return nil
}

// refusedIt reports whether an error is a refusal in the device's own words.
func refusedIt(err error) bool {
	var f *soap.Fault
	return errors.As(err, &f)
}

// orDropped takes a receiver away where its job was refused: one that nothing takes pictures
// from takes the room of another.
func (r *Recorder) orDropped(ctx context.Context, receiver string, err error) error {
	if refusedIt(err) {
		_ = r.c.callOf(ctx, r.receiver, "DeleteReceiver", "<trv:ReceiverToken>"+escape(receiver)+"</trv:ReceiverToken>", nil)
	}
	return err
}

// jobFor gives the job that fills a recording from its receiver.
func (k *Channel) jobFor() string {
	return fmt.Sprintf("<tt:RecordingToken>%s</tt:RecordingToken><tt:Mode>Active</tt:Mode><tt:Priority>%s</tt:Priority>"+
		`<tt:Source><tt:SourceToken Type="http://www.onvif.org/ver10/schema/Receiver"><tt:Token>%s</tt:Token></tt:SourceToken></tt:Source>`, escape(k.token), escape(cmp.Or(k.priority, "1")), escape(k.from))
}

// newReceiver makes a receiver, or takes one for the same camera that a run which was cut
// short has left without a job.
func (r *Recorder) newReceiver(ctx context.Context, w Wanted) (string, error) {
	for _, s := range r.stray {
		if uri, _, _ := parted(s.Configuration.MediaUri); rtsp.Same(uri, w.URI) {
			inner := "<trv:ReceiverToken>" + escape(s.Token) + "</trv:ReceiverToken><trv:Configuration>" + w.receiver() + "</trv:Configuration>"
			return s.Token, r.c.callOf(ctx, r.receiver, "ConfigureReceiver", inner, nil)
		}
	}
	var a struct{ Receiver receiverXML }
	if err := r.c.callOf(ctx, r.receiver, "CreateReceiver", "<trv:Configuration>"+w.receiver()+"</trv:Configuration>", &a); err != nil {
		return "", err
	}
	if a.Receiver.Token == "" {
		return "", errors.New("it does not tell the receiver that it has made")
	}
	return a.Receiver.Token, nil
}

func (w *Wanted) receiver() string {
	uri := w.URI
	if u, err := url.Parse(w.URI); err == nil {
		u.User = url.UserPassword(w.User, w.Password.Reveal())
		uri = u.String()
	}
	return "<tt:Mode>AutoConnect</tt:Mode><tt:MediaUri>" + escape(uri) + "</tt:MediaUri>" +
		"<tt:StreamSetup><tt:Stream>RTP-Unicast</tt:Stream><tt:Transport><tt:Protocol>RTSP</tt:Protocol></tt:Transport></tt:StreamSetup>"
}

func escape(s string) string { return soap.Text(s) }
