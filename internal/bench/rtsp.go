package bench

import (
	"bufio"
	"cmp"
	"crypto/rand"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/textproto"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/icholy/digest"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"
	"gvisor.dev/gvisor/pkg/waiter"

	"janustat/internal/nic"
)

// rtspPort and streamPath are where a device streams.
const (
	rtspPort   = 554
	streamPath = "/still/1"
)

// streams reports whether a device has a picture.
func (d *Device) streams() bool {
	return d.unit.model.Kind == "camera" || d.unit.model.Kind == "door-station"
}

// serveStream plays the device's still to whoever has a password, over RTSP 1.0 (RFC 2326)
// with the picture on the same connection (10.12).
func (d *Device) serveStream() error {
	if !d.streams() || !d.host.address().IsValid() {
		return nil
	}
	d.mu.Lock()
	port := cmp.Or(d.state.rtsp, rtspPort)
	d.mu.Unlock()
	switch {
	case d.is(streamsOverTLS):
		port = rtspsPort
	case d.is(streamsOverHTTP) || d.is(deadRTSP):
		return nil
	}
	l, err := d.host.listen(netip.AddrPortFrom(d.host.address(), port), ipv4.ProtocolNumber)
	if err != nil {
		return fmt.Errorf("%s: listen on port %d: %w", d.unit.ID, port, err)
	}
	if port == rtspsPort {
		l = tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{*selfSigned(d.unit)}})
	}
	d.mu.Lock()
	d.plays = l
	d.mu.Unlock()
	d.host.onDown(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			v := &viewer{d: d, c: c, in: c, nonce: randomHex(), session: randomHex()}
			go v.serve()
		}
	}()
	return nil
}

// portLate is how long a device takes until it plays at another port.
const portLate = 6 * time.Second

// restream plays at the port that is set by now, and no longer at the one before: whoever watches is
// cut off.
func (d *Device) restream() {
	d.mu.Lock()
	was, viewers := d.plays, slices.Clone(d.viewers)
	d.mu.Unlock()
	if was != nil {
		_ = was.Close()
	}
	for _, v := range viewers {
		_ = v.Close()
	}
	_ = d.serveStream() // one that is going down plays nothing
}

// listen takes connections at a port, also where earlier ones to it are still dying.
func (h *host) listen(at netip.AddrPort, network tcpip.NetworkProtocolNumber) (net.Listener, error) {
	var queue waiter.Queue
	h.mu.RLock()
	s := h.stack
	h.mu.RUnlock()
	if s == nil {
		return nil, errors.New("it is down")
	}
	ep, terr := s.NewEndpoint(tcp.ProtocolNumber, network, &queue)
	if terr != nil {
		return nil, errors.New(terr.String())
	}
	ep.SocketOptions().SetReuseAddress(true)
	if terr := ep.Bind(nic.Full(at)); terr != nil {
		ep.Close()
		return nil, errors.New(terr.String())
	}
	if terr := ep.Listen(16); terr != nil {
		ep.Close()
		return nil, errors.New(terr.String())
	}
	return gonet.NewTCPListener(s, &queue, ep), nil
}

func randomHex() string {
	var b [8]byte
	_, _ = rand.Read(b[:]) // never fails (crypto/rand)
	return hex.EncodeToString(b[:])
}

// viewer is one who watches a device's stream.
type viewer struct {
	d       *Device
	c       net.Conn  // what it is told
	in      io.Reader // what it asks
	nonce   string
	session string
	set     bool // up
	playing bool
}

// viewerIdle is how long a viewer may say nothing before it plays.
const viewerIdle = 30 * time.Second

func (v *viewer) serve() {
	defer func() {
		v.c.Close()
		v.d.mu.Lock()
		defer v.d.mu.Unlock()
		v.d.viewers = slices.DeleteFunc(v.d.viewers, func(c net.Conn) bool { return c == v.c })
	}()
	r := textproto.NewReader(bufio.NewReader(io.LimitReader(v.in, 1<<20)))
	for {
		if !v.playing {
			_ = v.c.SetReadDeadline(time.Now().Add(viewerIdle))
		}
		line, err := r.ReadLine()
		if err != nil {
			return
		}
		if strings.HasPrefix(line, "$") || line == "" {
			continue
		}
		header, err := r.ReadMIMEHeader()
		parts := strings.Fields(line)
		if err != nil || len(parts) != 3 || !strings.HasPrefix(parts[2], "RTSP/1.") {
			v.reply(nil, 400, "Bad Request", nil, "")
			return
		}
		if !v.take(parts[0], parts[1], header) {
			return
		}
	}
}

func (v *viewer) reply(header textproto.MIMEHeader, status int, words string, more []string, body string) {
	var b strings.Builder
	fmt.Fprintf(&b, "RTSP/1.0 %d %s\r\n", status, words)
	if seq := header.Get("CSeq"); seq != "" {
		fmt.Fprintf(&b, "CSeq: %s\r\n", seq)
	}
	for _, m := range more {
		b.WriteString(m + "\r\n")
	}
	if body != "" {
		fmt.Fprintf(&b, "Content-Type: application/sdp\r\nContent-Length: %d\r\n", len(body))
	}
	b.WriteString("\r\n" + body)
	_, _ = io.WriteString(v.c, b.String()) // the viewer may be gone
}

// take answers one request; false ends the connection.
func (v *viewer) take(method, uri string, h textproto.MIMEHeader) bool {
	if method == "OPTIONS" {
		v.reply(h, 200, "OK", []string{"Public: OPTIONS, DESCRIBE, SETUP, PLAY, GET_PARAMETER, TEARDOWN"}, "")
		return true
	}
	if !v.admit(method, uri, h) {
		if h.Get("Authorization") != "" {
			v.d.logs.add(Event{Host: v.d.unit.ID, What: EventRefusedViewer})
		}
		v.reply(h, 401, "Unauthorized", []string{fmt.Sprintf(`WWW-Authenticate: Digest realm="%s", nonce="%s", algorithm=MD5`, v.d.realm(), v.nonce)}, "")
		return true
	}
	if !strings.Contains(uri, streamPath) {
		v.reply(h, 404, "Not Found", nil, "")
		return true
	}
	session := "Session: " + v.session
	switch method {
	case "DESCRIBE":
		v.d.mu.Lock()
		blinded := v.d.blinded
		v.d.viewers = append(v.d.viewers, v.c)
		v.d.mu.Unlock()
		if blinded || v.d.is(blind) {
			v.reply(h, 404, "Not Found", nil, "")
			return true
		}
		at := v.d.host.address()
		v.reply(h, 200, "OK", []string{"Content-Base: " + strings.TrimSuffix(uri, "/") + "/"},
			fmt.Sprintf("v=0\r\no=- 1 1 IN IP4 %s\r\ns=still\r\nc=IN IP4 0.0.0.0\r\nt=0 0\r\nm=video 0 RTP/AVP 26\r\na=control:track1\r\na=framesize:26 %d-%d\r\n", at, stillWidth, stillHeight))
	case "SETUP":
		if !strings.Contains(h.Get("Transport"), "RTP/AVP/TCP") {
			v.reply(h, 461, "Unsupported Transport", nil, "")
			return true
		}
		v.set = true
		v.reply(h, 200, "OK", []string{"Transport: RTP/AVP/TCP;unicast;interleaved=0-1", session}, "")
	case "PLAY":
		if !v.set {
			v.reply(h, 455, "Method Not Valid in This State", nil, "")
			return true
		}
		v.reply(h, 200, "OK", []string{session, "Range: npt=0.000-"}, "")
		if !v.playing {
			v.playing = true
			_ = v.c.SetReadDeadline(time.Time{})
			go v.play()
		}
	case "GET_PARAMETER":
		v.reply(h, 200, "OK", []string{session}, "")
	case "TEARDOWN":
		v.reply(h, 200, "OK", []string{session}, "")
		return false
	default:
		v.reply(h, 501, "Not Implemented", nil, "")
	}
	return true
}

// admit checks HTTP Digest credentials, as RTSP has them (RFC 2326, 14; RFC 2617).
func (v *viewer) admit(method, uri string, h textproto.MIMEHeader) bool {
	cred, err := digest.ParseCredentials(h.Get("Authorization"))
	if err != nil || cred.Nonce != v.nonce {
		return false
	}
	v.d.mu.Lock()
	defer v.d.mu.Unlock()
	user, ok := v.d.state.users[cred.Username]
	chal := digest.Challenge{Realm: v.d.realm(), Nonce: v.nonce, Algorithm: "MD5"}
	want, err := digest.Digest(&chal, digest.Options{Method: method, URI: cred.URI, Username: cred.Username, Password: user.password})
	fits := ok && err == nil && want.Response == cred.Response
	if v.d.is(countsViewers) {
		switch {
		case v.d.shut():
			fits = false
		case fits:
			v.d.guard.wrong = 0
		default:
			if v.d.guard.wrong++; v.d.guard.wrong >= lockAfter {
				v.d.guard.locked = time.Now().Add(cmp.Or(v.d.unit.Lock, lockFor))
			}
		}
	}
	v.d.logs.add(Event{Host: v.d.unit.ID, From: peer(v.c), What: EventRead, Op: method, OK: fits})
	return fits
}

// play sends the still again and again.
func (v *viewer) play() {
	defer v.c.Close()
	seq, ssrc := uint16(0), uint32(0x51)
	for stamp := uint32(0); ; stamp += 90000 * uint32(stillEvery/time.Millisecond) / 1000 {
		picture := still()
		for _, packet := range picture.packets(&seq, stamp, ssrc) {
			frame := append([]byte{'$', 0, byte(len(packet) >> 8), byte(len(packet))}, packet...)
			if _, err := v.c.Write(frame); err != nil {
				return
			}
		}
		if !sleep(v.d.ctx, stillEvery) {
			return
		}
	}
}

// watch is a recorder at a camera: it plays the stream at a URI until ctx ends or the
// stream does. playing is told once the picture has come.
func watch(dial func(netip.AddrPort) (net.Conn, error), uri, user, password string, playing func()) error {
	c, uri, err := connect(dial, uri)
	if err != nil {
		return err
	}
	defer c.Close()
	w := &watcher{c: c, r: bufio.NewReader(c), user: user, password: password}
	track := strings.TrimSuffix(uri, "/") + "/track1"
	for _, step := range [][3]string{{"DESCRIBE", uri, "Accept: application/sdp"}, {"SETUP", track, "Transport: RTP/AVP/TCP;unicast;interleaved=0-1"}, {"PLAY", uri, ""}} {
		if err := w.ask(step[0], step[1], step[2]); err != nil {
			return err
		}
	}
	var head [4]byte
	for {
		_ = c.SetReadDeadline(time.Now().Add(viewerIdle))
		if _, err := io.ReadFull(w.r, head[:]); err != nil || head[0] != '$' {
			return fmt.Errorf("the stream ended")
		}
		if _, err := w.r.Discard(int(head[2])<<8 | int(head[3])); err != nil {
			return fmt.Errorf("the stream ended")
		}
		playing()
	}
}

type watcher struct {
	c              net.Conn
	r              *bufio.Reader
	user, password string
	seq            int
	chal           *digest.Challenge
	session        string
}

func (w *watcher) ask(method, uri, more string) error {
	for try := 0; ; try++ {
		w.seq++
		text := fmt.Sprintf("%s %s RTSP/1.0\r\nCSeq: %d\r\n", method, uri, w.seq)
		if more != "" {
			text += more + "\r\n"
		}
		if w.session != "" {
			text += "Session: " + w.session + "\r\n"
		}
		if w.chal != nil {
			cred, err := digest.Digest(w.chal, digest.Options{Method: method, URI: uri, Username: w.user, Password: w.password, Count: 1, Cnonce: randomHex()})
			if err != nil {
				return err
			}
			text += "Authorization: " + cred.String() + "\r\n"
		}
		_ = w.c.SetDeadline(time.Now().Add(5 * time.Second))
		if _, err := io.WriteString(w.c, text+"\r\n"); err != nil {
			return err
		}
		status, header, err := w.answer()
		switch {
		case err != nil:
			return fmt.Errorf("no answer")
		case status == 401 && try == 0:
			if w.chal, err = digest.ParseChallenge(header.Get("WWW-Authenticate")); err != nil {
				return fmt.Errorf("401 Unauthorized")
			}
			continue
		case status == 401:
			return fmt.Errorf("401 Unauthorized")
		case status != 200:
			return fmt.Errorf("status %d", status)
		}
		if s, _, _ := strings.Cut(header.Get("Session"), ";"); s != "" {
			w.session = s
		}
		return nil
	}
}

func (w *watcher) answer() (int, textproto.MIMEHeader, error) {
	r := textproto.NewReader(w.r)
	line, err := r.ReadLine()
	if err != nil {
		return 0, nil, err
	}
	parts := strings.Fields(line)
	if len(parts) < 2 {
		return 0, nil, io.ErrUnexpectedEOF
	}
	status, err := strconv.Atoi(parts[1])
	if err != nil {
		return 0, nil, err
	}
	header, err := r.ReadMIMEHeader()
	if err != nil {
		return 0, nil, err
	}
	n, _ := strconv.Atoi(header.Get("Content-Length"))
	_, err = w.r.Discard(min(max(n, 0), 1<<16))
	return status, header, err
}
