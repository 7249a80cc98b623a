// Package authority is the certification authority of one site. Its root speaks for the site's own
// subnets and for names under home.arpa (RFC 8375) alone, by critical name constraints (RFC 5280,
// 4.2.1.10): whoever trusts it trusts it with nothing else.
package authority

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"net/netip"
	"slices"
	"time"

	"janustat/core/device"
)

// Validity of certificates.
const (
	rootYears = 20
	// leafDays is the most that common clients accept of a certificate that is not a public one.
	leafDays = 825
	// RenewBefore is how long before its end a certificate is due to be made anew.
	RenewBefore = 90 * 24 * time.Hour
	// early is by how much a clock may be behind that is to accept a new one.
	early = 24 * time.Hour
)

// soundRSA is the shortest RSA key that is signed (NIST SP 800-57 part 1, 5.6.1).
const soundRSA = 2048

// domain is that of names of a home or a site (RFC 8375).
const domain = "home.arpa"

// Root is what is known of an authority by everyone: its own certificate.
type Root struct{ cert *x509.Certificate }

// ReadRoot gives that from its plain form, which is PEM (RFC 7468).
func ReadRoot(plain []byte) (*Root, error) {
	block, _ := pem.Decode(plain)
	if block == nil || block.Type != certificateBlock {
		return nil, errors.New("it is no certificate in PEM")
	}
	cert, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil, err
	}
	return &Root{cert}, nil
}

// Authority makes certificates for the devices of a site.
type Authority struct {
	*Root
	key *ecdsa.PrivateKey
}

// New makes one for a site, with a P-256 key, that may speak for addresses in subnets.
func New(site string, subnets []netip.Prefix, now time.Time) (*Authority, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	about := &x509.Certificate{
		SerialNumber: number(), Subject: pkix.Name{CommonName: "Devices of " + site, Organization: []string{site}},
		NotBefore: now.Add(-early), NotAfter: now.AddDate(rootYears, 0, 0),
		IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
		PermittedDNSDomainsCritical: true, PermittedDNSDomains: []string{domain}, PermittedURIDomains: []string{domain}, PermittedEmailAddresses: []string{domain},
	}
	for _, s := range subnets {
		s = s.Masked()
		about.PermittedIPRanges = append(about.PermittedIPRanges, &net.IPNet{IP: s.Addr().AsSlice(), Mask: net.CIDRMask(s.Bits(), s.Addr().BitLen())})
	}
	if len(about.PermittedIPRanges) == 0 {
		return nil, errors.New("an authority needs a subnet that it may speak for")
	}
	der, err := x509.CreateCertificate(rand.Reader, about, about, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	root, err := x509.ParseCertificate(der)
	return &Authority{&Root{root}, key}, err
}

func number() *big.Int {
	var b [16]byte
	_, _ = rand.Read(b[:]) // never fails (crypto/rand)
	b[0] = b[0]&0x7f | 1   // positive (RFC 5280, 4.1.2.2), and never zero
	return new(big.Int).SetBytes(b[:])
}

// Blocks of its plain form, which is PEM (RFC 7468).
const (
	certificateBlock = "CERTIFICATE"
	keyBlock         = "PRIVATE KEY"
)

// Read gives an authority from its plain form.
func Read(plain []byte) (*Authority, error) {
	a := &Authority{Root: &Root{}}
	for {
		var block *pem.Block
		if block, plain = pem.Decode(plain); block == nil {
			break
		}
		var err error
		switch block.Type {
		case certificateBlock:
			a.cert, err = x509.ParseCertificate(block.Bytes)
		case keyBlock:
			var key any
			if key, err = x509.ParsePKCS8PrivateKey(block.Bytes); err == nil {
				a.key, _ = key.(*ecdsa.PrivateKey)
			}
		}
		if err != nil {
			return nil, errors.New("the site's authority cannot be read") // what is wrong with it could quote its key
		}
	}
	if a.cert == nil || a.key == nil || !a.key.PublicKey.Equal(a.cert.PublicKey) {
		return nil, errors.New("the site's authority is not whole")
	}
	return a, nil
}

// Plain gives its plain form, with the private key.
func (a *Authority) Plain() ([]byte, error) {
	key, err := x509.MarshalPKCS8PrivateKey(a.key)
	if err != nil {
		return nil, err
	}
	return slices.Concat(a.PEM(), pem.EncodeToMemory(&pem.Block{Type: keyBlock, Bytes: key})), nil
}

// PEM gives its certificate for whoever is to trust it.
func (r *Root) PEM() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: certificateBlock, Bytes: r.cert.Raw})
}

// Fingerprint is the SHA-256 of its certificate, hexadecimal.
func (r *Root) Fingerprint() string { return Fingerprint(r.cert.Raw) }

// Fingerprint is the SHA-256 of a certificate, hexadecimal.
func Fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	return hex.EncodeToString(sum[:])
}

// Covers reports whether it may speak for an address.
func (r *Root) Covers(at netip.Addr) bool {
	return slices.ContainsFunc(r.cert.PermittedIPRanges, func(n *net.IPNet) bool { return n.Contains(at.AsSlice()) })
}

// Subnets are those that it may speak for.
func (r *Root) Subnets() (out []netip.Prefix) {
	for _, n := range r.cert.PermittedIPRanges {
		at, ok := netip.AddrFromSlice(n.IP)
		if ones, _ := n.Mask.Size(); ok {
			out = append(out, netip.PrefixFrom(at.Unmap(), ones))
		}
	}
	return out
}

// NameOf is the name of a device under home.arpa: it goes by its MAC, which stays.
func NameOf(mac device.MAC) string { return mac.Hex() + "." + domain }

// Sign makes the certificate of a device from its certification request (RFC 2986): of what that says,
// the key counts, which it proves to have; names and uses are ours.
func (a *Authority) Sign(request []byte, mac device.MAC, at netip.Addr, now time.Time) (der []byte, err error) {
	r, err := x509.ParseCertificateRequest(request)
	if err != nil {
		return nil, fmt.Errorf("its certification request: %w", err)
	}
	if err := r.CheckSignature(); err != nil {
		return nil, fmt.Errorf("its certification request: %w", err)
	}
	if key, ok := r.PublicKey.(*rsa.PublicKey); ok && key.N.BitLen() < soundRSA {
		return nil, fmt.Errorf("its key of %d bits is too short", key.N.BitLen())
	}
	if !a.Covers(at) {
		return nil, fmt.Errorf("the site's authority may not speak for %s", at)
	}
	about := &x509.Certificate{
		SerialNumber: number(), Subject: pkix.Name{CommonName: NameOf(mac)},
		NotBefore: now.Add(-early), NotAfter: now.AddDate(0, 0, leafDays).Add(-early),
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageKeyEncipherment, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		BasicConstraintsValid: true, DNSNames: []string{NameOf(mac)}, IPAddresses: []net.IP{at.AsSlice()},
	}
	return x509.CreateCertificate(rand.Reader, about, a.cert, r.PublicKey, a.key)
}

// Vouches reports whether a certificate is one that it made for a device, valid at a time.
func (r *Root) Vouches(c *x509.Certificate, mac device.MAC, now time.Time) bool {
	pool := x509.NewCertPool()
	pool.AddCert(r.cert)
	_, err := c.Verify(x509.VerifyOptions{Roots: pool, DNSName: NameOf(mac), CurrentTime: now, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}})
	return err == nil
}
