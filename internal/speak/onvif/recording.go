package onvif

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"janustat/core/secret"
	"janustat/core/text"
	"janustat/internal/speak/rtsp"
	"janustat/internal/speak/soap"
)

// Wanted is what a channel is to be.
type Wanted struct {
	Number       int
	Source, Name string
	Description  string
	URI          string // without the user
	User         string
	Password     secret.Password
	// Datagrams asks for its pictures over UDP, where they did not come over TCP.
	Datagrams bool
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
	return k.from != "" && !k.never && !k.multicast && rtsp.Same(k.URI, w.URI) && (k.User == w.User || k.User == "" && k.State == "Connected") && (k.Password == "" || k.Password == w.Password.Reveal())
}

// Differs says what of a channel is otherwise than it is to be; "" is nothing that it tells.
func (k *Channel) Differs(w Wanted) string {
	switch {
	case k.from == "":
		return "has no source"
	case k.never:
		return "set not to connect"
	case k.multicast:
		return "set up for multicast"
	case !rtsp.Same(k.URI, w.URI):
		return "plays " + k.Plays
	case k.User != "" && k.User != w.User:
		return "opens it as another user"
	case !k.fits(w):
		return "opens it by another password"
	case !k.active:
		return "its job rests"
	case k.Source != w.Source && k.Source != w.ShownSource && k.Name == w.Name:
		return fmt.Sprintf("says that it is of %q", text.Harmless(k.Source, text.Short, nil))
	case !k.named(w):
		return fmt.Sprintf("is called %q", k.Name)
	}
	return ""
}

// Sourced reports whether something feeds the channel, or may: a name alone does not.
func (k *Channel) Sourced() bool { return k.from != "" || k.State != "" || k.atWork() }

// OnlyCalled reports whether all that differs is what the recorder calls the source.
func (k *Channel) OnlyCalled(w Wanted) bool { return k.fits(w) && k.active && !k.named(w) }

func (k *Channel) named(w Wanted) bool {
	return (k.Source == w.Source || w.ShownSource != "" && k.Source == w.ShownSource) && (k.Name == w.Name || w.ShownName != "" && k.Name == w.ShownName)
}

// as gives a recording's source with a camera in it, and its content: what was not asked for
// goes back as it was read.
func (k *Channel) as(w Wanted, less int) (source sourceXML, content string) {
	source = k.config
	source.SourceId, source.Name, source.Address = w.Source, w.Name, w.URI
	source.Description = cmp.Or(source.Description, w.Description)
	if content = k.content; strings.TrimSpace(content) == "" {
		content = fmt.Sprintf("Channel %d", w.Number-less)
	}
	return source, content
}

// configuration gives a recording's configuration.
func (k *Channel) configuration(s sourceXML, content string) string {
	return fmt.Sprintf("<trc:RecordingConfiguration><tt:Source><tt:SourceId>%s</tt:SourceId><tt:Name>%s</tt:Name><tt:Location>%s</tt:Location><tt:Description>%s</tt:Description><tt:Address>%s</tt:Address></tt:Source>"+
		"<tt:Content>%s</tt:Content><tt:MaximumRetentionTime>%s</tt:MaximumRetentionTime></trc:RecordingConfiguration>",
		escape(s.SourceId), escape(s.Name), escape(s.Location), escape(s.Description), escape(s.Address), escape(content), escape(cmp.Or(k.retention, forGood)))
}

// rename writes what a recording calls its source.
func (r *Recorder) rename(ctx context.Context, k *Channel, s sourceXML, content string) error {
	return r.c.callOf(ctx, r.recording, "SetRecordingConfiguration", "<trc:RecordingToken>"+escape(k.token)+"</trc:RecordingToken>"+k.configuration(s, content), nil)
}

// Set has a channel record a camera. What is so already is not written; force writes the
// receiver though it looks right, since its password may be another. The user goes in the
// URI that the receiver is given (RFC 3986, 3.2.1): the standard has no other place for it.
//
// It goes by what was read last, and what it writes is not read again. What a recorder refuses
// leaves nothing behind.
func (r *Recorder) Set(ctx context.Context, w Wanted, force bool) error {
	if k := r.At(w.Number); k != nil {
		// What may be refused for want of room comes before what it is called.
		if err := r.feed(ctx, k, w, force); err != nil {
			return err
		}
		if k.named(w) {
			return nil
		}
		source, content := k.as(w, r.less)
		return r.rename(ctx, k, source, content)
	}
	if !r.dynamic {
		return fmt.Errorf("it has no channel %d", w.Number)
	}
	var a struct{ RecordingToken string }
	k := &Channel{Number: w.Number}
	if err := r.c.callOf(ctx, r.recording, "CreateRecording", k.configuration(k.as(w, r.less)), &a); err != nil {
		return err
	}
	k.Source, k.Name, k.token = w.Source, w.Name, a.RecordingToken
	err := r.feed(ctx, k, w, force)
	if refusedIt(err) { // an empty one is of no use, and takes the room of another
		_ = r.c.callOf(ctx, r.recording, "DeleteRecording", "<trc:RecordingToken>"+escape(k.token)+"</trc:RecordingToken>", nil)
	}
	return err
}

// Park has the receiver of a channel connect to nothing until it is configured again
// (SetReceiverMode). A channel without one has nothing to be parked.
func (r *Recorder) Park(ctx context.Context, number int) error {
	k := r.At(number)
	if k == nil || k.from == "" || k.never {
		return nil
	}
	return r.c.callOf(ctx, r.receiver, "SetReceiverMode", "<trv:ReceiverToken>"+escape(k.from)+"</trv:ReceiverToken><trv:Mode>NeverConnect</trv:Mode>", nil)
}

// feed gives a recording its receiver and its job.
func (r *Recorder) feed(ctx context.Context, k *Channel, w Wanted, force bool) error {
	if k.from == "" {
		return r.begin(ctx, k, w)
	}
	if !k.fits(w) || force || k.Source != w.Source && k.Source != w.ShownSource { // another unit has another password
		if err := r.configure(ctx, k.from, w); err != nil {
			return err
		}
	}
	switch {
	case k.job == "":
		return r.work(ctx, k)
	case !k.active:
		return r.c.callOf(ctx, r.recording, "SetRecordingJobMode", "<trc:JobToken>"+escape(k.job)+"</trc:JobToken><trc:Mode>Active</trc:Mode>", nil)
	}
	return nil
}

// begin gives a recording its receiver and a job, or gives its job the receiver: one that was
// made for it, or, of a recorder that makes receivers by itself with jobs alone
// (AutoCreateReceiver), the one that it has made.
func (r *Recorder) begin(ctx context.Context, k *Channel, w Wanted) error {
	if !r.ownOnly {
		token, err := r.newReceiver(ctx, w)
		if err == nil {
			k.from = token
			err = r.work(ctx, k)
			if refusedIt(err) { // one that nothing takes pictures from takes the room of another
				_ = r.c.callOf(ctx, r.receiver, "DeleteReceiver", "<trv:ReceiverToken>"+escape(token)+"</trv:ReceiverToken>", nil)
			}
			return err
		}
		var fault *soap.Fault
		if !errors.As(err, &fault) || !fault.Last("ActionNotSupported") {
			return err
		}
		r.ownOnly = true
	}
	// Cut short, it would leave a source that nobody can tell: so it is named first.
	was, content, named, had := k.config, k.content, k.named(w), k.job
	if !named {
		source, text := k.as(w, r.less)
		if err := r.rename(ctx, k, source, text); err != nil {
			return err
		}
		k.Source, k.Name = w.Source, w.Name
	}
	err := r.work(ctx, k)
	if err == nil {
		err = r.configure(ctx, k.from, w)
	}
	if refusedIt(err) && !named {
		_ = r.rename(ctx, k, was, content)
	}
	if refusedIt(err) && had == "" && k.job != "" {
		_ = r.c.callOf(ctx, r.recording, "DeleteRecordingJob", "<trc:JobToken>"+escape(k.job)+"</trc:JobToken>", nil)
	}
	return err
}

// work gives a recording its job, or that job its receiver. Tracks are named where a recorder
// does not go without.
func (r *Recorder) work(ctx context.Context, k *Channel) error {
	err := r.workBy(ctx, k, nil)
	var fault *soap.Fault
	if !errors.As(err, &fault) || !fault.Last("BadConfiguration") && !fault.Last("InvalidArgVal") {
		return err
	}
	if len(k.tracks) == 0 { // of a recording that was just made
		var a struct{ RecordingItem []recordingXML }
		if err := unlessFault(r.c.callOf(ctx, r.recording, "GetRecordings", "", &a)); err != nil {
			return err
		}
		for _, x := range a.RecordingItem {
			for _, t := range x.Tracks.Track {
				if x.Token == k.token {
					k.tracks = append(k.tracks, t.Token)
				}
			}
		}
	}
	if len(k.tracks) == 0 {
		return err
	}
	return r.workBy(ctx, k, k.tracks)
}

func (r *Recorder) workBy(ctx context.Context, k *Channel, tracks []string) error {
	var a struct {
		Token         string              `xml:"JobToken"`
		Configuration jobConfigurationXML `xml:"JobConfiguration"`
	}
	var err error
	if k.job != "" { // one that was there without a source
		inner := "<trc:JobToken>" + escape(k.job) + "</trc:JobToken><trc:JobConfiguration>" + k.jobFor(tracks) + "</trc:JobConfiguration>"
		err = r.c.callOf(ctx, r.recording, "SetRecordingJobConfiguration", inner, &a)
	} else {
		err = r.c.callOf(ctx, r.recording, "CreateRecordingJob", "<trc:JobConfiguration>"+k.jobFor(tracks)+"</trc:JobConfiguration>", &a)
		k.job = strings.TrimSpace(a.Token)
	}
	if err != nil || k.from != "" {
		return err
	}
	if k.from, _ = a.Configuration.from(); k.from != "" {
		return nil
	}
	var all struct{ JobItem []jobXML } // it did not say what it has made
	if err := r.c.callOf(ctx, r.recording, "GetRecordingJobs", "", &all); err != nil {
		return err
	}
	for _, j := range all.JobItem {
		if j.Configuration.RecordingToken == k.token {
			k.job = j.Token
			k.from, _ = j.Configuration.from()
		}
	}
	if k.from == "" {
		return errors.New("it does not report the receiver that it has made")
	}
	return nil
}

// refusedIt reports whether an error is a refusal in the device's own words.
func refusedIt(err error) bool {
	var f *soap.Fault
	return errors.As(err, &f)
}

// jobFor gives the job that fills a recording from its receiver, or from one that the recorder
// is to make.
func (k *Channel) jobFor(tracks []string) string {
	source := `<tt:SourceToken Type="http://www.onvif.org/ver10/schema/Receiver"><tt:Token>` + escape(k.from) + "</tt:Token></tt:SourceToken>"
	if k.from == "" {
		source = "<tt:AutoCreateReceiver>true</tt:AutoCreateReceiver>"
	}
	for _, t := range tracks {
		source += "<tt:Tracks><tt:SourceTag></tt:SourceTag><tt:Destination>" + escape(t) + "</tt:Destination></tt:Tracks>"
	}
	return fmt.Sprintf("<tt:RecordingToken>%s</tt:RecordingToken><tt:Mode>Active</tt:Mode><tt:Priority>%s</tt:Priority><tt:Source>%s</tt:Source>",
		escape(k.token), escape(cmp.Or(k.priority, "1")), source)
}

// newReceiver makes a receiver, or takes one for the same camera that a run which was cut
// short has left without a job.
func (r *Recorder) newReceiver(ctx context.Context, w Wanted) (string, error) {
	for i, s := range r.stray {
		if uri, _, _ := parted(s.Configuration.MediaUri); rtsp.Same(uri, w.URI) {
			r.stray = slices.Delete(r.stray, i, i+1)
			return s.Token, r.configure(ctx, s.Token, w)
		}
	}
	var a struct{ Receiver receiverXML }
	err := r.inTransports(w, func(form string) error {
		return r.c.callOf(ctx, r.receiver, "CreateReceiver", "<trv:Configuration>"+form+"</trv:Configuration>", &a)
	})
	if err != nil {
		return "", err
	}
	if a.Receiver.Token == "" {
		return "", errors.New("it does not report the receiver that it has made")
	}
	return a.Receiver.Token, nil
}

// configure has a receiver connect to a camera.
func (r *Recorder) configure(ctx context.Context, token string, w Wanted) error {
	return r.inTransports(w, func(form string) error {
		return r.c.callOf(ctx, r.receiver, "ConfigureReceiver", "<trv:ReceiverToken>"+escape(token)+"</trv:ReceiverToken><trv:Configuration>"+form+"</trv:Configuration>", nil)
	})
}

// The transports of pictures, by what the standard calls them: in the conversation by RTSP
// itself (RFC 2326, 10.12), or in datagrams, which every recorder and camera has to offer.
const (
	overTCP = "RTSP"
	overUDP = "UDP"
	// overHTTP is for a camera that streams inside HTTP alone.
	overHTTP = "HTTP"
)

// inTransports writes a receiver with the transport that is wanted, and where the recorder
// refuses it, with the other.
func (r *Recorder) inTransports(w Wanted, write func(form string) error) error {
	first, second := overTCP, overUDP
	if strings.HasPrefix(w.URI, "http") {
		return write(w.receiver(overHTTP))
	}
	if r.noTCP || w.Datagrams {
		first, second = second, first
	}
	err := write(w.receiver(first))
	var fault *soap.Fault
	if errors.As(err, &fault) && (fault.Last("BadConfiguration") || fault.Last("InvalidArgVal")) && !(r.noTCP && second == overTCP) {
		err = write(w.receiver(second))
	}
	return err
}

func (w *Wanted) receiver(transport string) string {
	uri := w.URI
	if u, err := url.Parse(w.URI); err == nil {
		u.User = url.UserPassword(w.User, w.Password.Reveal())
		uri = u.String()
	}
	return "<tt:Mode>AutoConnect</tt:Mode><tt:MediaUri>" + escape(uri) + "</tt:MediaUri>" +
		"<tt:StreamSetup><tt:Stream>RTP-Unicast</tt:Stream><tt:Transport><tt:Protocol>" + transport + "</tt:Protocol></tt:Transport></tt:StreamSetup>"
}

func escape(s string) string { return soap.Text(s) }
