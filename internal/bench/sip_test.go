package bench

import (
	"net"
	"strings"
	"testing"
	"time"

	"github.com/emiago/sipgo/sip"
	"github.com/icholy/digest"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/speak/hail"
)

// paper is a socket that keeps what is written.
type paper struct {
	net.PacketConn
	sent []string
}

func (p *paper) WriteTo(b []byte, _ net.Addr) (int, error) {
	p.sent = append(p.sent, string(b))
	return len(b), nil
}

func doorPhone(t testing.TB) (*phone, *paper) {
	s, err := Parse([]byte("site: x\ndevices: [{id: d, model: oakhollow-door, mac: \"02:0a:c0:00:05:01\", serial: OPS1}]\n"))
	require.NoError(t, err)
	d := newDevice(t.Context(), NewSwitch(0, 0, 1), s.Devices[0], NewLog(nil))
	d.state.hail.pairs = []hail.Pair{{Serial: "OHH1", Flat: "101", Secret: "s3cret"}}
	out := &paper{}
	return &phone{d: d, c: out, nonces: map[string]time.Time{}, answers: map[string]chan *sip.Response{}}, out
}

const registering = "REGISTER sip:10.61.8.31 SIP/2.0\r\nVia: SIP/2.0/UDP 10.61.8.32:5060;branch=z9hG4bK1\r\nMax-Forwards: 70\r\nFrom: <sip:101@10.61.8.31>;tag=a\r\nTo: <sip:101@10.61.8.31>\r\n" +
	"Call-ID: c1\r\nCSeq: 1 REGISTER\r\nContact: <sip:101@10.61.8.32:5060>\r\nExpires: 12\r\n"

// A registration is taken with the pair's secret alone, and a challenge of one's own.
func TestARegistrationNeedsThePairsSecret(t *testing.T) {
	p, out := doorPhone(t)
	say := func(more string) string {
		p.take([]byte(registering+more+"Content-Length: 0\r\n\r\n"), nil)
		require.NotEmpty(t, out.sent)
		return out.sent[len(out.sent)-1]
	}
	answer := func(challenge, secret string) string {
		_, text, _ := strings.Cut(challenge, "WWW-Authenticate: ")
		text, _, _ = strings.Cut(text, "\r\n")
		c, err := digest.ParseChallenge(text)
		require.NoError(t, err)
		cred, err := digest.Digest(c, digest.Options{Method: "REGISTER", URI: "sip:10.61.8.31", Username: "101", Password: secret, Count: 1})
		require.NoError(t, err)
		return "Authorization: " + cred.String() + "\r\n"
	}
	first := say("")
	assert.Contains(t, first, "SIP/2.0 401")
	assert.Contains(t, first, "branch=z9hG4bK1")
	assert.Contains(t, say(answer(first, "other")), "SIP/2.0 401")
	assert.Equal(t, "it offered another secret", p.d.state.hail.pairs[0].Why)
	assert.Zero(t, p.d.Paired())
	right := answer(first, "s3cret")
	assert.Contains(t, say(right), "SIP/2.0 200")
	assert.Equal(t, 1, p.d.Paired())
	for nonce := range p.nonces {
		delete(p.nonces, nonce)
	}
	assert.Contains(t, say(right), "SIP/2.0 401", "by a challenge that is not its own")
	p.take([]byte(strings.Replace(registering, "101@10.61.8.31>\r\nCall", "999@10.61.8.31>\r\nCall", 1)+"Content-Length: 0\r\n\r\n"), nil)
	assert.Contains(t, out.sent[len(out.sent)-1], "SIP/2.0 404")
	p.take([]byte(strings.ReplaceAll(registering, "REGISTER", "OPTIONS")+"Content-Length: 0\r\n\r\n"), nil)
	assert.Contains(t, out.sent[len(out.sent)-1], "SIP/2.0 200")
}

func FuzzSIP(f *testing.F) {
	p, out := doorPhone(f)
	f.Add([]byte(registering + "Content-Length: 0\r\n\r\n"))
	f.Add([]byte("SIP/2.0 200 OK\r\nVia: SIP/2.0/UDP h;branch=z9hG4bK1\r\n\r\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		out.sent = nil
		p.take(data, nil)
		if p.d.Paired() != 0 || len(out.sent) > 1 {
			t.Fatalf("%q", out.sent)
		}
	})
}
