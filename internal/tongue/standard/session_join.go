package standard

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/secret"
	"janustat/core/text"
	"janustat/internal/secure"
	"janustat/internal/speak/onvif"
	"janustat/internal/speak/rtsp"
	"janustat/internal/tongue"
)

// Stream implements commission.Streamer.
func (s *session) Stream(ctx context.Context, user string, p secret.Password) (out device.Stream, fits bool, err error) {
	out, err = s.stream(ctx, onvif.OverRTSP, onvif.OverTLS, onvif.OverHTTP)
	if err != nil {
		return out, false, err
	}
	d, err := describe(ctx, s.way, s.plan.MAC, s.at, out, user, p)
	if errors.Is(err, rtsp.ErrUnreachable) && out.Scheme == "" && ctx.Err() == nil {
		// It names a stream at a port where nothing answers: one of the other ways may be open.
		if other, oerr := s.stream(ctx, onvif.OverTLS, onvif.OverHTTP); oerr == nil && other.Scheme != "" {
			if od, derr := describe(ctx, s.way, s.plan.MAC, s.at, other, user, p); !errors.Is(derr, rtsp.ErrUnreachable) {
				out, d, err = other, od, derr
			}
		}
	}
	if errors.Is(err, rtsp.ErrRefused) {
		return out, false, nil
	}
	if err != nil {
		return out, false, err
	}
	if d.Codec != "" {
		out.Codec = d.Codec
	}
	if d.Width > 0 {
		out.Width, out.Height = d.Width, d.Height
	}
	return out, true, nil
}

// stream reads where a camera streams by the first of some ways that it offers.
func (s *session) stream(ctx context.Context, ways ...onvif.Way) (out device.Stream, err error) {
	places, err := s.StreamPlaces(ctx, ways...)
	if err != nil {
		return out, s.lost(err)
	}
	all := make([]device.Stream, len(places))
	for i, p := range places {
		all[i] = device.Stream{Path: p.Path, Port: p.Port, Codec: p.Codec, Width: p.Width, Height: p.Height}
		if p.Scheme != "rtsp" {
			all[i].Scheme = p.Scheme
		}
	}
	out = all[0]
	out.Others = all[1:]
	return out, nil
}

// describe asks a camera for its stream, as a recorder will.
func describe(ctx context.Context, w tongue.Way, mac device.MAC, at netip.Addr, stream device.Stream, user string, p secret.Password) (rtsp.Description, error) {
	inside, cancel := context.WithCancel(ctx)
	defer cancel()
	dial, err := w.Dialer(inside, mac, at)
	if err != nil {
		return rtsp.Description{}, err
	}
	return rtsp.Describe(ctx, func(ctx context.Context) (net.Conn, error) {
		c, err := dial(ctx, stream.Port)
		if err != nil || !strings.HasSuffix(stream.Scheme, "s") {
			return c, err
		}
		over := tls.Client(c, secure.Config(&secure.Seen{}))
		if err := over.HandshakeContext(ctx); err != nil {
			c.Close()
			return nil, err
		}
		return over, nil
	}, stream.URI(at), user, p)
}

// wanted is a channel in the words of the services.
func wanted(l commission.Link) onvif.Wanted {
	w := onvif.Wanted{
		Number: l.Number, Source: l.Peer.SourceID(), Name: l.Peer.Label(), Description: l.Peer.Tag,
		URI: l.Peer.Stream.URI(l.Peer.Address), User: l.User, Password: l.Secret, Datagrams: l.Datagrams,
	}
	if l.Shown != nil && l.Shown.For == w.Name {
		w.ShownSource, w.ShownName = l.Shown.Source, l.Shown.Name
	}
	return w
}

// How old what was read of a recorder may be when it is judged, and when one of its channels
// is written: somebody else may be at work on it.
const (
	freshChannels  = 3 * time.Second
	recentChannels = 20 * time.Second
)

// recorder reads the channels of a recorder, unless that was done within an age, or tells that
// it has no services for them.
func (s *session) recorder(ctx context.Context, age time.Duration) (*onvif.Recorder, error) {
	if s.channels != nil && s.channels.Age() < age {
		return s.channels, nil
	}
	r, has, err := s.Recorder(ctx)
	if err != nil {
		return nil, s.lost(err)
	}
	if !has {
		return nil, &commission.UnableError{What: "channels"}
	}
	s.channels, s.wrote = nil, false
	if err := r.Read(ctx); onvif.Declined(err) {
		return nil, &commission.UnableError{What: "channels"} // it names services that it does not offer
	} else if err != nil {
		return nil, s.lost(err)
	}
	s.channels = r
	return r, nil
}

// Recording implements commission.ChannelKeeper.
func (s *session) Recording(ctx context.Context) (commission.Recording, error) {
	r, err := s.recorder(ctx, 0)
	var unable *commission.UnableError
	if errors.As(err, &unable) {
		return commission.Recording{}, nil
	}
	if err != nil {
		return commission.Recording{}, err
	}
	return s.recordingOf(r), nil
}

// recordingOf is a recorder in the words of the job.
func (s *session) recordingOf(r *onvif.Recorder) commission.Recording {
	out := commission.Recording{Offers: true, Room: r.Room, Free: r.Free, Encodings: r.Encodings}
	for _, k := range r.Channels {
		c := commission.Channel{Number: k.Number, Name: k.Name, Of: k.Source, Used: k.Used, Plays: k.Plays, Contested: k.Contested}
		if u, err := url.Parse(k.URI); err == nil {
			c.Source, _ = netip.ParseAddr(u.Hostname()) // a name says nothing here
		}
		if k.URI == "" && !strings.Contains(k.Source, ":") { // no URI of a camera: the recorder's own word
			c.Of = ""
		}
		out.Channels = append(out.Channels, c)
	}
	if s.plan.Channels != nil {
		return s.plan.Channels.Recognised(out)
	}
	return out
}

// Channels implements commission.ChannelKeeper. Where the recorder is not connected and
// does not say why, the camera is asked itself, as the recorder asks it.
func (s *session) Channels(ctx context.Context, links []commission.Link) (out []commission.Tie, err error) {
	age := freshChannels
	if s.wrote {
		age = 0
	}
	r, err := s.recorder(ctx, age)
	if err != nil {
		return nil, err
	}
	for _, l := range links {
		k := r.At(l.Number)
		t := commission.Tie{Link: l, Set: k.Is(wanted(l)), State: commission.Waiting}
		if k != nil {
			t.Why, t.Shows = k.Error, &device.Shown{Source: k.Source, Name: k.Name, For: l.Peer.Label()}
			t.Keeps, t.OnlyCalled = k.Keeps, k.OnlyCalled(wanted(l))
		}
		switch {
		case k != nil && k.Records():
			t.State, t.Why = commission.Connected, ""
		case k != nil && t.Set && k.State == "Connected":
			t.State, t.Why = commission.NotRecording, text.Harmless(cmp.Or(k.Error, map[bool]string{true: "it does not say why"}[k.Failed], "its job is "+k.JobState), text.Long, s.way.Blank().Text)
		case t.Set:
			t.State, t.Why = s.why(ctx, l, k.Error)
		}
		if k != nil && !t.Set {
			t.Why = cmp.Or(k.Differs(wanted(l)), t.Why)
		}
		if k != nil && !t.Set && k.Used && k.Sourced() && !rtsp.Same(k.URI, wanted(l).URI) {
			plays, ours := s.playing(k)
			if t.Why = "plays " + plays; !ours {
				t.State = commission.Others
			}
		}
		out = append(out, t)
	}
	return out, nil
}

// playing names what a channel plays: a camera of the job by its tag, anything else as the
// recorder does.
func (s *session) playing(k *onvif.Channel) (what string, ours bool) {
	u, err := url.Parse(k.URI)
	if s.plan.Channels == nil || err != nil {
		return k.Plays, false
	}
	at, err := netip.ParseAddr(u.Hostname())
	for _, p := range s.plan.Channels.Own {
		if err == nil && p.Address == at {
			return p.Tag, true
		}
	}
	return k.Plays, false
}

// why tells what keeps a recorder from a camera, which it is set to record.
func (s *session) why(ctx context.Context, l commission.Link, said string) (commission.State, string) {
	_, err := describe(ctx, s.way, l.Peer.MAC, l.Peer.Address, l.Peer.Stream, l.User, l.Secret)
	said = text.Harmless(said, text.Long, s.way.Blank().Text)
	switch {
	case errors.Is(err, rtsp.ErrUnreachable):
		return commission.Unreachable, said
	case errors.Is(err, rtsp.ErrNoStream):
		return commission.NoStream, said
	case errors.Is(err, rtsp.ErrRefused):
		return commission.WrongPassword, "the camera refuses " + l.User
	case err != nil:
		return commission.Waiting, err.Error()
	case said != "" && refusal(said):
		return commission.WrongPassword, said // the recorder has another than the keyring, which fits
	}
	return commission.Waiting, said
}

// refusal reports whether a recorder's words tell of a password.
func refusal(said string) bool {
	said = strings.ToLower(said)
	for _, word := range []string{"401", "403", "password", "authori", "authent", "credential", "login"} {
		if strings.Contains(said, word) {
			return true
		}
	}
	return false
}

// SetChannel implements commission.ChannelKeeper.
func (s *session) SetChannel(ctx context.Context, l commission.Link) error {
	r, err := s.recorder(ctx, recentChannels)
	if err != nil {
		return err
	}
	if k := s.plan.Channels; k != nil { // what was free when it was planned may have been taken meanwhile
		if taken := k.Strange(s.recordingOf(r), []commission.Link{l}); len(taken) > 0 {
			return fmt.Errorf("it now plays %s, which is not in the job", r.At(l.Number).Plays)
		}
	}
	// What looks right and is set all the same has another password, and what is not connected
	// may have.
	w, k := wanted(l), r.At(l.Number)
	s.wrote = true
	return s.lost(r.Set(ctx, w, k.Is(w) || l.Renew || k != nil && k.State != "Connected"))
}

// Park implements commission.ChannelKeeper.
func (s *session) Park(ctx context.Context, l commission.Link) error {
	r, err := s.recorder(ctx, freshChannels)
	if err != nil {
		return err
	}
	s.wrote = true
	return s.lost(r.Park(ctx, l.Number))
}

// readChannels reads the channels of a recorder where they are planned.
func (s *session) readChannels(ctx context.Context, f *commission.Found) (err error) {
	if s.plan.Channels != nil && s.Entered() {
		f.Recording, err = s.Recording(ctx)
	}
	return err
}

// Wink implements commission.Winker, by an auxiliary command of the device service.
func (s *session) Wink(ctx context.Context) (string, error) {
	means, err := s.Client.Wink(ctx, s.way.Pause)
	if errors.Is(err, onvif.ErrNoWink) {
		return "", &commission.UnableError{What: "wink"}
	}
	return means, s.lost(err)
}

var _ interface {
	commission.ChannelKeeper
	commission.Streamer
	commission.Winker
} = (*session)(nil)
