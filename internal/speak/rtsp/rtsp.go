// Package rtsp asks a camera for the description of its stream, as a recorder does before
// it plays it: DESCRIBE of RTSP 1.0 (RFC 2326, 10.2) with HTTP Digest (RFC 7616), and the
// SDP of the answer (RFC 8866). It plays nothing.
package rtsp

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/icholy/digest"
	"github.com/pion/sdp/v3"

	"janustat/core/secret"
)

// Errors of a description.
var (
	ErrUnreachable = errors.New("cannot be reached")
	ErrRefused     = errors.New("access refused")
	ErrNoStream    = errors.New("no such stream")
	// ErrUnasked is for a stream that is refused though no password was sent: it is asked for in
	// no way that keeps it secret, or not at all.
	ErrUnasked = errors.New("no password was sent")
)

// limit bounds all that is said for one description; maxBody and maxHeader, in bytes, what
// is read of an answer.
const (
	limit     = 8 * time.Second
	maxBody   = 64 << 10
	maxHeader = 32 << 10
)

// Description is what a stream is of.
type Description struct {
	Codec         string // as rtpmap names it, in capitals
	Width, Height int    // in pixels; 0 where SDP does not tell
}

// Describe asks for the description of a stream at uri, which carries no user, over
// connections that dial makes, with TLS where the URI asks for it. A URI of HTTP is that of a
// conversation inside HTTP. ErrRefused where the password does not fit, ErrNoStream where
// there is no such stream or no video in it, ErrUnreachable where nobody answers.
func Describe(ctx context.Context, dial func(context.Context) (net.Conn, error), uri, user string, p secret.Password) (Description, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	var c io.ReadWriteCloser
	var err error
	if inside, web := strings.CutPrefix(uri, "http"); web {
		c, err = tunnel(ctx, dial, uri, user, p)
		uri = "rtsp" + strings.TrimPrefix(inside, "s")
	} else {
		c, err = dial(ctx)
	}
	if errors.Is(err, ErrRefused) || errors.Is(err, ErrUnasked) || errors.Is(err, ErrNoStream) {
		return Description{}, err
	}
	if err != nil {
		return Description{}, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	defer c.Close()
	defer context.AfterFunc(ctx, func() { c.Close() })()
	r := bufio.NewReader(c)
	a, err := ask(c, r, uri, 1, "")
	if err != nil {
		return Description{}, err
	}
	sent := false
	if a.status == http.StatusUnauthorized {
		sent = true
		proof, err := prove(a.header, "DESCRIBE", uri, user, p)
		if err != nil {
			return Description{}, err
		}
		if a, err = ask(c, r, uri, 2, proof); err != nil {
			return Description{}, err
		}
	}
	switch {
	case a.status == http.StatusForbidden && !sent:
		return Description{}, fmt.Errorf("%w: the stream is refused to everyone (RTSP status %d)", ErrUnasked, a.status)
	case a.status == http.StatusUnauthorized || a.status == http.StatusForbidden:
		return Description{}, fmt.Errorf("%w (RTSP status %d)", ErrRefused, a.status)
	case a.status != http.StatusOK:
		return Description{}, fmt.Errorf("%w (RTSP status %d)", ErrNoStream, a.status)
	}
	return Parse(a.body)
}

func ask(w io.Writer, r *bufio.Reader, uri string, seq int, proof string) (answer, error) {
	text := fmt.Sprintf("DESCRIBE %s RTSP/1.0\r\nCSeq: %d\r\nAccept: application/sdp\r\n", uri, seq)
	if proof != "" {
		text += "Authorization: " + proof + "\r\n"
	}
	if _, err := io.WriteString(w, text+"\r\n"); err != nil {
		return answer{}, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	a, err := readAnswer(r)
	if err != nil {
		return a, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	return a, nil
}

// answer is a response (RFC 2326, 7).
type answer struct {
	status int
	header http.Header
	body   []byte
}

var statusLine = regexp.MustCompile(`^(?:RTSP|HTTP)/[12]\.[0-9] ([1-5][0-9]{2})(?: .*)?$`)

// readAnswer reads a response.
func readAnswer(r *bufio.Reader) (answer, error) {
	a, err := readHead(r, "RTSP/")
	if err != nil {
		return a, err
	}
	n, err := strconv.Atoi(a.header.Get("Content-Length"))
	if a.header.Get("Content-Length") == "" {
		return a, nil
	}
	if err != nil || n < 0 || n > maxBody {
		return a, errors.New("its answer has no valid length")
	}
	a.body = make([]byte, n)
	_, err = io.ReadFull(r, a.body)
	return a, err
}

// readHead reads a response of a protocol, RTSP/ or HTTP/, up to its body.
func readHead(r *bufio.Reader, protocol string) (answer, error) {
	line, err := boundedLine(r)
	if err != nil {
		return answer{}, err
	}
	m := statusLine.FindStringSubmatch(line)
	if m == nil || !strings.HasPrefix(line, protocol) {
		return answer{}, errors.New("its answer is no " + strings.TrimSuffix(protocol, "/"))
	}
	a := answer{header: http.Header{}}
	a.status, _ = strconv.Atoi(m[1]) // digits, by its form
	for size := len(line); ; {
		line, err := boundedLine(r)
		if err != nil {
			return a, err
		}
		if line == "" {
			break
		}
		if size += len(line); size > maxHeader {
			return a, errors.New("its answer has too long a header")
		}
		name, value, ok := strings.Cut(line, ":")
		if ok {
			a.header.Add(strings.TrimSpace(name), strings.TrimSpace(value))
		}
	}
	return a, nil
}

func boundedLine(r *bufio.Reader) (string, error) {
	var line []byte
	for {
		part, more, err := r.ReadLine()
		if err != nil {
			return "", err
		}
		if line = append(line, part...); len(line) > maxHeader {
			return "", errors.New("its answer has too long a line")
		}
		if !more {
			return string(line), nil
		}
	}
}

// prove answers the strongest digest challenge. The password is never sent as it is, as
// Basic would have it.
func prove(h http.Header, method, uri, user string, p secret.Password) (string, error) {
	var best *digest.Challenge
	for _, text := range h.Values("WWW-Authenticate") {
		c, err := digest.ParseChallenge(text)
		if err != nil || !digest.CanDigest(c) {
			continue
		}
		if best == nil || strings.HasPrefix(c.Algorithm, "SHA-256") {
			best = c
		}
	}
	if best == nil {
		return "", fmt.Errorf("%w: its stream asks for it as it is (Basic), and for no digest of it", ErrUnasked)
	}
	var b [8]byte
	_, _ = rand.Read(b[:]) // never fails (crypto/rand)
	cred, err := digest.Digest(best, digest.Options{Method: method, URI: uri, Username: user, Password: p.Reveal(), Count: 1, Cnonce: hex.EncodeToString(b[:])})
	if err != nil {
		return "", fmt.Errorf("%w: %w", ErrUnasked, err)
	}
	return cred.String(), nil
}

// staticCodecs are payload types that need no rtpmap (RFC 3551, 6).
var staticCodecs = map[string]string{"26": "JPEG", "31": "H261", "32": "MPV", "33": "MP2T", "34": "H263"}

// Parse reads an SDP for its first video.
func Parse(body []byte) (Description, error) {
	if len(body) > maxBody {
		return Description{}, fmt.Errorf("%w: its SDP is too long", ErrNoStream)
	}
	var s sdp.SessionDescription
	if err := s.Unmarshal(body); err != nil {
		return Description{}, fmt.Errorf("%w: its SDP cannot be read", ErrNoStream)
	}
	for _, m := range s.MediaDescriptions {
		if m.MediaName.Media != "video" || len(m.MediaName.Formats) == 0 {
			continue
		}
		d := Description{Codec: staticCodecs[m.MediaName.Formats[0]]}
		for _, a := range m.Attributes {
			switch a.Key {
			case "rtpmap": // RFC 8866, 6.6: payload type, then encoding/rate
				if pt, codec, ok := strings.Cut(a.Value, " "); ok && pt == m.MediaName.Formats[0] {
					codec, _, _ = strings.Cut(codec, "/")
					d.Codec = strings.ToUpper(codec)
				}
			case "framesize", "x-dimensions": // RFC 6064, 4.2: payload type, then width-height; and a common form before it
				d.Width, d.Height = sizeOf(a.Value)
			}
		}
		return d, nil
	}
	return Description{}, fmt.Errorf("%w: there is no video in it", ErrNoStream)
}

var sizeForm = regexp.MustCompile(`(\d{1,5})\s*[-,x]\s*(\d{1,5})$`)

func sizeOf(text string) (width, height int) {
	m := sizeForm.FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return 0, 0
	}
	width, _ = strconv.Atoi(m[1])
	height, _ = strconv.Atoi(m[2])
	return width, height
}
