package onvif

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"janustat/core/device"
)

// StreamPlace is where a device streams, and what, as far as its profile tells.
type StreamPlace struct {
	Scheme        string // of its URI: rtsp, rtsps, or http or https, inside which RTSP is spoken
	Port          uint16
	Path          string // with the query
	Codec         string
	Width, Height int // in pixels; 0 is not told
}

// Way is how a stream can be asked for, by what the second media service calls it
// (TransportProtocol of the first calls it alike, and has none over TLS).
type Way string

// The ways, the usual one first.
const (
	OverRTSP Way = "RTSP"
	OverTLS  Way = "RTSPS"
	OverHTTP Way = "RtspOverHttp"
)

// schemes are what streams have that were asked for in a way.
var schemes = map[Way][]string{OverRTSP: {"rtsp", "rtsps"}, OverTLS: {"rtsps"}, OverHTTP: {"http", "https"}}

// ErrNoStream means that a device has no profile, or none with video.
var ErrNoStream = errors.New("it has no stream")

type encoderXML struct {
	Encoding   string
	Resolution struct{ Width, Height number }
}

// profile is one with video.
type profile struct {
	token string
	place StreamPlace // without port and path
}

// StreamPlaces reads where a device's streams are (GetProfiles and GetStreamUri, of the media
// service or else of the second one): the best of each codec, the best of all first. Of a URI
// port, path and query count: the device streams where it is met, whatever host a misconfigured
// one names. They are asked for in several ways, of which the first counts that the device
// offers.
func (c *Client) StreamPlaces(ctx context.Context, ways ...Way) ([]StreamPlace, error) {
	list, err := c.services(ctx)
	if err != nil {
		return nil, err
	}
	none := fmt.Errorf("%w: it has no media service", ErrNoStream)
	for _, of := range []struct {
		ns, prefix string
		profiles   func(context.Context, service) ([]profile, error)
		uri        func(ctx context.Context, at service, way Way, token string) (string, error)
	}{{mediaNS, "trt", c.profiles, c.uriOf}, {media2NS, "tr2", c.profiles2, c.uriOf2}} {
		at, has := c.serviceIn(list, of.ns, of.prefix)
		if !has {
			continue
		}
		all, err := of.profiles(ctx, at)
		if err == nil && len(all) == 0 {
			err = errNoVideo
		}
		if Declined(err) || errors.Is(err, ErrNoStream) {
			none = fmt.Errorf("%w: %w", ErrNoStream, err)
			continue // one with newer codecs alone tells them by the second service alone
		}
		if err != nil {
			return nil, err
		}
		for _, way := range ways {
			out, err := c.placesBy(ctx, bestOfEach(all), way, func(token string) (string, error) { return of.uri(ctx, at, way, token) })
			if Declined(err) || errors.Is(err, ErrNoStream) {
				if none = err; Declined(err) {
					none = fmt.Errorf("%w: %w", ErrNoStream, err)
				}
				continue
			}
			return out, err
		}
	}
	return nil, none
}

// placesBy reads where some profiles are streamed in one way.
func (c *Client) placesBy(ctx context.Context, of []profile, way Way, uriOf func(token string) (string, error)) ([]StreamPlace, error) {
	var out []StreamPlace
	for i, p := range of {
		uri, err := uriOf(p.token)
		if err == nil {
			err = c.placed(&p.place, way, uri)
		}
		if err == nil {
			out = append(out, p.place)
			continue
		}
		if i == 0 || unlessFault(err) != nil && !errors.Is(err, ErrNoStream) { // else the best is there
			return nil, err
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
	return out, nil
}

// placed reads where a stream is out of its URI.
func (c *Client) placed(s *StreamPlace, way Way, uri string) error {
	u, err := url.Parse(strings.TrimSpace(uri))
	if err != nil || !slices.Contains(schemes[way], u.Scheme) || u.Path == "" && u.RawQuery == "" {
		return fmt.Errorf("%w: %q is not a stream's address", ErrNoStream, c.said(uri))
	}
	s.Scheme, s.Path, s.Port = u.Scheme, cmp.Or(u.EscapedPath(), "/"), device.StreamPorts[u.Scheme]
	if u.RawQuery != "" {
		s.Path += "?" + u.RawQuery
	}
	if text := u.Port(); text != "" {
		port, err := strconv.ParseUint(text, 10, 16)
		if err != nil || port == 0 {
			return fmt.Errorf("%w: %q is not a stream's address", ErrNoStream, c.said(uri))
		}
		s.Port = uint16(port)
	}
	return nil
}

// bestOfEach gives the profile with the largest picture of each codec: moving pictures before
// single ones, whatever their size, and the larger first.
func bestOfEach(all []profile) []profile {
	slices.SortStableFunc(all, func(a, b profile) int {
		return cmp.Or(map[bool]int{true: 1}[a.place.Codec == "JPEG"]-map[bool]int{true: 1}[b.place.Codec == "JPEG"], b.place.Width*b.place.Height-a.place.Width*a.place.Height)
	})
	var out []profile
	for _, p := range all {
		if !slices.ContainsFunc(out, func(o profile) bool { return o.place.Codec == p.place.Codec }) {
			out = append(out, p)
		}
	}
	return out
}

// best gives the token of the best profile.
func best(all []profile, err error) (string, error) {
	if err == nil && len(all) == 0 {
		err = errNoVideo
	}
	if err != nil {
		return "", err
	}
	return bestOfEach(all)[0].token, nil
}

var errNoVideo = fmt.Errorf("%w: none of its profiles has video", ErrNoStream)

func (c *Client) profileOf(token string, e *encoderXML) []profile {
	if e == nil {
		return nil
	}
	return []profile{{token, StreamPlace{Codec: strings.ToUpper(c.said(e.Encoding)), Width: int(e.Resolution.Width), Height: int(e.Resolution.Height)}}}
}

func (c *Client) profiles(ctx context.Context, media service) (out []profile, err error) {
	var a struct {
		Profiles []struct {
			Token   string      `xml:"token,attr"`
			Encoder *encoderXML `xml:"VideoEncoderConfiguration"`
		}
	}
	err = c.callOf(ctx, media, "GetProfiles", "", &a)
	for _, p := range a.Profiles {
		out = append(out, c.profileOf(p.Token, p.Encoder)...)
	}
	return out, err
}

// profiles2 reads them by the second media service.
func (c *Client) profiles2(ctx context.Context, media service) (out []profile, err error) {
	var a struct {
		Profiles []struct {
			Token          string `xml:"token,attr"`
			Configurations struct{ VideoEncoder *encoderXML }
		}
	}
	err = c.callOf(ctx, media, "GetProfiles", "<tr2:Type>VideoEncoder</tr2:Type>", &a)
	for _, p := range a.Profiles {
		out = append(out, c.profileOf(p.Token, p.Configurations.VideoEncoder)...)
	}
	return out, err
}

func (c *Client) uriOf(ctx context.Context, media service, way Way, token string) (string, error) {
	protocol := map[Way]string{OverRTSP: "RTSP", OverHTTP: "HTTP"}[way]
	if protocol == "" {
		return "", fmt.Errorf("%w: its media service knows none over TLS", ErrNoStream)
	}
	var a struct{ MediaUri struct{ Uri string } } //nolint:revive // named by the standard
	err := c.callOf(ctx, media, "GetStreamUri", `<trt:StreamSetup><tt:Stream>RTP-Unicast</tt:Stream><tt:Transport><tt:Protocol>`+protocol+`</tt:Protocol></tt:Transport></trt:StreamSetup>`+
		`<trt:ProfileToken>`+escape(token)+`</trt:ProfileToken>`, &a)
	return a.MediaUri.Uri, err
}

func (c *Client) uriOf2(ctx context.Context, media service, way Way, token string) (string, error) {
	var a struct{ Uri string } //nolint:revive // named by the standard
	err := c.callOf(ctx, media, "GetStreamUri", `<tr2:Protocol>`+string(way)+`</tr2:Protocol><tr2:ProfileToken>`+escape(token)+`</tr2:ProfileToken>`, &a)
	return a.Uri, err
}
