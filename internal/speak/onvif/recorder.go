package onvif

import (
	"cmp"
	"context"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Recorder is the receiver and the recording control service of a device (Receiver Service
// and Recording Control Service Specification).
type Recorder struct {
	c                   *Client
	recording, receiver service
	// as they were read last
	Room      int // how many channels it can have; 0 is not told
	Free      int // for how many more it has jobs and receivers; -1 is not told
	Channels  []Channel
	Encodings []string // that it records, in the standard's words; none is not told

	dynamic bool // it creates recordings
	less    int  // by how much the contents of recordings count less than we do
	ownOnly bool // receivers are made with jobs, and by itself alone
	noTCP   bool // it takes pictures over UDP alone
	stray   []receiverXML
	read    time.Time // when that was; zero is never
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
	Failed   bool   // that track has failed, whether it says why or not
	// JobState is the state of the job that fills it: Idle, Active, PartiallyActive, Error; ""
	// where the recorder does not tell.
	JobState string
	// Used tells that something is on it, whether that is understood or not: a source, a job
	// with one, or one that is at work.
	Used bool
	// Contested tells that several active jobs fill it from different sources, of which the one
	// of the highest priority does: somebody wants that.
	Contested bool
	// Plays says what that is, in the recorder's words, without what may be a password.
	Plays string
	// Keeps is how long it keeps what it records, as XML Schema writes durations; "" where that
	// is not told.
	Keeps string

	token, job, from   string
	config             sourceXML
	content, retention string
	priority           string // of its job
	active             bool
	never              bool // its receiver is set not to connect
	multicast          bool
	tracks             []string // tokens
}

// Records reports whether the channel records what its receiver brings, as far as the recorder
// tells: a receiver may be connected, and the disk be broken.
func (k *Channel) Records() bool {
	return k.State == "Connected" && k.Error == "" && !k.Failed && (k.JobState == "" || k.atWork())
}

// atWork reports whether its job records, by its own state (RecordingJobState).
func (k *Channel) atWork() bool { return k.JobState == "Active" || k.JobState == "PartiallyActive" }

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

// Age is how long ago the channels were read, and very long where they were not.
func (r *Recorder) Age() time.Duration {
	if r.read.IsZero() {
		return 1 << 62
	}
	return r.c.now().Sub(r.read)
}

// Read reads every channel: each service once (GetRecordings, GetRecordingJobs, GetReceivers),
// and the states of those that are in use.
func (r *Recorder) Read(ctx context.Context) error {
	var caps struct {
		Capabilities struct {
			Dynamic  string `xml:"DynamicRecordings,attr"`
			Max      string `xml:"MaxRecordings,attr"`
			Jobs     string `xml:"MaxRecordingJobs,attr"`
			Encoding string `xml:"Encoding,attr"`
		}
	}
	var more struct {
		Capabilities struct {
			Receivers string `xml:"SupportedReceivers,attr"`
			TCP       string `xml:"RTP_RTSP_TCP,attr"`
		}
	}
	var recordings struct{ RecordingItem []recordingXML }
	var jobs struct{ JobItem []jobXML }
	var receivers struct{ Receivers []receiverXML }
	err := r.c.side(ctx, []question{
		{at: r.recording, op: "GetServiceCapabilities", out: &caps, soft: true},
		{at: r.receiver, op: "GetServiceCapabilities", out: &more, soft: true},
		{at: r.recording, op: "GetRecordings", out: &recordings},
		{at: r.recording, op: "GetRecordingJobs", out: &jobs},
		{at: r.receiver, op: "GetReceivers", out: &receivers},
	})
	if err != nil {
		return err
	}
	r.dynamic = isTrue(caps.Capabilities.Dynamic)
	r.Encodings = strings.Fields(caps.Capabilities.Encoding)
	r.ownOnly = r.ownOnly || strings.TrimSpace(more.Capabilities.Receivers) == "0"
	r.noTCP = more.Capabilities.TCP != "" && !isTrue(more.Capabilities.TCP)
	if r.Room = limit(caps.Capabilities.Max); !r.dynamic {
		r.Room = len(recordings.RecordingItem)
	}
	busy := 0 // jobs: one without a source is there to be given one
	for i := range jobs.JobItem {
		if _, has := jobs.JobItem[i].Configuration.from(); has {
			busy++
		}
	}
	r.Free = spare(limit(caps.Capabilities.Jobs), busy, spare(limit(more.Capabilities.Receivers), len(receivers.Receivers), -1))
	r.take(recordings.RecordingItem, jobs.JobItem, receivers.Receivers)
	if err := r.states(ctx); err != nil {
		return err
	}
	r.read = r.c.now()
	return nil
}

// take makes the channels of what was read.
func (r *Recorder) take(recordings []recordingXML, jobs []jobXML, receivers []receiverXML) {
	r.Channels, r.stray = nil, nil
	used := map[string]bool{}
	numbers, less := numbered(recordings, r.dynamic)
	r.less = less
	for i, x := range recordings {
		k := Channel{
			Number: numbers[i], token: x.Token, config: x.Configuration.Source, content: x.Configuration.Content, retention: strings.TrimSpace(x.Configuration.MaximumRetentionTime),
			Source: strings.TrimSpace(x.Configuration.Source.SourceId), Name: r.c.said(x.Configuration.Source.Name),
		}
		k.Keeps = r.c.said(k.retention)
		for _, t := range x.Tracks.Track {
			k.tracks = append(k.tracks, t.Token)
		}
		for _, j := range filling(jobs, x.Token) {
			from, has := j.Configuration.from()
			used[from] = true // of jobs that others outrank, too
			k.Contested = k.Contested || k.active && j.Configuration.Mode == "Active" && from != k.from
			if k.job == "" {
				k.job, k.from, k.active, k.priority = j.Token, from, j.Configuration.Mode == "Active", strings.TrimSpace(j.Configuration.Priority)
			}
			k.Used = k.Used || has
		}
		k.Used = k.Used || k.Source != ""
		for _, v := range receivers {
			if v.Token == k.from && k.from != "" {
				k.connects(v)
				k.Plays = r.c.said(shown(v.Configuration.MediaUri))
			}
		}
		if k.Plays == "" {
			k.Plays = cmp.Or(r.c.said(k.Source), k.Name, "a source that it does not name")
		}
		r.Channels = append(r.Channels, k)
	}
	for _, v := range receivers {
		if !used[v.Token] {
			r.stray = append(r.stray, v)
		}
	}
}

// connects takes down what the receiver of a channel connects to.
func (k *Channel) connects(v receiverXML) {
	k.URI, k.User, k.Password = parted(v.Configuration.MediaUri)
	k.never = strings.TrimSpace(v.Configuration.Mode) == "NeverConnect"
	k.multicast = strings.TrimSpace(v.Configuration.StreamSetup.Stream) == "RTP-Multicast"
}

// forGood is the retention of what is kept as long as there is room (Recording Control Service
// Specification, MaximumRetentionTime).
const forGood = "PT0S"

// channelForm is how the number of a channel stands in the content of a recording.
var channelForm = regexp.MustCompile(`(?i)^channel (\d{1,4})$`)

// seriesForm parts a token of a series, as rec1, rec2.
var seriesForm = regexp.MustCompile(`^(.*?)(\d{1,4})$`)

// numbered gives each recording its channel, from 1: by its content where that says so, by the
// series that its tokens are of where the recorder has a fixed set, and else the next free one in
// the order of the list. No two have the same. less is by how much the content of a recording
// says less: 1 of a recorder that counts from 0.
func numbered(recordings []recordingXML, dynamic bool) (out []int, less int) {
	out = make([]int, len(recordings))
	taken := map[int]bool{}
	put := func(numbers []int, more int) {
		for i, n := range numbers {
			if n >= 0 && out[i] == 0 && !taken[n+more] {
				out[i], taken[n+more] = n+more, true
			}
		}
	}
	said, series := make([]int, len(recordings)), make([]int, len(recordings))
	prefix, same := "", !dynamic
	for i, x := range recordings {
		said[i], series[i] = -1, -1
		if m := channelForm.FindStringSubmatch(strings.TrimSpace(x.Configuration.Content)); m != nil {
			if said[i], _ = strconv.Atoi(m[1]); said[i] == 0 { // digits, by its form
				less = 1
			}
		}
		m := seriesForm.FindStringSubmatch(strings.TrimSpace(x.Token))
		if same = same && m != nil && (i == 0 || m[1] == prefix); same {
			series[i], _ = strconv.Atoi(m[2])
			prefix = m[1]
		}
	}
	put(said, less)
	if same && len(series) > 0 {
		// Only one that is whole is one of channels.
		if first, last := slices.Min(series), slices.Max(series); first < 2 && last-first == len(series)-1 {
			put(series, 1-first)
		}
	}
	for i := range out {
		for n := i + 1; out[i] == 0; n++ {
			if !taken[n] {
				out[i], taken[n] = n, true
			}
		}
	}
	return out, less
}

// states reads how each channel fares that has a receiver or a job.
func (r *Recorder) states(ctx context.Context) error {
	type state struct {
		receiver struct{ ReceiverState struct{ State string } }
		job      struct {
			State struct {
				State   string
				Sources []struct {
					SourceToken struct{ Token string }
					Tracks      struct {
						Track []struct{ State, Error string }
					}
				}
			}
		}
	}
	told := make([]state, len(r.Channels))
	var ask []question
	for i := range r.Channels {
		if k := &r.Channels[i]; k.from != "" {
			ask = append(ask, question{at: r.receiver, op: "GetReceiverState", inner: "<trv:ReceiverToken>" + escape(k.from) + "</trv:ReceiverToken>", out: &told[i].receiver, soft: true})
		}
		if k := &r.Channels[i]; k.job != "" {
			ask = append(ask, question{at: r.recording, op: "GetRecordingJobState", inner: "<trc:JobToken>" + escape(k.job) + "</trc:JobToken>", out: &told[i].job, soft: true})
		}
	}
	if err := r.c.side(ctx, ask); err != nil {
		return err
	}
	for i := range r.Channels {
		k, job := &r.Channels[i], told[i].job.State
		k.State = strings.TrimSpace(told[i].receiver.ReceiverState.State)
		k.JobState = r.c.said(strings.TrimSpace(job.State))
		for _, s := range job.Sources {
			k.Used = k.Used || strings.TrimSpace(s.SourceToken.Token) != ""
			for _, t := range s.Tracks.Track {
				k.Error = cmp.Or(r.c.said(strings.TrimSpace(t.Error)), k.Error)
				k.Failed = k.Failed || strings.TrimSpace(t.State) == "Error"
			}
		}
		// One that is at work without a source that is told has one all the same.
		k.Used = k.Used || k.atWork() || k.State == "Connected"
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
