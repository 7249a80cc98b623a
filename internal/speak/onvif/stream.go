package onvif

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"strings"
)

// StreamPlace is where a device streams, and what, as far as its profile tells.
type StreamPlace struct {
	Port          uint16
	Path          string // with the query
	Codec         string
	Width, Height int // in pixels; 0 is not told
}

// rtspPort is RTSP's (RFC 2326, 3.2).
const rtspPort = 554

// ErrNoStream means that a device has no profile, or none with video.
var ErrNoStream = errors.New("it has no stream")

type encoderXML struct {
	Encoding   string
	Resolution struct{ Width, Height number }
}

// StreamPlace reads where a device's best stream is (GetProfiles and GetStreamUri, of the
// media service or else of the second one). Of the URI port, path and query count: the
// device streams where it is met, whatever host a misconfigured one names.
func (c *Client) StreamPlace(ctx context.Context) (StreamPlace, error) {
	list, err := c.services(ctx)
	if err != nil {
		return StreamPlace{}, err
	}
	none := fmt.Errorf("%w: it has no media service", ErrNoStream)
	for _, of := range []struct {
		ns, prefix string
		read       func(context.Context, service) (StreamPlace, string, error)
	}{{mediaNS, "trt", c.streamOf}, {media2NS, "tr2", c.streamOf2}} {
		at, has := c.serviceIn(list, of.ns, of.prefix)
		if !has {
			continue
		}
		s, uri, err := of.read(ctx, at)
		if Declined(err) || errors.Is(err, ErrNoStream) {
			none = fmt.Errorf("%w: %w", ErrNoStream, err)
			continue // one with newer codecs alone tells them by the second service alone
		}
		if err != nil {
			return s, err
		}
		u, err := url.Parse(strings.TrimSpace(uri))
		if err != nil || u.Scheme != "rtsp" || u.Path == "" && u.RawQuery == "" {
			return s, fmt.Errorf("%w: %q is no address of a stream", ErrNoStream, c.said(uri))
		}
		s.Path, s.Port = cmp.Or(u.EscapedPath(), "/"), rtspPort
		if u.RawQuery != "" {
			s.Path += "?" + u.RawQuery
		}
		if text := u.Port(); text != "" {
			port, err := strconv.ParseUint(text, 10, 16)
			if err != nil || port == 0 {
				return s, fmt.Errorf("%w: %q is no address of a stream", ErrNoStream, c.said(uri))
			}
			s.Port = uint16(port)
		}
		return s, nil
	}
	return StreamPlace{}, none
}

// better reports whether a profile's picture is larger than that chosen so far.
func (s *StreamPlace) better(e encoderXML) bool {
	return int(e.Resolution.Width)*int(e.Resolution.Height) > s.Width*s.Height
}

func (s *StreamPlace) take(c *Client, e encoderXML) {
	s.Codec, s.Width, s.Height = strings.ToUpper(c.said(e.Encoding)), int(e.Resolution.Width), int(e.Resolution.Height)
}

// bestProfile gives the profile with the largest picture.
func (c *Client) bestProfile(ctx context.Context, media service) (token string, s StreamPlace, err error) {
	var profiles struct {
		Profiles []struct {
			Token   string      `xml:"token,attr"`
			Encoder *encoderXML `xml:"VideoEncoderConfiguration"`
		}
	}
	if err := c.callOf(ctx, media, "GetProfiles", "", &profiles); err != nil {
		return "", s, err
	}
	for _, p := range profiles.Profiles {
		if p.Encoder != nil && (token == "" || s.better(*p.Encoder)) {
			token = p.Token
			s.take(c, *p.Encoder)
		}
	}
	return token, s, withVideo(token)
}

// bestProfile2 does so by the second media service.
func (c *Client) bestProfile2(ctx context.Context, media service) (token string, s StreamPlace, err error) {
	var profiles struct {
		Profiles []struct {
			Token          string `xml:"token,attr"`
			Configurations struct{ VideoEncoder *encoderXML }
		}
	}
	if err := c.callOf(ctx, media, "GetProfiles", "<tr2:Type>VideoEncoder</tr2:Type>", &profiles); err != nil {
		return "", s, err
	}
	for _, p := range profiles.Profiles {
		if e := p.Configurations.VideoEncoder; e != nil && (token == "" || s.better(*e)) {
			token = p.Token
			s.take(c, *e)
		}
	}
	return token, s, withVideo(token)
}

func withVideo(token string) error {
	if token == "" {
		return fmt.Errorf("%w: none of its profiles has video", ErrNoStream)
	}
	return nil
}

func (c *Client) streamOf(ctx context.Context, media service) (s StreamPlace, uri string, err error) {
	token, s, err := c.bestProfile(ctx, media)
	if err != nil {
		return s, "", err
	}
	var a struct{ MediaUri struct{ Uri string } } //nolint:revive // named by the standard
	err = c.callOf(ctx, media, "GetStreamUri", `<trt:StreamSetup><tt:Stream>RTP-Unicast</tt:Stream><tt:Transport><tt:Protocol>RTSP</tt:Protocol></tt:Transport></trt:StreamSetup>`+
		`<trt:ProfileToken>`+escape(token)+`</trt:ProfileToken>`, &a)
	return s, a.MediaUri.Uri, err
}

func (c *Client) streamOf2(ctx context.Context, media service) (s StreamPlace, uri string, err error) {
	token, s, err := c.bestProfile2(ctx, media)
	if err != nil {
		return s, "", err
	}
	var a struct{ Uri string } //nolint:revive // named by the standard
	err = c.callOf(ctx, media, "GetStreamUri", `<tr2:Protocol>RTSP</tr2:Protocol><tr2:ProfileToken>`+escape(token)+`</tr2:ProfileToken>`, &a)
	return s, a.Uri, err
}
