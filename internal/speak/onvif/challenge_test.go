package onvif

import (
	"crypto/md5" //nolint:gosec // as the standard has it
	"crypto/sha256"
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/secret"
)

func TestStrongest(t *testing.T) {
	for name, c := range map[string]struct {
		headers []string
		nonce   string
		qop     bool
	}{
		"one":                         {[]string{`Digest realm="a, b", nonce="1", qop="auth"`}, "1", true},
		"SHA-256 before MD5":          {[]string{`Digest realm="x", nonce="1", qop="auth", algorithm=MD5`, `Digest realm="x", nonce="2", qop="auth", algorithm=SHA-256`}, "2", true},
		"qop before SHA-256":          {[]string{`Digest realm="x", nonce="1", algorithm=SHA-256`, `Digest realm="x", nonce="2", qop="auth", algorithm=MD5`}, "2", true},
		"both in one header":          {[]string{`Digest realm="x", nonce="1", Digest realm="x", nonce="2", qop="auth"`}, "2", true},
		"basic beside it":             {[]string{`Basic realm="x", digest realm="x",nonce="2",qop="auth"`}, "2", true},
		"spaces in the list":          {[]string{`Digest realm="x", nonce="2", qop="auth-int, auth"`}, "2", true},
		"odd spacing, order, case":    {[]string{`DIGEST  Nonce = "2" ,QOP = "auth",, Realm="x" , stale = FALSE,algorithm = "MD5" `}, "2", true},
		"values without quotes":       {[]string{`Digest realm=Quay, nonce=a/b+c==, qop=auth`}, "a/b+c==", true},
		"a parameter of its own":      {[]string{`Digest realm="x", x_power="9", nonce="2", qop="auth"`}, "2", true},
		"a session":                   {[]string{`Digest realm="x", nonce="2", qop="auth", algorithm=MD5-sess`}, "2", true},
		"what nobody can":             {[]string{`Digest realm="x", nonce="1", qop="auth", algorithm=TIGER`, `Digest realm="x", nonce="2", algorithm=MD5`}, "2", false},
		"Basic and Negotiate alone":   {[]string{`Negotiate, Basic realm="x"`}, "", false},
		"an empty qop":                {[]string{`Digest realm="x", nonce="2", qop=""`}, "2", false},
		"without qop, if that is all": {[]string{`Digest realm="x", nonce="1"`}, "1", false},
		"none":                        {[]string{`Basic realm="x"`}, "", false},
	} {
		chal, err := strongest(http.Header{"Www-Authenticate": c.headers})
		if c.nonce == "" {
			assert.Error(t, err, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, c.nonce, chal.Nonce, name)
		assert.Equal(t, c.qop, chal.SupportsQOP("auth"), name)
	}
}

func FuzzSplitChallenges(f *testing.F) {
	f.Add(`Digest realm="a, b", nonce="1", Basic realm="x"`)
	f.Fuzz(func(_ *testing.T, line string) { _, _ = strongest(http.Header{"Www-Authenticate": {line}}) })
}

// Every form is answered as RFC 7616, 3.4, has it; the response is worked out here anew.
func TestEveryFormOfDigestIsAnswered(t *testing.T) {
	const user, password = "admin", "Quay-side7"
	for name, challenge := range map[string]string{
		"MD5":                `Digest realm="r x", nonce="n1", qop="auth"`,
		"MD5 without qop":    `Digest realm="r x", nonce="n1"`,
		"MD5-sess":           `Digest realm="r x", nonce="n1", qop="auth", algorithm=MD5-sess`,
		"SHA-256":            `Digest realm="r x", nonce="n1", qop="auth", algorithm=SHA-256, opaque="o"`,
		"SHA-256-sess":       `Digest realm="r x", nonce="n1", qop="auth,auth-int", algorithm="SHA-256-sess"`,
		"MD5-sess by octets": `Digest realm="r x", nonce="n1", qop="auth", algorithm=MD5-sess`,
		"odd, and in a list": `Basic realm="no", DIGEST Qop = auth , nonce= n1,realm="r x"`,
	} {
		t.Run(name, func(t *testing.T) {
			offered, opened := 0, 0
			stale := strings.Contains(name, "sess")
			cl := stub(t, func(w http.ResponseWriter, r *http.Request, op, _ string) {
				if strings.Contains(name, "octets") {
					w.Header().Set("Server", "gSOAP/2.8")
				}
				auth := r.Header.Get("Authorization")
				switch {
				case op == "GetSystemDateAndTime":
					send(w, 200, clockAnswer)
					return
				case auth != "":
					offered++
					p := map[string]string{}
					for _, m := range regexp.MustCompile(`(\w+)=(?:"([^"]*)"|([^,]*))`).FindAllStringSubmatch(auth, -1) {
						p[m[1]] = m[2] + m[3]
					}
					sum := func(s string) string { return fmt.Sprintf("%x", md5.Sum([]byte(s))) }
					if strings.HasPrefix(p["algorithm"], "SHA-256") {
						sum = func(s string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(s))) }
					}
					octets := strings.Contains(name, "octets")
					a1 := sum(user + ":r x:" + password)
					if octets {
						raw := md5.Sum([]byte(user + ":r x:" + password))
						a1 = string(raw[:])
					}
					if strings.HasSuffix(p["algorithm"], "-sess") {
						a1 = sum(a1 + ":" + p["nonce"] + ":" + p["cnonce"])
					}
					a2, middle := sum("POST:"+p["uri"]), p["nonce"]
					if p["qop"] != "" {
						middle += ":" + p["nc"] + ":" + p["cnonce"] + ":" + p["qop"]
					}
					if p["response"] == sum(a1+":"+middle+":"+a2) && (!stale || opened < 2 || p["nonce"] == "n2") {
						opened++
						send(w, 200, usersAnswer)
						return
					}
				}
				if opened > 0 { // its nonce is used up
					w.Header().Set("WWW-Authenticate", strings.Replace(challenge, `nonce="n1"`, `stale=true, nonce="n2"`, 1))
				} else {
					w.Header().Set("WWW-Authenticate", challenge)
				}
				send(w, 401, refusal)
			})
			ok, err := cl.Enter(t.Context(), user, secret.New(password))
			require.NoError(t, err)
			assert.True(t, ok)
			assert.Equal(t, 1, offered, "offered once")
			for range 3 {
				_, err = cl.listUsers(t.Context())
				require.NoError(t, err)
			}
			assert.Equal(t, 4, opened)
		})
	}
}

// A realm goes into the hash by the octets that it came in: a tab in it, or Latin-1, is part
// of it, while white space around it may be tabs.
func TestARealmIsItsOctets(t *testing.T) {
	for _, realm := range []string{"a\tb", "Caf\xe9", "  two  spaces "} {
		h := http.Header{"Www-Authenticate": {"Digest\trealm=\"" + realm + "\",\tnonce=\"n\", qop=\"auth\""}}
		c, err := strongest(h)
		require.NoError(t, err, "%q", realm)
		assert.Equal(t, realm, c.Realm)
	}
}

// And it goes back as those octets.
func TestARealmGoesBackAsItCame(t *testing.T) {
	const realm = "Caf\xe9\tquay"
	var asked string
	cl := stub(t, func(w http.ResponseWriter, r *http.Request, op, _ string) {
		switch asked = r.Header.Get("Authorization"); {
		case op == "GetSystemDateAndTime":
			send(w, 200, clockAnswer)
		case asked == "":
			w.Header().Set("WWW-Authenticate", `Digest realm="`+realm+`", qop="auth", nonce="n", algorithm=MD5`)
			send(w, 401, refusal)
		default:
			send(w, 200, usersAnswer)
		}
	})
	ok, err := cl.Enter(t.Context(), "admin", secret.New("Quay-side7"))
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Contains(t, asked, `realm="`+realm+`"`)
}
