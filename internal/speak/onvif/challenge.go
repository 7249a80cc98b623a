package onvif

import (
	"crypto/md5" //nolint:gosec // what devices ask for
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"hash"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/icholy/digest"
)

// strongest picks one of the challenges for HTTP Digest that a device offers: one with a
// quality of protection before one without, since only with that a nonce of ours goes
// into the answer, which a host could otherwise choose all of; then SHA-256 before MD5
// (RFC 7616, 3.3 and 3.7).
func strongest(h http.Header) (*digest.Challenge, error) {
	var best *digest.Challenge
	worth := -1
	for _, line := range h.Values("WWW-Authenticate") {
		for _, one := range splitChallenges(line) {
			chal, err := digest.ParseChallenge(widened(one))
			if err != nil {
				continue
			}
			for _, text := range []*string{&chal.Realm, &chal.Nonce, &chal.Opaque} {
				*text = narrowed(*text)
			}
			for i, q := range chal.QOP { // a list may have spaces in it (RFC 7616, 3.3)
				chal.QOP[i] = strings.ToLower(strings.TrimSpace(q))
			}
			chal.QOP = slices.DeleteFunc(chal.QOP, func(q string) bool { return q == "" })
			base := *chal
			base.Algorithm = withoutSession(chal.Algorithm)
			if !digest.CanDigest(&base) {
				continue
			}
			n := 0
			if chal.SupportsQOP("auth") || chal.SupportsQOP("auth-int") {
				n += 2
			}
			if strings.HasPrefix(strings.ToUpper(chal.Algorithm), "SHA-256") {
				n++
			}
			if n > worth {
				best, worth = chal, n
			}
		}
	}
	if best == nil {
		return nil, digest.ErrNoChallenge
	}
	return best, nil
}

// widened makes letters of octets, so that what reads a challenge as text leaves them alone,
// and narrowed makes the octets of them again: what is hashed is what came.
func widened(s string) string {
	wide := make([]rune, len(s))
	for i := range len(s) {
		wide[i] = rune(s[i])
	}
	return string(wide)
}

func narrowed(s string) string {
	out := make([]byte, 0, len(s))
	for _, r := range s {
		if r > 0xff {
			return s
		}
		out = append(out, byte(r))
	}
	return string(out)
}

// splitChallenges parts the challenges in one header, which are separated by commas as
// their own parameters are (RFC 9110, 11.6.1): a part that begins with a scheme and a
// space begins a challenge.
func splitChallenges(line string) (out []string) {
	var parts []string
	quoted, escaped, from := false, false, 0
	for i := 0; i < len(line); i++ {
		switch c := line[i]; {
		case escaped:
			escaped = false
		case quoted && c == '\\':
			escaped = true
		case c == '"':
			quoted = !quoted
		case c == ',' && !quoted:
			parts, from = append(parts, line[from:i]), i+1
		}
	}
	for _, p := range append(parts, line[from:]) {
		// White space may be tabs (RFC 9110, 5.6.3), but for what is quoted: a realm goes into
		// the hash by the octets that it came in.
		p = strings.TrimSpace(p)
		name, value, given := strings.Cut(p, "=")
		name = strings.TrimSpace(strings.ReplaceAll(name, "\t", " "))
		if !given {
			p = name
		}
		if scheme, first, begins := strings.Cut(name, " "); begins || !given && p != "" || len(out) == 0 && p != "" {
			if !begins && given { // a parameter of nothing
				continue
			}
			if strings.EqualFold(scheme, "Digest") {
				scheme = "Digest"
			}
			out = append(out, scheme+" ")
			name = strings.TrimSpace(first)
		}
		// Names are in any case, and values quoted or not, whatever the standard has for
		// each (RFC 7616, 3.3). Names that are not known are passed over.
		name = strings.ToLower(name)
		if !given || !slices.Contains(parameters, name) {
			continue
		}
		value = strings.TrimSpace(value)
		if !strings.HasPrefix(value, `"`) {
			value = `"` + strings.ReplaceAll(value, `"`, "") + `"`
		}
		last := len(out) - 1
		if !strings.HasSuffix(out[last], " ") {
			out[last] += ", "
		}
		out[last] += name + "=" + value
	}
	return out
}

// parameters are those of a challenge that say something (RFC 7616, 3.3).
var parameters = []string{"realm", "domain", "nonce", "opaque", "stale", "algorithm", "qop", "charset", "userhash"}

// sessionSuffix marks the algorithms that hash a nonce of each side into the key
// (RFC 7616, 3.4.2).
const sessionSuffix = "-sess"

func withoutSession(algorithm string) string {
	if n := len(algorithm) - len(sessionSuffix); n >= 0 && strings.EqualFold(algorithm[n:], sessionSuffix) {
		return algorithm[:n]
	}
	return algorithm
}

// respond makes credentials for a challenge, those of a session too. cnonce is the same
// for all requests of a client, as the key of a session demands. server is what the
// device says of its software.
func respond(cnonce, server string) func(*digest.Challenge, digest.Options) (*digest.Credentials, error) {
	return func(chal *digest.Challenge, o digest.Options) (*digest.Credentials, error) {
		base := *chal
		if base.Algorithm = withoutSession(chal.Algorithm); base.Algorithm != chal.Algorithm {
			o.Cnonce, o.A1 = cnonce, sessionKey(base.Algorithm, hashesOctets(server), o.Username, chal.Realm, o.Password, chal.Nonce, cnonce)
		}
		cred, err := digest.Digest(&base, o)
		if err != nil {
			return nil, err
		}
		cred.Algorithm = chal.Algorithm
		if base.Algorithm != chal.Algorithm {
			cred.Cnonce = cnonce
		}
		return cred, nil
	}
}

// hashesOctets reports whether a server takes the inner hash of a session's key as
// octets, as the code in RFC 2617, 5, has it, and not as the digits that its text and RFC
// 7616 mean. To try both would offer a wrong password.
func hashesOctets(server string) bool { return strings.Contains(strings.ToLower(server), "gsoap") }

// sessionKey is H(H(user:realm:password):nonce:cnonce) (RFC 7616, 3.4.2).
func sessionKey(algorithm string, octets bool, user, realm, password, nonce, cnonce string) string {
	sum := func(s string) string {
		var h hash.Hash
		switch strings.ToUpper(algorithm) {
		case "SHA-256":
			h = sha256.New()
		case "SHA-512-256":
			h = sha512.New512_256()
		case "SHA-512":
			h = sha512.New()
		default:
			h = md5.New() //nolint:gosec // what the device asks for
		}
		h.Write([]byte(s))
		return string(h.Sum(nil))
	}
	inner := sum(user + ":" + realm + ":" + password)
	if !octets {
		inner = hex.EncodeToString([]byte(inner))
	}
	return hex.EncodeToString([]byte(sum(inner + ":" + nonce + ":" + cnonce)))
}

// asItCame sends credentials with their texts as octets. The library writes quoted strings
// as Go has them, in which an octet that is no UTF-8, or a tab, becomes letters.
type asItCame struct{ http.RoundTripper }

var quotedString = regexp.MustCompile(`"(?:[^"\\]|\\.)*"`)

// RoundTrip implements http.RoundTripper.
func (t asItCame) RoundTrip(r *http.Request) (*http.Response, error) {
	if auth := r.Header.Get("Authorization"); strings.Contains(auth, `\`) {
		r = r.Clone(r.Context())
		r.Header.Set("Authorization", quotedString.ReplaceAllStringFunc(auth, func(q string) string {
			plain, err := strconv.Unquote(q)
			if err != nil {
				return q
			}
			// RFC 9110, 5.6.4: only these two are escaped.
			return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(plain) + `"`
		}))
	}
	return t.RoundTripper.RoundTrip(r)
}
