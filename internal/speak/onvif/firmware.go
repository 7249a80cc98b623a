package onvif

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"net/http/httptrace"
	"net/textproto"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"janustat/core/text"
	"janustat/internal/speak/soap"
	"janustat/internal/trace"
)

// ErrNoFirmware means that a device offers no operation by which its firmware could be replaced.
var ErrNoFirmware = errors.New("it takes no firmware by the open standard")

// Image is firmware that is sent to a device.
type Image struct {
	Name string
	Size int64 // in bytes
	// Open begins to read it. An error while it is read breaks the sending off: the device never has all of it.
	Open func() (io.ReadCloser, error)
}

// Limits of a device that takes an image.
const (
	uploadStall  = 30 * time.Second // without a byte taken
	uploadAnswer = 5 * time.Minute  // from the last byte to its answer: it may check the image meanwhile
	maxDelay     = 5 * time.Minute  // that it may ask for before the image is sent
)

// Flash has a device replace its firmware: by an upload to where it says (StartFirmwareUpgrade), or with the
// image attached to the question (UpgradeSystemFirmware, MTOM). Of an address that it names, port, path and
// query count: the image goes to where the device is met. down is how long it says that it will be away; 0
// where it does not say. ErrNoFirmware where it offers neither; ErrNoReply where what became of it is unknown.
func (c *Client) Flash(ctx context.Context, img Image) (down time.Duration, err error) {
	var a struct {
		UploadUri                     string //nolint:revive // named by the standard
		UploadDelay, ExpectedDownTime string
	}
	err = c.call(ctx, "StartFirmwareUpgrade", "", &a)
	var fault *soap.Fault
	if errors.As(err, &fault) && !errors.Is(err, ErrRefused) {
		return 0, c.flashAttached(ctx, img, err)
	}
	if err != nil {
		return 0, err
	}
	there, perr := url.Parse(strings.TrimSpace(a.UploadUri))
	if perr != nil || there.Path == "" {
		return 0, fmt.Errorf("%w: %q is not an address", ErrNoFirmware, c.said(a.UploadUri))
	}
	at, err := c.at(a.UploadUri)
	if err != nil {
		return 0, err
	}
	if delay := min(durationOf(a.UploadDelay), maxDelay); delay > 0 {
		t := time.NewTimer(delay)
		defer t.Stop()
		select {
		case <-t.C:
		case <-ctx.Done():
			return 0, ctx.Err()
		}
	}
	return durationOf(a.ExpectedDownTime), c.upload(ctx, at, img)
}

// upload sends an image to a place of the device's (HTTP POST).
func (c *Client) upload(ctx context.Context, at string, img Image) error {
	l := newLogin(c.user, c.pass, c.base, c.server)
	l.fits()
	// Where it asks for a login there, it says so before it has been sent all of the image.
	head, err := http.NewRequestWithContext(ctx, http.MethodHead, at, nil)
	if err != nil {
		return err
	}
	if res, err := c.client(l).Do(head); err == nil {
		res.Body.Close()
	}
	_, status, err := c.sendImage(ctx, l, at, "application/octet-stream", img.Size, img.Open)
	if err == nil && status >= http.StatusMultipleChoices {
		err = &soap.Fault{Status: status}
	}
	if err != nil {
		return fmt.Errorf("upload: %w", err)
	}
	return nil
}

// flashAttached sends an image attached to the question. why is the refusal of the other way.
func (c *Client) flashAttached(ctx context.Context, img Image, why error) error {
	const part = "image@message"
	body := `<tds:Firmware><xop:Include xmlns:xop="http://www.w3.org/2004/08/xop/include" href="cid:` + part + `"/></tds:Firmware>`
	head := ""
	if c.scheme == byToken {
		token, err := soap.UsernameToken(c.user, c.pass, c.now().Add(c.offset), rand.Reader)
		if err != nil {
			return err
		}
		head = token
	}
	message := soap.Envelope(prefixes, head, "<tds:UpgradeSystemFirmware>"+body+"</tds:UpgradeSystemFirmware>")
	var before bytes.Buffer
	m := multipart.NewWriter(&before)
	p, err := m.CreatePart(textproto.MIMEHeader{
		"Content-Type": {`application/xop+xml; charset=UTF-8; type="application/soap+xml"`}, "Content-Transfer-Encoding": {"binary"}, "Content-Id": {"<main@message>"},
	})
	if err == nil {
		_, err = p.Write(message)
	}
	if err == nil {
		_, err = m.CreatePart(textproto.MIMEHeader{"Content-Type": {"application/octet-stream"}, "Content-Transfer-Encoding": {"binary"}, "Content-Id": {"<" + part + ">"}})
	}
	if err != nil {
		return err
	}
	after := "\r\n--" + m.Boundary() + "--\r\n"
	var way http.RoundTripper = c.base
	if c.scheme == byDigest {
		way = c.digest
	}
	kind := mime.FormatMediaType("multipart/related", map[string]string{
		"type": "application/xop+xml", "start": "<main@message>", "start-info": "application/soap+xml", "boundary": m.Boundary(), "action": deviceNS + "/UpgradeSystemFirmware",
	})
	said, status, err := c.sendImage(ctx, way, c.url, kind, int64(before.Len())+img.Size+int64(len(after)), func() (io.ReadCloser, error) {
		f, err := img.Open()
		if err != nil {
			return nil, err
		}
		return framed{io.MultiReader(bytes.NewReader(before.Bytes()), f, strings.NewReader(after)), f}, nil
	})
	if err != nil {
		return fmt.Errorf("UpgradeSystemFirmware: %w", err)
	}
	err = soap.Decode(bytes.NewReader(said), nil)
	var fault *soap.Fault
	switch {
	case errors.As(err, &fault):
		fault.Status = status
		c.quieten(fault)
		if fault.Last("ActionNotSupported") || fault.Last("UnknownAction") {
			return fmt.Errorf("%w: %w", ErrNoFirmware, why)
		}
		return fmt.Errorf("UpgradeSystemFirmware: %w", fault)
	case status >= http.StatusMultipleChoices:
		return fmt.Errorf("UpgradeSystemFirmware: %w", &soap.Fault{Status: status})
	case err != nil || soap.Names(said) != "UpgradeSystemFirmwareResponse":
		return fmt.Errorf("UpgradeSystemFirmware: %w: what came back is not its answer", ErrNoReply)
	}
	return nil
}

// framed is an image between the parts of a message around it.
type framed struct {
	io.Reader
	io.Closer
}

// sendImage posts what holds an image, and reads the answer. It may take as long as the device goes on taking it.
func (c *Client) sendImage(ctx context.Context, way http.RoundTripper, to, kind string, size int64, open func() (io.ReadCloser, error)) (answer []byte, status int, err error) {
	told := trace.Begin(ctx, "device service", "firmware", to)
	defer func() {
		if err != nil {
			told(text.Error(err, c.veil.Text))
		} else {
			told(fmt.Sprintf("%d octets sent", size))
		}
	}()
	c.Close() // on a fresh connection: it is not sent again
	defer c.Close()
	// It is no secret, and not what anybody captures traffic for.
	ctx, stop := context.WithCancelCause(confidential(ctx))
	defer stop(nil)
	patience := time.AfterFunc(uploadStall, func() { stop(errors.New("it took nothing more of the image for " + uploadStall.String())) })
	connected := false
	ctx = httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{GotConn: func(httptrace.GotConnInfo) { connected = true }})
	fed := &feed{taken: func(all bool) {
		if all {
			patience.Reset(uploadAnswer)
		} else {
			patience.Reset(uploadStall)
		}
	}}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, to, nil)
	if err != nil {
		return nil, 0, err
	}
	req.ContentLength, req.GetBody = size, func() (io.ReadCloser, error) {
		r, err := open()
		if err != nil {
			fed.fails(err)
			return nil, err
		}
		return &fedBody{ReadCloser: r, of: fed, left: size}, nil
	}
	req.Header.Set("Content-Type", kind)
	ours := c.client(opened{way})
	ours.Timeout = 0
	res, err := ours.Do(req)
	if err == nil {
		defer res.Body.Close()
		status = res.StatusCode
		answer, err = io.ReadAll(io.LimitReader(res.Body, soap.MaxMessage))
	}
	patience.Stop()
	switch own := fed.failed(); {
	case own != nil:
		return nil, 0, own
	case err != nil && context.Cause(ctx) != nil:
		return nil, 0, fmt.Errorf("%w: %w", ErrNoReply, context.Cause(ctx))
	case err != nil && !connected:
		return nil, 0, fmt.Errorf("%w: %w", ErrUnreachable, inner(err))
	case err != nil:
		return nil, 0, fmt.Errorf("%w: %w", ErrNoReply, inner(err))
	}
	return answer, status, nil
}

// opened is a way on which the body of a request is opened as it is sent, once each time.
type opened struct{ http.RoundTripper }

// RoundTrip implements http.RoundTripper.
func (o opened) RoundTrip(r *http.Request) (*http.Response, error) {
	if _, logs := o.RoundTripper.(*login); logs { // it opens the body by itself
		return o.RoundTripper.RoundTrip(r)
	}
	body, err := r.GetBody()
	if err != nil {
		return nil, err
	}
	c := r.Clone(r.Context())
	c.Body = body
	return o.RoundTripper.RoundTrip(c)
}

// feed is told how far an image is taken, and keeps an error of the image itself from one of the device's.
type feed struct {
	taken func(all bool)

	mu  sync.Mutex
	err error
}

func (f *feed) fails(err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.err = err
}

func (f *feed) failed() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.err
}

// fedBody is an image as it is sent once.
type fedBody struct {
	io.ReadCloser
	of   *feed
	left int64
}

// Read implements io.Reader.
func (b *fedBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	b.left -= int64(n)
	if err != nil && !errors.Is(err, io.EOF) {
		b.of.fails(err)
	}
	b.of.taken(b.left <= 0)
	return n, err
}

// durations are those of XML Schema (Part 2, 3.2.6) that tell hours, minutes and seconds.
var durations = regexp.MustCompile(`^P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+(?:\.\d+)?)S)?)?$`)

// durationOf reads one; 0 where it cannot be read, and at most a day.
func durationOf(s string) time.Duration {
	m := durations.FindStringSubmatch(strings.TrimSpace(s))
	if m == nil {
		return 0
	}
	var out time.Duration
	for i, unit := range []time.Duration{24 * time.Hour, time.Hour, time.Minute, time.Second} {
		if n, err := strconv.ParseFloat(m[i+1], 64); err == nil {
			out += time.Duration(min(n, 86400) * float64(unit))
		}
	}
	return min(max(out, 0), 24*time.Hour)
}
