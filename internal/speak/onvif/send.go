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
	"strings"
	"sync"
	"syscall"
	"time"

	"janustat/core/text"
	"janustat/internal/speak/soap"
	"janustat/internal/trace"
)

// overdue is how long an answer may take until a question is asked again on a fresh connection.
// Where frames are lost, a device sends its answer again after a second, two, four (RFC 6298, 5.5).
const overdue = 1500 * time.Millisecond

var errOverdue = errors.New("overdue")

// sendSoon sends a message, once more where it may be sent again and its answer is overdue, or the
// connection ends before it. A device
// that takes its time over the second as well is not hurried any more.
func (c *Client) sendSoon(ctx context.Context, s service, operation, inner string, again bool) ([]byte, int, http.Header, error) {
	if !again || c.unhurried {
		return c.send(ctx, s, operation, inner)
	}
	soon, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var waits *time.Timer
	var mu sync.Mutex
	// Making a connection, with its encryption, has a patience of its own.
	answer, status, header, err := c.send(httptrace.WithClientTrace(soon, &httptrace.ClientTrace{
		WroteRequest: func(httptrace.WroteRequestInfo) {
			mu.Lock()
			defer mu.Unlock()
			if waits == nil {
				waits = time.AfterFunc(overdue, func() { cancel(errOverdue) })
			} else {
				waits.Reset(overdue)
			}
		},
	}), s, operation, inner)
	mu.Lock()
	if waits != nil {
		waits.Stop()
	}
	mu.Unlock()
	switch {
	case err == nil:
		return answer, status, header, nil
	case errors.Is(context.Cause(soon), errOverdue):
	case hungUp(err) && ctx.Err() == nil: // in between, as busy devices do: the question counts no more than once
		c.Close()
		return c.send(ctx, s, operation, inner)
	default:
		return answer, status, header, err
	}
	c.Close()
	begun := c.now()
	answer, status, header, err = c.send(ctx, s, operation, inner)
	c.unhurried = c.now().Sub(begun) >= overdue
	return answer, status, header, err
}

// hungUp reports whether a connection ended before there was an answer.
func hungUp(err error) bool {
	return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET)
}

// pageTries is how often a question is asked again that was answered by a page.
const pageTries = 2

// isPage tells an answer of the web server itself from one of the service behind it.
func isPage(status int, answer []byte) bool {
	return status >= http.StatusInternalServerError && status != http.StatusServiceUnavailable && status != http.StatusNotImplemented && soap.Names(answer) == ""
}

// setsAlike reports whether an operation that is carried out twice leaves the device as one that is
// carried out once. A time is another one by then.
func setsAlike(operation string) bool {
	return strings.HasPrefix(operation, "Set") && operation != factoryReset && operation != setTime
}

// A device that is busy is asked again so often, as long as it is back within busyLimit.
const (
	busyTries = 4
	busyLimit = 8 * time.Second
	busyWait  = time.Second // where it does not say how long
)

// waitBusy waits as long as a busy device asks for; false when that is too long.
func waitBusy(ctx context.Context, header http.Header) bool {
	wait := retryAfter(header.Get("Retry-After"), time.Now())
	if wait == 0 {
		wait = busyWait
	}
	if wait > busyLimit {
		return false
	}
	t := time.NewTimer(wait)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-ctx.Done():
		return false
	}
}

// leadsElsewhere tells the answers of a port that only leads to another (RFC 9110, 15.4
// and 15.5.22).
func leadsElsewhere(status int) bool {
	switch status {
	case http.StatusMovedPermanently, http.StatusFound, http.StatusSeeOther, http.StatusTemporaryRedirect, http.StatusPermanentRedirect, http.StatusUpgradeRequired:
		return true
	}
	return false
}

// send makes the message of an operation, with a token of its own, and posts it.
func (c *Client) send(ctx context.Context, s service, operation, inner string) ([]byte, int, http.Header, error) {
	head := ""
	if c.scheme == byToken {
		token, err := soap.UsernameToken(c.user, c.pass, c.now().Add(c.offset), rand.Reader)
		if err != nil {
			return nil, 0, nil, err
		}
		head = token
	}
	spaces := prefixes
	if s.prefix != "tds" && s.prefix != "trt" {
		spaces += " xmlns:" + s.prefix + `="` + s.ns + `"`
	}
	body := soap.Envelope(spaces, head, "<"+s.prefix+":"+operation+">"+inner+"</"+s.prefix+":"+operation+">")
	return c.post(ctx, s.url, s.ns+"/"+operation, body)
}

// moments are noted by net/http from goroutines of its own.
type moments struct {
	mu              sync.Mutex
	asked, answered time.Time
}

func (m *moments) note(which *time.Time, at time.Time) {
	m.mu.Lock()
	defer m.mu.Unlock()
	*which = at
}

// read gives both; a way that does not tell when it was answered was answered now.
func (m *moments) read(now time.Time) (asked, answered time.Time) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.answered.IsZero() {
		m.answered = now
	}
	return m.asked, m.answered
}

// errIdleGone is wrapped beside ErrNoReply when the request went on a connection
// that had been idle, and that the device may have dropped before.
var errIdleGone = errors.New("on an idle connection")

// post sends a message and reads the whole answer.
func (c *Client) post(ctx context.Context, to, action string, body []byte) (answer []byte, status int, header http.Header, err error) {
	told := trace.Begin(ctx, "device service", action[strings.LastIndexByte(action, '/')+1:], to)
	defer func() {
		if err != nil {
			told(text.Error(err, c.veil.Text))
		} else {
			told(fmt.Sprintf("HTTP %d, %d octets", status, len(answer)))
		}
	}()
	connected, reused := false, false
	at := &moments{asked: c.now()}
	ctx = httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{
		GotConn:              func(i httptrace.GotConnInfo) { connected, reused = true, i.Reused },
		WroteRequest:         func(httptrace.WroteRequestInfo) { at.note(&at.asked, c.now()) },
		GotFirstResponseByte: func() { at.note(&at.answered, c.now()) },
	})
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, to, bytes.NewReader(body))
	if err != nil {
		return nil, 0, nil, err
	}
	req.Header.Set("Content-Type", mime.FormatMediaType("application/soap+xml", map[string]string{"charset": "utf-8", "action": action}))
	res, err := c.http.Do(req)
	if err != nil {
		if !connected {
			return nil, 0, nil, fmt.Errorf("%w: %w", ErrUnreachable, inner(err))
		}
		if reused && ctx.Err() == nil {
			return nil, 0, nil, fmt.Errorf("%w %w: %w", ErrNoReply, errIdleGone, inner(err))
		}
		return nil, 0, nil, fmt.Errorf("%w: %w", ErrNoReply, inner(err))
	}
	defer res.Body.Close()
	c.asked, c.answered = at.read(c.now())
	c.server = res.Header.Get("Server")
	if c.date, err = http.ParseTime(res.Header.Get("Date")); err != nil {
		c.date = time.Time{}
	}
	if res.StatusCode == http.StatusUnauthorized {
		if chal, err := strongest(res.Header); err == nil {
			c.challenged, c.chal, c.chalAt = true, chal, c.now()
		}
	}
	if kind, params, merr := mime.ParseMediaType(res.Header.Get("Content-Type")); merr == nil && kind == multipartRelated {
		if answer, c.attached, err = parts(io.LimitReader(res.Body, maxAttached), params["boundary"]); err != nil {
			return nil, 0, nil, fmt.Errorf("%w: %w", ErrNoReply, err)
		}
		return answer, res.StatusCode, res.Header, nil
	}
	c.attached = nil
	answer, err = io.ReadAll(io.LimitReader(res.Body, soap.MaxMessage+1))
	if err != nil {
		return nil, 0, nil, fmt.Errorf("%w: %w", ErrNoReply, err)
	}
	return answer, res.StatusCode, res.Header, nil
}

// inner strips the URL and method that net/http puts around every error.
func inner(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}
