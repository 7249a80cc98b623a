package secure

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"io"
	"math/big"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func selfSigned(t *testing.T, key crypto.Signer, algorithm x509.SignatureAlgorithm, serial int64) tls.Certificate {
	about := x509.Certificate{
		SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: "camera"}, SignatureAlgorithm: algorithm,
		NotBefore: time.Now().Add(-2 * time.Hour), NotAfter: time.Now().Add(-time.Hour), // and it is over
	}
	der, err := x509.CreateCertificate(rand.Reader, &about, &about, key.Public(), key)
	require.NoError(t, err)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

// shake makes a connection to a server that has only this much to offer.
func shake(t *testing.T, seen *Seen, cert tls.Certificate, change func(*tls.Config)) error {
	server := &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS10}
	change(server)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		s := tls.Server(c, server)
		_ = s.Handshake()
		_, _ = io.Copy(io.Discard, s)
	}()
	c, err := tls.Dial("tcp", l.Addr().String(), Config(seen))
	if err == nil {
		c.Close()
	}
	return err
}

func TestOldDevicesAreSpokenToAndCalledWeak(t *testing.T) {
	short, err := rsa.GenerateKey(rand.Reader, 1024)
	require.NoError(t, err)
	tiny, err := rsa.GenerateKey(rand.Reader, 512)
	require.NoError(t, err)
	sound, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	old := func(c *tls.Config) { c.MaxVersion = tls.VersionTLS10 }
	for name, c := range map[string]struct {
		cert   tls.Certificate
		change func(*tls.Config)
		weak   []string
	}{
		"sound":         {selfSigned(t, sound, 0, 1), func(*tls.Config) {}, nil},
		"short key":     {selfSigned(t, short, x509.SHA256WithRSA, 1), func(*tls.Config) {}, []string{"RSA key of 1024 bits"}},
		"shorter still": {selfSigned(t, tiny, x509.SHA256WithRSA, 1), func(c *tls.Config) { c.MaxVersion = tls.VersionTLS12 }, []string{"RSA key of 512 bits"}},
		"SHA-1":         {selfSigned(t, short, x509.SHA1WithRSA, 1), func(c *tls.Config) { c.MaxVersion = tls.VersionTLS12 }, []string{"RSA key of 1024 bits", "certificate signed with SHA1-RSA"}},
		"TLS 1.0":       {selfSigned(t, short, x509.SHA1WithRSA, 1), old, []string{"TLS 1.0", "RSA key of 1024 bits", "certificate signed with SHA1-RSA"}},
		"RSA key exchange": {selfSigned(t, short, x509.SHA256WithRSA, 1), func(c *tls.Config) {
			c.MaxVersion, c.CipherSuites = tls.VersionTLS12, []uint16{tls.TLS_RSA_WITH_3DES_EDE_CBC_SHA}
		}, []string{"TLS_RSA_WITH_3DES_EDE_CBC_SHA", "RSA key of 1024 bits"}},
	} {
		var seen Seen
		require.NoError(t, shake(t, &seen, c.cert, c.change), name)
		assert.Equal(t, c.weak, seen.Weak(), name)
		assert.Len(t, seen.Fingerprint(), 64, name)
	}
}

func TestACertificateThatChangesMidwayIsRefused(t *testing.T) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	var seen Seen
	require.NoError(t, shake(t, &seen, selfSigned(t, key, 0, 1), func(*tls.Config) {}))
	was := seen.Fingerprint()
	require.ErrorIs(t, shake(t, &seen, selfSigned(t, key, 0, 2), func(*tls.Config) {}), ErrChanged)
	assert.Equal(t, was, seen.Fingerprint())
}
