// Package onvif speaks the standard device service (ONVIF Core Specification,
// device management) as a client: SOAP 1.2 over HTTP, authenticated by HTTP
// Digest (RFC 7616, MD5 and SHA-256) or by a WS-Security UsernameToken digest.
// It never authenticates by HTTP Basic.
//
// It opens no connection by itself: the http.RoundTripper given decides how the
// device is reached.
package onvif

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/http/httptrace"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/icholy/digest"

	"janustat/core/secret"
	"janustat/internal/speak/soap"
)

// DefaultPath is where the device service is when the device does not say
// (Core Specification, "device service entry point").
const DefaultPath = "/onvif/device_service"

// callLimit bounds one request and its answer. Some devices take seconds over
// a write to flash.
const callLimit = 10 * time.Second

// Errors of a call.
var (
	// ErrUnreachable means that the request was not sent.
	ErrUnreachable = errors.New("cannot be reached")
	// ErrNoReply means that it was sent, and that whether it was carried out is unknown.
	ErrNoReply = errors.New("no reply")
	// ErrRefused means that the device wants a password, or another one.
	ErrRefused = errors.New("access refused")
	// ErrNotNow means that the device takes no settings at present, whoever asks.
	ErrNotNow = errors.New("takes no settings now")
)

// scheme is how requests prove who sends them.
type scheme int

const (
	anonymous scheme = iota
	byToken
	byDigest
)

// Client speaks to one device. It is not safe for concurrent use.
type Client struct {
	url    string
	base   http.RoundTripper
	http   *http.Client
	scheme scheme
	user   string
	pass   secret.Password
	// challenged is set once the device has asked for HTTP Digest.
	challenged bool
	offset     time.Duration // device's clock minus ours
	clockKnown bool
	iface      string // token of the interface in use
	now        func() time.Time
}

// New makes a client of the device service at address and path, by way of rt.
func New(address, path string, rt http.RoundTripper) *Client {
	if path == "" {
		path = DefaultPath
	}
	c := &Client{url: "http://" + address + path, base: rt, now: time.Now}
	c.http = c.client(rt)
	return c
}

// client never follows a redirect: a password digest would go along.
func (c *Client) client(rt http.RoundTripper) *http.Client {
	return &http.Client{
		Transport: rt, Timeout: callLimit,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

// login makes later calls authenticated. The scheme is the one the device asked for.
func (c *Client) login(user string, p secret.Password) {
	c.user, c.pass = user, p
	if !c.challenged {
		c.scheme = byToken
		return
	}
	c.scheme = byDigest
	c.http = c.client(&digest.Transport{
		Username: user, Password: p.Reveal(), Transport: c.base, FindChallenge: strongest,
	})
}

func (c *Client) logout() {
	c.scheme, c.user, c.pass = anonymous, "", secret.Password{}
	c.http = c.client(c.base)
}

// strongest picks SHA-256 over MD5 where a device offers both (RFC 7616, 3.7).
func strongest(h http.Header) (*digest.Challenge, error) {
	var best *digest.Challenge
	for _, line := range h.Values("WWW-Authenticate") {
		chal, err := digest.ParseChallenge(line)
		if err != nil || !digest.CanDigest(chal) {
			continue
		}
		if best == nil || strings.HasPrefix(strings.ToUpper(chal.Algorithm), "SHA-256") {
			best = chal
		}
	}
	if best == nil {
		return nil, digest.ErrNoChallenge
	}
	return best, nil
}

// deviceNS and schemaNS are declared in every request.
const (
	deviceNS = "http://www.onvif.org/ver10/device/wsdl"
	schemaNS = "http://www.onvif.org/ver10/schema"
	prefixes = `xmlns:tds="` + deviceNS + `" xmlns:tt="` + schemaNS + `"`
)

// call carries out one operation of the device service. inner is the XML inside
// the request element; out takes the answer and may be nil.
func (c *Client) call(ctx context.Context, operation, inner string, out any) error {
	head := ""
	if c.scheme == byToken {
		token, err := soap.UsernameToken(c.user, c.pass, c.now().Add(c.offset), rand.Reader)
		if err != nil {
			return err
		}
		head = token
	}
	body := soap.Envelope(prefixes, head, "<tds:"+operation+">"+inner+"</tds:"+operation+">")
	reads := strings.HasPrefix(operation, "Get")
	if !reads {
		// Devices drop idle connections when they like. A write lost to that would
		// count as unknown, so it goes on a fresh one.
		c.Close()
	}
	answer, status, err := c.post(ctx, deviceNS+"/"+operation, body, reads)
	if err != nil {
		return fmt.Errorf("%s: %w", operation, err)
	}
	err = soap.Decode(bytes.NewReader(answer), out)
	var fault *soap.Fault
	switch {
	case errors.As(err, &fault):
		fault.Status = status
	case status < 300 && err != nil:
		return fmt.Errorf("%s: %w", operation, err)
	case status >= 300:
		fault = &soap.Fault{Status: status}
	default:
		return nil
	}
	if status == http.StatusUnauthorized || status == http.StatusForbidden || fault.Has("NotAuthorized") || fault.Has("FailedAuthentication") {
		return fmt.Errorf("%s: %w: %w", operation, ErrRefused, fault)
	}
	// A prohibition without a reason of its own is about the moment: some devices
	// take settings only for a while after power-on.
	if !reads && fault.Last("OperationProhibited") && (!aboutUsers(operation) || saysPower(fault.Reason)) {
		return fmt.Errorf("%s: %w: %w", operation, ErrNotNow, fault)
	}
	return fmt.Errorf("%s: %w", operation, fault)
}

// aboutUsers tells the operations whose prohibition may as well mean that a
// password is too weak.
func aboutUsers(operation string) bool { return operation == "CreateUsers" || operation == "SetUser" }

func saysPower(reason string) bool {
	low := strings.ToLower(reason)
	return strings.Contains(low, "power") || strings.Contains(low, "restart") || strings.Contains(low, "reboot")
}

// post sends a message and reads the whole answer.
func (c *Client) post(ctx context.Context, action string, body []byte, reads bool) ([]byte, int, error) {
	connected := false
	ctx = httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{GotConn: func(httptrace.GotConnInfo) { connected = true }})
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, c.url, bytes.NewReader(body))
	if err != nil {
		return nil, 0, err
	}
	req.Header.Set("Content-Type", mime.FormatMediaType("application/soap+xml", map[string]string{"charset": "utf-8", "action": action}))
	if reads {
		// Lets net/http ask again when an idle connection turns out to be gone; an
		// empty value is not sent (net/http, Transport).
		req.Header["Idempotency-Key"] = nil
	}
	res, err := c.http.Do(req)
	if err != nil {
		if !connected {
			return nil, 0, fmt.Errorf("%w: %w", ErrUnreachable, inner(err))
		}
		return nil, 0, fmt.Errorf("%w: %w", ErrNoReply, inner(err))
	}
	defer res.Body.Close()
	if res.StatusCode == http.StatusUnauthorized {
		if _, err := strongest(res.Header); err == nil {
			c.challenged = true
		}
	}
	answer, err := io.ReadAll(io.LimitReader(res.Body, soap.MaxMessage+1))
	if err != nil {
		return nil, 0, fmt.Errorf("%w: %w", ErrNoReply, err)
	}
	return answer, res.StatusCode, nil
}

// inner strips the URL and method that net/http puts around every error.
func inner(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

// syncClock learns the offset of the device's clock, which every UsernameToken needs.
func (c *Client) syncClock(ctx context.Context) error {
	if c.clockKnown {
		return nil
	}
	_, err := c.Clock(ctx)
	return err
}

// Close lets idle connections go.
func (c *Client) Close() {
	if t, ok := c.base.(interface{ CloseIdleConnections() }); ok {
		t.CloseIdleConnections()
	}
}

func containsFold(list []string, s string) bool {
	return slices.ContainsFunc(list, func(x string) bool { return strings.EqualFold(x, s) })
}
