package bench

import (
	"crypto/md5" //nolint:gosec // SIP's digest of RFC 3261 (22) is MD5
	"crypto/subtle"
	"encoding/hex"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/emiago/sipgo/sip"
	"github.com/icholy/digest"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"

	"janustat/internal/speak/hail"
)

// Times of SIP (RFC 3261): of a retransmission (17.1.2.2), how often a station registers
// anew, how long that holds, and after what time without an answer it gives up for now.
const (
	sipPort       = 5060
	sipT1         = 500 * time.Millisecond
	sipAgain      = 4 * time.Second
	sipExpires    = 12 * time.Second
	sipPatience   = 3 * time.Second
	maxSIPMessage = 8 << 10
)

// phone is the SIP end of a station: a door station keeps the registrations of indoor
// ones (RFC 3261, 10.3), which keep themselves registered (10.2).
type phone struct {
	d       *Device
	c       net.PacketConn
	own     netip.Addr
	mu      sync.Mutex
	nonces  map[string]time.Time
	answers map[string]chan *sip.Response // by branch
	seq     uint32
}

// startPhone has a station speak SIP.
func (d *Device) startPhone() error {
	kind := d.unit.model.Kind
	if kind != "door-station" && kind != "indoor-station" || !d.host.address().IsValid() {
		return nil
	}
	c, err := d.host.bindUDP(ipv4.ProtocolNumber, sipPort)
	if err != nil {
		return fmt.Errorf("%s: listen on UDP port %d: %s", d.unit.ID, sipPort, err)
	}
	p := &phone{d: d, c: c, own: d.host.address(), nonces: map[string]time.Time{}, answers: map[string]chan *sip.Response{}}
	down := make(chan struct{})
	d.host.onDown(func() {
		close(down)
		_ = c.Close()
	})
	go p.listen(down)
	if kind == "indoor-station" {
		go p.register(down)
	} else {
		go p.expire(down)
	}
	return nil
}

func (p *phone) listen(down <-chan struct{}) {
	buf := make([]byte, maxSIPMessage)
	for {
		n, from, err := p.c.ReadFrom(buf)
		select {
		case <-down:
			return
		default:
		}
		if err != nil {
			continue // an earlier answer could not be delivered: the socket tells it here once
		}
		p.take(slices.Clone(buf[:n]), from)
	}
}

// take takes one datagram.
func (p *phone) take(data []byte, from net.Addr) {
	m, err := parseSIP(data)
	if err != nil {
		return
	}
	switch m := m.(type) {
	case *sip.Request:
		p.answer(m, from)
	case *sip.Response:
		via := m.Via()
		if via == nil || via.Params == nil {
			return
		}
		branch, _ := via.Params.Get("branch")
		p.mu.Lock()
		to := p.answers[branch]
		p.mu.Unlock()
		if to != nil {
			select {
			case to <- m:
			default:
			}
		}
	}
}

// parseSIP reads a message; what the parser does not withstand is no message.
func parseSIP(data []byte) (m sip.Message, err error) {
	defer func() {
		if r := recover(); r != nil {
			m, err = nil, fmt.Errorf("no SIP message")
		}
	}()
	return sip.ParseMessage(data)
}

// answer answers a request, without keeping a transaction: each retransmission is
// answered again.
func (p *phone) answer(r *sip.Request, from net.Addr) {
	send := func(status int, words string, more ...sip.Header) {
		res := sip.NewResponseFromRequest(r, status, words, nil)
		for _, h := range more {
			res.AppendHeader(h)
		}
		_, _ = p.c.WriteTo([]byte(res.String()), from) // asked again if it is lost
	}
	switch {
	case r.Method == sip.ACK:
	case r.Via() == nil || r.From() == nil || r.To() == nil || r.CallID() == nil || r.CSeq() == nil:
	case r.Method == sip.OPTIONS:
		send(200, "OK", sip.NewHeader("Allow", "INVITE, ACK, BYE, CANCEL, OPTIONS, REGISTER"), sip.NewHeader("Accept", "application/sdp"))
	case r.Method == sip.REGISTER && p.d.unit.model.Kind == "door-station":
		p.registrar(r, send)
	case r.Method == sip.INVITE:
		send(486, "Busy Here")
	default:
		send(405, "Method Not Allowed", sip.NewHeader("Allow", "OPTIONS, REGISTER"))
	}
}

// registrar takes a registration: the user is the flat, and the secret that of the pair.
func (p *phone) registrar(r *sip.Request, send func(int, string, ...sip.Header)) {
	flat := r.To().Address.User
	p.d.mu.Lock()
	defer p.d.mu.Unlock()
	at := slices.IndexFunc(p.d.state.hail.pairs, func(x hail.Pair) bool { return x.Flat == flat && !x.Door })
	if at < 0 {
		send(404, "Not Found")
		return
	}
	pair := &p.d.state.hail.pairs[at]
	h := r.GetHeader("Authorization")
	if h == nil || !p.proves(h.Value(), string(r.Method), flat, pair.Secret) {
		if h != nil {
			pair.Why = "it offered another secret"
		}
		nonce := randomHex()
		p.mu.Lock()
		p.nonces[nonce] = time.Now()
		p.mu.Unlock()
		send(401, "Unauthorized", sip.NewHeader("WWW-Authenticate", fmt.Sprintf(`Digest realm="%s", nonce="%s", algorithm=MD5, qop="auth"`, p.d.unit.Serial, nonce)))
		return
	}
	pair.Registered, pair.Why = true, ""
	p.d.until(pair.Serial, time.Now().Add(sipExpires))
	send(200, "OK", sip.NewHeader("Expires", fmt.Sprint(int(sipExpires/time.Second))))
}

// proves checks a digest (RFC 3261, 22.4; RFC 2617, 3.2.2).
func (p *phone) proves(header, method, user, password string) bool {
	c, err := digest.ParseCredentials(header)
	if err != nil || c.Username != user {
		return false
	}
	p.mu.Lock()
	given, ok := p.nonces[c.Nonce]
	p.mu.Unlock()
	if !ok || time.Since(given) > time.Minute {
		return false
	}
	sum := func(text string) string {
		h := md5.Sum([]byte(text)) //nolint:gosec // as above
		return hex.EncodeToString(h[:])
	}
	a1, a2 := sum(user+":"+p.d.unit.Serial+":"+password), sum(method+":"+c.URI)
	want := sum(strings.Join([]string{a1, c.Nonce, fmt.Sprintf("%08x", c.Nc), c.Cnonce, c.QOP, a2}, ":"))
	return subtle.ConstantTimeCompare([]byte(want), []byte(c.Response)) == 1
}

// until notes how long a registration holds. The lock is held.
func (d *Device) until(serial string, at time.Time) {
	if d.registered == nil {
		d.registered = map[string]time.Time{}
	}
	d.registered[serial] = at
}

// expire takes back registrations that were not made anew.
func (p *phone) expire(down <-chan struct{}) {
	p.d.mu.Lock()
	for i := range p.d.state.hail.pairs {
		p.d.state.hail.pairs[i].Registered = false
	}
	p.d.mu.Unlock()
	for {
		select {
		case <-down:
			return
		case <-p.d.ctx.Done():
			return
		case <-time.After(time.Second):
		}
		p.d.mu.Lock()
		for i := range p.d.state.hail.pairs {
			if x := &p.d.state.hail.pairs[i]; x.Registered && time.Now().After(p.d.registered[x.Serial]) {
				x.Registered, x.Why = false, "it registers no more"
			}
		}
		p.d.mu.Unlock()
		p.mu.Lock()
		for n, at := range p.nonces {
			if time.Since(at) > time.Minute {
				delete(p.nonces, n)
			}
		}
		p.mu.Unlock()
	}
}

// register keeps an indoor station registered with the door stations that it knows.
func (p *phone) register(down <-chan struct{}) {
	for {
		p.d.mu.Lock()
		pairs := slices.Clone(p.d.state.hail.pairs)
		p.d.mu.Unlock()
		for _, x := range pairs {
			if !x.Door {
				continue
			}
			why := p.registerWith(x)
			p.d.mu.Lock()
			for i := range p.d.state.hail.pairs {
				if now := &p.d.state.hail.pairs[i]; now.Serial == x.Serial && now.Secret == x.Secret {
					now.Registered, now.Why = why == "", why
				}
			}
			p.d.mu.Unlock()
		}
		select {
		case <-down:
			return
		case <-p.d.ctx.Done():
			return
		case <-p.d.paired:
		case <-time.After(sipAgain):
		}
	}
}

// registerWith registers once, and says why it failed, or "".
func (p *phone) registerWith(x hail.Pair) string {
	callID, tag := randomHex(), randomHex()
	proof := ""
	for range 2 {
		p.seq++
		branch := "z9hG4bK" + randomHex() // RFC 3261, 8.1.1.7
		uri := "sip:" + x.Address.String()
		aor := fmt.Sprintf("<sip:%s@%s>", x.Flat, x.Address)
		text := fmt.Sprintf("REGISTER %s SIP/2.0\r\nVia: SIP/2.0/UDP %s:%d;branch=%s\r\nMax-Forwards: 70\r\nFrom: %s;tag=%s\r\nTo: %s\r\nCall-ID: %s\r\nCSeq: %d REGISTER\r\nContact: <sip:%s@%s:%d>\r\nExpires: %d\r\n",
			uri, p.own, sipPort, branch, aor, tag, aor, callID, p.seq, x.Flat, p.own, sipPort, int(sipExpires/time.Second))
		if proof != "" {
			text += "Authorization: " + proof + "\r\n"
		}
		res := p.ask(netip.AddrPortFrom(x.Address, sipPort), branch, text+"Content-Length: 0\r\n\r\n")
		switch {
		case res == nil:
			return "no answer from the door station"
		case res.StatusCode == 200:
			return ""
		case res.StatusCode != 401 || proof != "":
			return fmt.Sprintf("refused by the door station: %d %s", res.StatusCode, res.Reason)
		}
		h := res.GetHeader("WWW-Authenticate")
		if h == nil {
			return "refused by the door station"
		}
		chal, err := digest.ParseChallenge(h.Value())
		if err != nil {
			return "refused by the door station"
		}
		cred, err := digest.Digest(chal, digest.Options{Method: "REGISTER", URI: uri, Username: x.Flat, Password: x.Secret, Count: 1, Cnonce: randomHex()})
		if err != nil {
			return "refused by the door station"
		}
		proof = cred.String()
	}
	return "refused by the door station"
}

// ask sends a request until it is answered (RFC 3261, 17.1.2.2); nil when it is not.
func (p *phone) ask(to netip.AddrPort, branch, text string) *sip.Response {
	answered := make(chan *sip.Response, 1)
	p.mu.Lock()
	p.answers[branch] = answered
	p.mu.Unlock()
	defer func() {
		p.mu.Lock()
		delete(p.answers, branch)
		p.mu.Unlock()
	}()
	begun := time.Now()
	for wait := sipT1; time.Since(begun) < sipPatience; wait *= 2 {
		if _, err := p.c.WriteTo([]byte(text), net.UDPAddrFromAddrPort(to)); err != nil {
			return nil
		}
		select {
		case r := <-answered:
			return r
		case <-time.After(wait):
		case <-p.d.ctx.Done():
			return nil
		}
	}
	return nil
}
