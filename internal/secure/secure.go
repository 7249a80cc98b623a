// Package secure is the one way in which devices are spoken to over TLS: as lenient as
// this platform can be made, since what is left otherwise is no encryption at all. It
// judges no certificate: devices sign their own. What protects is the path to one MAC,
// and that a change of the certificate is noticed; and how weak the encryption is gets
// told. The settings of the platform that it needs are in go.mod, under godebug.
package secure

import (
	"crypto/rsa"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"sync"
)

// ErrChanged is returned when a device shows another certificate in the middle of a conversation.
var ErrChanged = errors.New("another certificate is shown than the one that it is known by")

// Seen is what a device showed of its encryption. The zero value has seen nothing. It is
// safe for use by several goroutines.
type Seen struct {
	mu          sync.Mutex
	fingerprint string
	weak        []string
	leaf        *x509.Certificate
}

// Expect makes a Seen of one certificate, by its SHA-256 in hexadecimal: a handshake with
// any other ends before anything is said. "" expects none.
func Expect(fingerprint string) *Seen { return &Seen{fingerprint: fingerprint} }

// Fingerprint gives the SHA-256 of the certificate that was shown, hexadecimal, or "".
func (s *Seen) Fingerprint() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.fingerprint
}

// Leaf gives the certificate that was shown; nil if there was none.
func (s *Seen) Leaf() *x509.Certificate {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.leaf
}

// Weak says what is weak about the encryption, in the standards' words.
func (s *Seen) Weak() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.weak)
}

// Config gives the configuration for a device, which notes in s what it shows. All
// connections made with it must show the same certificate.
func Config(s *Seen) *tls.Config {
	var suites []uint16
	for _, c := range slices.Concat(tls.CipherSuites(), tls.InsecureCipherSuites()) {
		suites = append(suites, c.ID)
	}
	return &tls.Config{
		InsecureSkipVerify: true, //nolint:gosec // devices sign their own
		MinVersion:         tls.VersionTLS10,
		CipherSuites:       suites,
		VerifyConnection:   s.note,
	}
}

func (s *Seen) note(state tls.ConnectionState) error {
	if len(state.PeerCertificates) == 0 {
		return errors.New("the device shows no certificate")
	}
	cert := state.PeerCertificates[0]
	sum := sha256.Sum256(cert.Raw)
	fingerprint := hex.EncodeToString(sum[:])
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.fingerprint != "" && s.fingerprint != fingerprint {
		return ErrChanged
	}
	s.fingerprint, s.weak, s.leaf = fingerprint, weakness(state, cert), cert
	return nil
}

// soundRSA is the shortest RSA key that is not called weak (NIST SP 800-57 part 1, 5.6.1).
const soundRSA = 2048

func weakness(state tls.ConnectionState, cert *x509.Certificate) (out []string) {
	if state.Version < tls.VersionTLS12 {
		out = append(out, tls.VersionName(state.Version))
	}
	if slices.ContainsFunc(tls.InsecureCipherSuites(), func(c *tls.CipherSuite) bool { return c.ID == state.CipherSuite }) {
		out = append(out, tls.CipherSuiteName(state.CipherSuite))
	}
	if key, ok := cert.PublicKey.(*rsa.PublicKey); ok && key.N.BitLen() < soundRSA {
		out = append(out, fmt.Sprintf("RSA key of %d bits", key.N.BitLen()))
	}
	switch cert.SignatureAlgorithm {
	case x509.SHA1WithRSA, x509.ECDSAWithSHA1, x509.DSAWithSHA1, x509.MD5WithRSA, x509.MD2WithRSA:
		out = append(out, "certificate signed with "+cert.SignatureAlgorithm.String())
	}
	return out
}
