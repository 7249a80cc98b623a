package onvif

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
)

// ErrNoStill means that a device offers no still picture.
var ErrNoStill = errors.New("it offers no still")

// maxStill bounds a picture, in bytes.
const maxStill = 8 << 20

// Still fetches a still picture, as JPEG, from where the media service says it is
// (GetSnapshotUri, of the best profile), with HTTP Digest where that is asked for. Of the
// address, port, path and query count: the device is asked where it is met.
func (c *Client) Still(ctx context.Context) ([]byte, error) {
	list, err := c.services(ctx)
	if err != nil {
		return nil, err
	}
	uri := ""
	for _, of := range []struct {
		ns, prefix string
		read       func(context.Context, service) (string, error)
	}{{mediaNS, "trt", c.stillOf}, {media2NS, "tr2", c.stillOf2}} {
		media, has := c.serviceIn(list, of.ns, of.prefix)
		if !has {
			continue
		}
		if uri, err = of.read(ctx, media); err == nil && uri != "" {
			break
		}
	}
	switch {
	case Declined(err) || err == nil && uri == "":
		return nil, ErrNoStill
	case err != nil:
		return nil, err
	}
	there, err := url.Parse(strings.TrimSpace(uri))
	if err != nil || there.Path == "" {
		return nil, fmt.Errorf("%w: %q is not an address", ErrNoStill, c.said(uri))
	}
	at, err := c.at(uri)
	if err != nil {
		return nil, err
	}
	return c.fetch(ctx, at)
}

func (c *Client) stillOf(ctx context.Context, media service) (string, error) {
	token, err := best(c.profiles(ctx, media))
	if err != nil {
		return "", err
	}
	var a struct{ MediaUri struct{ Uri string } } //nolint:revive // named by the standard
	err = c.callOf(ctx, media, "GetSnapshotUri", "<trt:ProfileToken>"+escape(token)+"</trt:ProfileToken>", &a)
	return a.MediaUri.Uri, err
}

func (c *Client) stillOf2(ctx context.Context, media service) (string, error) {
	token, err := best(c.profiles2(ctx, media))
	if err != nil {
		return "", err
	}
	var a struct{ Uri string } //nolint:revive // named by the standard
	err = c.callOf(ctx, media, "GetSnapshotUri", "<tr2:ProfileToken>"+escape(token)+"</tr2:ProfileToken>", &a)
	return a.Uri, err
}

// fetch gets a picture.
func (c *Client) fetch(ctx context.Context, at string) ([]byte, error) {
	data, err := c.get(ctx, at, maxStill, ErrNoStill)
	if err == nil && !bytes.HasPrefix(data, []byte{0xff, 0xd8, 0xff}) {
		return nil, fmt.Errorf("%w: what it sends is not a JPEG", ErrNoStill)
	}
	return data, err
}

// get fetches a file of at most so many bytes, with HTTP Digest where that is asked for; none is the error
// where the device does not give it.
func (c *Client) get(ctx context.Context, at string, most int64, none error) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
	if err != nil {
		return nil, err
	}
	l := newLogin(c.user, c.pass, c.base, c.server)
	l.fits()
	res, err := c.client(l).Do(req)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNoReply, inner(err))
	}
	defer res.Body.Close()
	data, err := io.ReadAll(io.LimitReader(res.Body, most+1))
	switch {
	case err != nil:
		return nil, fmt.Errorf("%w: %w", ErrNoReply, err)
	case res.StatusCode != http.StatusOK:
		return nil, fmt.Errorf("%w (HTTP status %d)", none, res.StatusCode)
	case int64(len(data)) > most:
		return nil, fmt.Errorf("%w: it is larger than %d bytes", none, most)
	}
	return data, nil
}
