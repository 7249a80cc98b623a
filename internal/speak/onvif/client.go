// Package onvif speaks the standard device service (ONVIF Core Specification,
// device management) as a client: SOAP 1.2 over HTTP or HTTPS, authenticated by HTTP
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
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/icholy/digest"

	"janustat/core/secret"
	"janustat/core/text"
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
	// ErrElsewhere means that the service is not spoken there: the device leads to HTTPS,
	// or to another place.
	ErrElsewhere = errors.New("the service is at another address")
	// ErrNoSense means that an answer came, with a good status, that says nothing.
	ErrNoSense = errors.New("its answer says nothing")
	// ErrNotNow means that the device takes no settings at present, whoever asks.
	ErrNotNow = errors.New("takes no settings now")
)

// ElsewhereError matches ErrElsewhere, and tells where the device leads to.
type ElsewhereError struct {
	Status   int    // of HTTP
	Location string // a URL, maybe a relative one; empty where it does not say
}

// Error says so.
func (e *ElsewhereError) Error() string {
	return fmt.Sprintf("%s (HTTP status %d, %q)", ErrElsewhere, e.Status, e.Location)
}

// Is matches ErrElsewhere.
func (*ElsewhereError) Is(target error) bool { return target == ErrElsewhere }

// LockedError means that the device answers no password now, since too many were wrong.
type LockedError struct {
	Wait time.Duration // how long yet, where it says so
	Err  error
}

// Error gives what the device said.
func (e *LockedError) Error() string { return "locked: " + e.Err.Error() }

// Unwrap gives what the device said.
func (e *LockedError) Unwrap() error { return e.Err }

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
	proven bool // the password is known to fit
	// challenged is set once the device has asked for HTTP Digest.
	challenged bool
	// chal is the challenge of that, and when it came: a password answers to it within a breath.
	chal       *digest.Challenge
	chalAt     time.Time
	expected   Expected
	digest     *login            // where it asks for HTTP Digest
	shut       error             // it refuses what has opened it: nothing of a password is sent any more
	openList   bool              // to everyone: that opens nothing
	openedBy   string            // the operation by which a password is offered
	closed     bool              // its users are closed to those without a password, as it was seen last
	attached   map[string][]byte // to the last answer, by their Content-IDs
	looked     time.Time         // when it last refused an anonymous request by which a password is offered
	judging    bool              // of a refusal
	unhurried  bool              // it takes its time over answers
	noSides    bool              // it does not bear several questions at once
	closedTo   map[string]bool   // operations that it refuses to the user that has opened it
	offset     time.Duration     // device's clock minus ours
	doubt      time.Duration     // how far off that may be
	clockKnown bool
	clockRough bool           // its answer was long on its way
	byNTP      bool           // its clock follows NTP
	ntp        Servers        // as read last
	iface      string         // token of the interface that the device is met by
	subnet     netip.Prefix   // of that interface
	others     []netip.Prefix // subnets of its other interfaces
	// zone and daylight are as the device told them last, to be sent back as they are.
	zone, daylight string
	offered        []serviceXML // services, once they were read with its password
	newZone        string       // to be told with the time instead
	veil           *secret.Veil
	now            func() time.Time
	// asked and answered are when the last request had left and its answer came:
	// making a connection, which may take long, is not between them.
	asked, answered time.Time
	server          string            // what the device says of its software
	told            map[string][]byte // answers of this conversation that hold yet, by operation
	answer          []byte            // the last one
	date            time.Time         // that the last answer carried; zero without
}

// New makes a client of the device service at an address, by way of rt. The
// scheme is http or https; the service is "[:port]path", DefaultPath if empty.
func New(scheme, address, service string, rt http.RoundTripper) *Client {
	if service == "" {
		service = DefaultPath
	}
	c := &Client{url: scheme + "://" + address + service, base: rt, now: time.Now, openedBy: opening}
	c.http = c.client(rt)
	return c
}

// Veiled has every known password blanked out of what the device says: some quote in a
// fault, or in a name, what they were sent. It gives the client itself.
func (c *Client) Veiled(v *secret.Veil) *Client {
	c.veil = v
	return c
}

// said makes text of the device's fit to be kept.
func (c *Client) said(s string) string { return text.Harmless(s, text.Short, c.veil.Text) }

// Entered reports whether a password is in use that is known to fit.
func (c *Client) Entered() bool { return c.proven }

// like makes another client of the same device, without credentials.
func (c *Client) like() *Client {
	other := &Client{url: c.url, base: c.base, now: c.now, openedBy: c.openedBy, challenged: c.challenged, expected: c.expected, offset: c.offset, server: c.server, veil: c.veil}
	other.http = other.client(c.base)
	return other
}

// client never follows a redirect: a password digest would go along.
func (c *Client) client(rt http.RoundTripper) *http.Client {
	return &http.Client{
		Transport: rt, Timeout: callLimit,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

// Expected is what is known of a device's login before the first byte of a conversation.
type Expected struct {
	// Digest tells that it asked for HTTP Digest, or spoke HTTPS, when it was opened before:
	// whoever asks for less now is sent nothing.
	Digest bool
	// Ahead is by how much its clock may be ahead of ours, once that was set; 0 is any. A
	// token is made by the device's clock, and one of tomorrow would open the device then.
	Ahead time.Duration
}

// Expect holds the logins of this conversation to what is known of the device.
func (c *Client) Expect(e Expected) *Client {
	c.expected = e
	return c
}

// Errors of a login that is not made.
var (
	// ErrWeaker means that a device asks for a weaker login than it did.
	ErrWeaker = errors.New("it does not ask for the digest that it asked for when it was opened")
	// ErrAhead means that a device's clock has leapt ahead since it was set.
	ErrAhead = errors.New("its clock has leapt ahead since it was set, and a password's token is made by that")
)

// Digests reports whether the device has asked for HTTP Digest in this conversation.
func (c *Client) Digests() bool { return c.challenged }

// mayLogin makes sure of what is expected before anything of a password is sent.
func (c *Client) mayLogin() error {
	switch {
	case c.challenged:
		return nil
	case c.expected.Digest:
		return ErrWeaker
	case c.expected.Ahead > 0 && c.offset > c.expected.Ahead:
		return fmt.Errorf("%w: by %s", ErrAhead, c.offset.Round(time.Second))
	}
	return nil
}

// login makes later calls authenticated. The scheme is the one the device asked for.
func (c *Client) login(user string, p secret.Password) {
	c.user, c.pass, c.proven, c.shut, c.closedTo = user, p, false, nil, nil
	if !c.challenged {
		c.scheme = byToken
		return
	}
	c.scheme = byDigest
	c.digest = newLogin(user, p, c.base, c.server)
	c.http = c.client(c.digest)
}

// nonce draws a nonce of ours.
func nonce() string {
	var b [16]byte
	_, _ = rand.Read(b[:]) // never fails (crypto/rand)
	return hex.EncodeToString(b[:])
}

func (c *Client) logout() {
	c.scheme, c.user, c.pass = anonymous, "", secret.Password{}
	c.http = c.client(c.base)
}

// deviceNS and schemaNS are declared in every request.
const (
	deviceNS = "http://www.onvif.org/ver10/device/wsdl"
	schemaNS = "http://www.onvif.org/ver10/schema"
	prefixes = `xmlns:tds="` + deviceNS + `" xmlns:trt="` + mediaNS + `" xmlns:tt="` + schemaNS + `"`
)

// call carries out one operation of the device service. inner is the XML inside
// the request element; out takes the answer and may be nil.
func (c *Client) call(ctx context.Context, operation, inner string, out any) error {
	return c.callOf(ctx, c.deviceService(), operation, inner, out)
}

// callOf carries out one operation of a service.
func (c *Client) callOf(ctx context.Context, s service, operation, inner string, out any) error {
	if c.shut != nil && c.scheme != anonymous {
		return fmt.Errorf("%s: %w", operation, c.shut)
	}
	reads := strings.HasPrefix(operation, "Get")
	if !reads {
		c.forget(s, operation)
	}
	if !reads && operation != setTime {
		// Devices drop idle connections when they like. A write lost to that would
		// count as unknown, so it goes on a fresh one. Making one takes time, though.
		c.Close()
	}
	if carriesPassword(operation) {
		if reads {
			c.Close() // nor is it asked on one that is not kept out of a capture
		}
		ctx = confidential(ctx)
		defer c.Close() // nothing else is to be said on the connection that carried it
	}
	mayRepeat := reads && (c.proven || c.scheme == anonymous)
	answer, status, header, err := c.sendSoon(ctx, s, operation, inner, mayRepeat)
	if mayRepeat && errors.Is(err, errIdleGone) {
		// Never a password that is not known to fit: each time it is sent is a try.
		// Asked again by ourselves: net/http would send the same token, which a device
		// takes for a replay, and counts as a wrong password.
		answer, status, header, err = c.send(ctx, s, operation, inner)
	}
	for try := 0; err == nil && status == http.StatusServiceUnavailable && try < busyTries && waitBusy(ctx, header); try++ {
		answer, status, header, err = c.send(ctx, s, operation, inner) // it said that it did nothing (RFC 9110, 15.6.4)
	}
	// A page of an error in the place of an answer says nothing of the question: it is asked
	// again, unless a password goes with it that is not known to fit. So is what is set: done twice
	// it is what it is done once.
	setsAgain := setsAlike(operation) && (c.proven || c.scheme == anonymous)
	for try := 0; err == nil && (mayRepeat || setsAgain) && isPage(status, answer) && try < pageTries && waitBusy(ctx, header); try++ {
		answer, status, header, err = c.send(ctx, s, operation, inner)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", operation, text.Error(err, c.veil.Text))
	}
	if leadsElsewhere(status) {
		if !reads { // it may have been carried out before
			return fmt.Errorf("%s: %w: %w", operation, ErrNoReply, &ElsewhereError{status, c.said(header.Get("Location"))})
		}
		return fmt.Errorf("%s: %w", operation, &ElsewhereError{status, c.said(header.Get("Location"))})
	}
	err = soap.Decode(bytes.NewReader(answer), out)
	var fault *soap.Fault
	switch {
	case errors.As(err, &fault):
		fault.Status = status
		c.quieten(fault)
	case !reads && status < 300 && (err != nil || soap.Names(answer) != operation+"Response"):
		// A write is done by its own answer, and refused by a fault: whatever else comes back
		// with a good status, what became of it is unknown, and is found out.
		return fmt.Errorf("%s: %w: what came back is not its answer", operation, ErrNoReply)
	case !reads && !setsAlike(operation) && isPage(status, answer) && len(bytes.TrimSpace(answer)) > 0:
		return fmt.Errorf("%s: %w: an error page of HTTP status %d came in place of an answer", operation, ErrNoReply, status)
	case status < 300 && err != nil:
		return fmt.Errorf("%s: %w: %w", operation, ErrNoSense, text.Error(err, c.veil.Text))
	case reads && !mayRepeat && isPage(status, answer):
		// It is for the caller to offer the password again, which may count as another try.
		return fmt.Errorf("%s: %w: an error page of HTTP status %d came in place of an answer", operation, ErrNoReply, status)
	case status >= 300:
		fault = &soap.Fault{Status: status}
	default:
		c.answer = answer
		return nil
	}
	if wait, locked := lockedOut(status, header, fault); locked {
		return fmt.Errorf("%s: %w", operation, &LockedError{wait, fault})
	}
	if fault.RefusesAccess() {
		refused := fmt.Errorf("%s: %w: %w", operation, ErrRefused, fault)
		if c.proven && c.scheme != anonymous {
			again, err := c.refusedLater(ctx, operation, refused)
			if again {
				return c.callOf(ctx, s, operation, inner, out)
			}
			return err
		}
		return refused
	}
	// A prohibition is a refusal, unless the device says that it is about the moment: some
	// take settings only for a while after power-on.
	if !reads && fault.Last("OperationProhibited") && saysPower(fault.Reason) {
		return fmt.Errorf("%s: %w: %w", operation, ErrNotNow, fault)
	}
	return fmt.Errorf("%s: %w", operation, fault)
}

// syncClock learns the offset of the device's clock, which every UsernameToken needs. A
// device that tells its clock to nobody without a password gives it away by the Date of
// its refusal, or is taken to be right.
func (c *Client) syncClock(ctx context.Context) error {
	if c.clockKnown {
		return nil
	}
	_, _, err := c.Clock(ctx)
	if err == nil || errors.Is(err, ErrUnreachable) || errors.Is(err, ErrNoReply) {
		return err
	}
	if c.offset = 0; !c.date.IsZero() {
		c.offset = c.date.Sub(c.answered)
	}
	return nil
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
