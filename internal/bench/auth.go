package bench

import (
	"cmp"
	"crypto/rand"
	"crypto/sha1" //nolint:gosec // the UsernameToken profile demands SHA-1
	"encoding/base64"
	"encoding/hex"
	"net/http"
	"strings"
	"time"

	"github.com/icholy/digest"
)

// Limits of a device's own guard.
const (
	tokenWindow = 30 * time.Second // how far a token's time may be off the device's clock
	lockAfter   = 5                // wrong passwords in a row
	lockFor     = 30 * time.Minute
)

// guard checks who sends a request. The device's lock is held.
type guard struct {
	nonces map[string]bool // used tokens
	issued map[string]bool // digest nonces given out
	stale  bool            // one that was used up came again, or may
	wrong  int
	locked time.Time // until
}

// verdict is what a guard makes of a request's credentials.
type verdict int

const (
	nobody  verdict = iota // none were sent
	welcome                // they fit
	wrong                  // they do not
)

// check judges a request. Passwords wrong in a row lock the device.
// With a welcome goes the user's level.
func (d *Device) check(r *http.Request, header *element) (v verdict, level string) {
	v, offered, user := d.judge(r, header)
	switch {
	case v == nobody:
		return nobody, ""
	case d.shut():
		d.log(r, EventLocked, "", false)
		return wrong, ""
	case v == welcome:
		d.guard.wrong = 0
		d.log(r, EventPassword, offered, true)
	default:
		d.guard.wrong++
		d.log(r, EventWrongPassword, offered, false)
		if d.guard.wrong >= lockAfter || d.is(locksAtThree) && d.guard.wrong >= 3 {
			d.guard.locked = time.Now().Add(cmp.Or(d.unit.Lock, lockFor))
		}
	}
	return v, d.state.users[user].level
}

// shut reports whether the device is locked. Its lock is held.
func (d *Device) shut() bool { return time.Now().Before(d.guard.locked) }

func (d *Device) judge(r *http.Request, header *element) (v verdict, offered, user string) {
	if auth := r.Header.Get("Authorization"); auth != "" && d.unit.model.Auth != "token" {
		v, user = d.judgeDigest(r, auth)
		return v, "digest", user
	}
	token := header.find("Security", "UsernameToken")
	if token.XMLName.Local != "" && (d.unit.model.Auth == "token" || d.unit.model.Auth == "any") {
		return d.judgeToken(token), "token", token.find("Username").value()
	}
	return nobody, "", ""
}

// judgeToken checks a WS-Security UsernameToken with password digest.
func (d *Device) judgeToken(token *element) verdict {
	user, ok := d.state.users[token.find("Username").value()]
	created := token.find("Created").value()
	nonce, err := base64.StdEncoding.DecodeString(token.find("Nonce").value())
	at, terr := time.Parse(time.RFC3339, created)
	if !ok || err != nil || terr != nil || len(nonce) == 0 {
		return wrong
	}
	if at.Sub(d.clock()).Abs() > tokenWindow || d.guard.nonces[string(nonce)] {
		return wrong
	}
	h := sha1.New() //nolint:gosec // as above
	h.Write(nonce)
	h.Write([]byte(created + user.password))
	if base64.StdEncoding.EncodeToString(h.Sum(nil)) != token.find("Password").value() {
		return wrong
	}
	d.guard.nonces[string(nonce)] = true
	return welcome
}

// judgeDigest checks HTTP Digest credentials (RFC 7616).
func (d *Device) judgeDigest(r *http.Request, auth string) (v verdict, name string) {
	cred, err := digest.ParseCredentials(auth)
	if err != nil || !d.guard.issued[cred.Nonce] {
		return nobody, "" // stale or garbled: ask again
	}
	if d.is(nonceOnce) || d.is(nonceStale) {
		delete(d.guard.issued, cred.Nonce)
		d.guard.stale = true
	}
	user, ok := d.state.users[cred.Username]
	if !ok || cred.URI != r.URL.RequestURI() {
		return wrong, ""
	}
	if d.is(sessionDigest) {
		if cred.Algorithm != "MD5-sess" || cred.Response != session(cred, d.realm(), r.Method, user.password) {
			return wrong, ""
		}
		return welcome, cred.Username
	}
	chal := digest.Challenge{Realm: d.realm(), Nonce: cred.Nonce, Algorithm: cmp.Or(cred.Algorithm, "MD5"), QOP: []string{"auth"}}
	if d.is(noQOP) {
		chal.QOP = nil // RFC 2617, 3.2.2.1
	}
	if d.is(opaque) && cred.Opaque != opaqueText {
		return nobody, ""
	}
	want, err := digest.Digest(&chal, digest.Options{
		Method: r.Method, URI: cred.URI, Count: cred.Nc, Username: cred.Username, Password: user.password, Cnonce: cred.Cnonce,
	})
	if err != nil || want.Response != cred.Response {
		return wrong, ""
	}
	return welcome, cred.Username
}

func (d *Device) realm() string {
	if d.is(oddRealm) {
		return `Türe 7, "rev=B", nonce=` + d.unit.Serial
	}
	return d.unit.model.Make + " " + d.unit.Serial
}

// challenge adds the WWW-Authenticate headers of a device that wants HTTP Digest.
func (d *Device) challenge(h http.Header) bool {
	var algorithms []string
	switch d.unit.model.Auth {
	case "md5":
		algorithms = []string{"MD5"}
	case "sha256":
		algorithms = []string{"SHA-256"}
	case "both", "any":
		algorithms = []string{"MD5", "SHA-256"}
	default:
		return false
	}
	if d.is(sessionDigest) {
		algorithms = []string{"MD5-sess"}
	}
	raw := make([]byte, 12)
	_, _ = rand.Read(raw) // never fails
	nonce := hex.EncodeToString(raw)
	d.guard.issued[nonce] = true
	stale := ""
	if d.is(nonceStale) && d.guard.stale {
		stale = ", stale=TRUE"
	}
	for _, a := range algorithms {
		said := strings.Join([]string{
			`realm="` + strings.ReplaceAll(d.realm(), `"`, `\"`) + `"`, `qop="auth"`, `nonce="` + nonce + `"`, "algorithm=" + a + stale,
		}, ", ")
		all := []string{"Digest " + said}
		for _, name := range d.unit.Manners {
			if m := manners[name]; m.login != nil {
				all = m.login(said)
			}
		}
		for _, c := range all {
			h.Add("WWW-Authenticate", c)
		}
	}
	return true
}
