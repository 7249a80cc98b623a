package onvif

import (
	"fmt"
	"io"
	"net/http"
	"sync"

	"github.com/icholy/digest"

	"janustat/core/secret"
)

// login is a way to a device on which requests bear HTTP Digest credentials (RFC 7616). A
// password goes out once for each request, unless the device itself says that only the
// nonce was too old: each further time may count as a wrong one there.
type login struct {
	user string
	pass secret.Password
	by   http.RoundTripper
	make func(*digest.Challenge, digest.Options) (*digest.Credentials, error)

	mu     sync.Mutex
	chal   *digest.Challenge
	count  int  // of requests with that nonce
	anew   bool // a nonce is asked for anew for each request
	proven bool // the password is known to fit
}

// newLogin makes the way for a user. server is what the device says of its software.
func newLogin(user string, p secret.Password, by http.RoundTripper, server string) *login {
	return &login{user: user, pass: p, by: asItCame{by}, make: respond(nonce(), server)}
}

// fits notes that the password has opened the device.
func (l *login) fits() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.proven = true
}

// asksAnew has a nonce asked for anew for each request from now on, and reports whether
// that is a change.
func (l *login) asksAnew() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	was := l.anew
	l.anew, l.chal = true, nil
	return !was
}

// RoundTrip implements http.RoundTripper.
func (l *login) RoundTrip(r *http.Request) (*http.Response, error) {
	chal, count := l.challenge()
	res, err := l.send(r, chal, count)
	if err != nil || res.StatusCode != http.StatusUnauthorized {
		return res, err
	}
	fresh, ferr := strongest(res.Header)
	if ferr != nil {
		return res, nil
	}
	asked := chal == nil
	l.keep(fresh)
	if !asked && !fresh.Stale {
		return res, nil // it may be the password that is refused
	}
	_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, maxChallenge))
	res.Body.Close()
	if l.isGuess() {
		// A connection that the device drops meanwhile would have the password lost: that is a
		// try, of which nothing is learnt.
		l.CloseIdleConnections()
	}
	chal, count = l.take(fresh)
	return l.send(r, chal, count)
}

// maxChallenge bounds what is read of the page that comes with a challenge.
const maxChallenge = 64 << 10

func (l *login) isGuess() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return !l.proven
}

// challenge gives the one to answer to without being asked, if there is one.
func (l *login) challenge() (*digest.Challenge, int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.chal == nil || l.anew {
		return nil, 0
	}
	l.count++
	return l.chal, l.count
}

func (l *login) keep(c *digest.Challenge) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.chal, l.count = c, 0
}

// take counts a request that answers a challenge.
func (l *login) take(c *digest.Challenge) (*digest.Challenge, int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.chal == c {
		l.count++
		return c, l.count
	}
	return c, 1
}

// send sends a copy of a request, with credentials for a challenge if there is one.
func (l *login) send(r *http.Request, chal *digest.Challenge, count int) (*http.Response, error) {
	c := r.Clone(r.Context())
	if r.GetBody != nil {
		body, err := r.GetBody()
		if err != nil {
			return nil, err
		}
		c.Body = body
	}
	if chal != nil {
		cred, err := l.make(chal, digest.Options{Method: c.Method, URI: c.URL.RequestURI(), GetBody: r.GetBody, Count: count, Username: l.user, Password: l.pass.Reveal()})
		if err != nil {
			return nil, fmt.Errorf("HTTP Digest: %w", err)
		}
		c.Header.Set("Authorization", cred.String())
	}
	return l.by.RoundTrip(c)
}

// CloseIdleConnections lets the idle connections of the way go.
func (l *login) CloseIdleConnections() {
	if t, ok := l.by.(asItCame).RoundTripper.(interface{ CloseIdleConnections() }); ok {
		t.CloseIdleConnections()
	}
}
