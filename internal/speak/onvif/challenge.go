package onvif

import (
	"net/http"
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
			chal, err := digest.ParseChallenge(one)
			if err != nil {
				continue
			}
			for i, q := range chal.QOP { // a list may have spaces in it (RFC 7616, 3.3)
				chal.QOP[i] = strings.ToLower(strings.TrimSpace(q))
			}
			if !digest.CanDigest(chal) {
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
		p = strings.TrimSpace(p)
		name, _, _ := strings.Cut(p, "=")
		switch {
		case p == "":
		case strings.ContainsAny(strings.TrimSpace(name), " \t") || len(out) == 0:
			scheme, rest, _ := strings.Cut(strings.ReplaceAll(p, "\t", " "), " ")
			if strings.EqualFold(scheme, "Digest") {
				scheme = "Digest"
			}
			out = append(out, scheme+" "+strings.TrimSpace(rest))
		default:
			out[len(out)-1] += ", " + p
		}
	}
	return out
}
