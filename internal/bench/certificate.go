package bench

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand" //nolint:gosec // RFC 4122 name-based UUIDs demand SHA-1
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"io"
	"math/big"
	"slices"
	"time"
)

// builtIn makes the certificate that a device leaves the factory with. It follows from
// the unit, so that the device is the same one when the bench is started again.
func builtIn(u Unit) *tls.Certificate {
	if !encrypts(u) {
		return nil
	}
	seed := sha256.Sum256(fmt.Appendf(nil, "bench certificate of %s %s", u.MAC, u.Serial))
	key, err := ecdsa.ParseRawPrivateKey(elliptic.P256(), seed[:])
	if err != nil {
		return selfSigned(u)
	}
	built := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	return signed(u, key, nil, built) // without randomness, signatures are the same each time: RFC 6979
}

// encrypts reports whether a unit has anything over TLS.
func encrypts(u Unit) bool {
	return u.model.HTTPS != "" || slices.Contains(u.Manners, streamsOverTLS)
}

// selfSigned makes the certificate that a device signs for itself, as most do.
func selfSigned(u Unit) *tls.Certificate {
	if !encrypts(u) {
		return nil
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err) // no randomness: nothing works then
	}
	return signed(u, key, rand.Reader, time.Now().Add(-time.Hour))
}

func signed(u Unit, key *ecdsa.PrivateKey, random io.Reader, from time.Time) *tls.Certificate {
	about := x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: u.Serial}, NotBefore: from, NotAfter: from.AddDate(20, 0, 0),
	}
	der, err := x509.CreateCertificate(random, &about, &about, &key.PublicKey, key)
	if err != nil {
		panic(err) // the template is fixed
	}
	return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}
