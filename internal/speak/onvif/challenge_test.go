package onvif

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
