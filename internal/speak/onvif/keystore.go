package onvif

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"time"

	"janustat/internal/speak/soap"
)

// keystoreNS is the service of keys and certificates (Security Configuration Specification, which was
// the Advanced Security Specification).
const keystoreNS = "http://www.onvif.org/ver10/advancedsecurity/wsdl"

// keyBits is the length of the RSA keys that are made.
const keyBits = 2048

// sha256WithRSA is the object identifier of the signature of a certification request (RFC 4055, 5).
const sha256WithRSA = "1.2.840.113549.1.1.11"

// ErrKey is returned where a device does not come by a key.
var ErrKey = errors.New("it makes no key")

// keystore gives the service; false where the device has none.
func (c *Client) keystore(ctx context.Context) (service, bool, error) {
	list, err := c.services(ctx)
	if err != nil {
		return service{}, false, unlessFault(err)
	}
	s, ok := c.serviceIn(list, keystoreNS, "tas")
	return s, ok, nil
}

// KeepsKeys reports whether the device can make keys, and show certificates that others have signed.
func (c *Client) KeepsKeys(ctx context.Context) (bool, error) {
	_, ok, err := c.keystore(ctx)
	return ok, err
}

// keyXML is a key in a keystore (tas:KeyAttribute).
type keyXML struct{ KeyID, Alias, KeyStatus string }

// Certify has the device make a key under a name, unless it has one of that name (CreateRSAKeyPair,
// GetKeyStatus), has its certification request signed (CreatePKCS10CSR), and has the certificate shown
// over HTTPS (UploadCertificate, CreateCertificationPath, AddServerCertificateAssignment). What it had of
// that name before is removed afterwards: a store has few places. every is how long to wait between
// questions whether the key is made.
func (c *Client) Certify(ctx context.Context, name string, every time.Duration, sign func(request []byte) (der []byte, err error)) error {
	s, ok, err := c.keystore(ctx)
	if err != nil {
		return err
	}
	if !ok {
		return fmt.Errorf("%w: it has no keystore", ErrKey)
	}
	key, err := c.keyNamed(ctx, s, name, every)
	if err != nil {
		return err
	}
	var csr struct{ PKCS10CSR string }
	if err := c.callOf(ctx, s, "CreatePKCS10CSR", "<tas:Subject><tas:CommonName>"+soap.Text(name)+"</tas:CommonName></tas:Subject><tas:KeyID>"+soap.Text(key)+
		"</tas:KeyID><tas:SignatureAlgorithm><tas:algorithm>"+sha256WithRSA+"</tas:algorithm></tas:SignatureAlgorithm>", &csr); err != nil {
		return err
	}
	request, err := octets(csr.PKCS10CSR)
	if err != nil {
		return fmt.Errorf("its certification request: %w", err)
	}
	der, err := sign(request)
	if err != nil {
		return err
	}
	var up struct{ CertificateID string }
	if err := c.callOf(ctx, s, "UploadCertificate", "<tas:Certificate>"+base64.StdEncoding.EncodeToString(der)+"</tas:Certificate><tas:Alias>"+soap.Text(name)+
		"</tas:Alias><tas:PrivateKeyRequired>true</tas:PrivateKeyRequired>", &up); err != nil {
		return err
	}
	var path struct{ CertificationPathID string }
	if err := c.callOf(ctx, s, "CreateCertificationPath", "<tas:CertificateIDs><tas:CertificateID>"+soap.Text(strings.TrimSpace(up.CertificateID))+
		"</tas:CertificateID></tas:CertificateIDs><tas:Alias>"+soap.Text(name)+"</tas:Alias>", &path); err != nil {
		return err
	}
	return c.show(ctx, s, strings.TrimSpace(path.CertificationPathID))
}

// show has the device show a certification path over HTTPS, in the place of what it shows.
func (c *Client) show(ctx context.Context, s service, path string) error {
	var has struct{ CertificationPathID []string }
	if err := unlessFault(c.callOf(ctx, s, "GetAssignedServerCertificates", "", &has)); err != nil {
		return err
	}
	for _, old := range has.CertificationPathID {
		if old = strings.TrimSpace(old); old != "" {
			return c.callOf(ctx, s, "ReplaceServerCertificateAssignment", "<tas:OldCertificationPathID>"+soap.Text(old)+
				"</tas:OldCertificationPathID><tas:NewCertificationPathID>"+soap.Text(path)+"</tas:NewCertificationPathID>", nil)
		}
	}
	return c.callOf(ctx, s, "AddServerCertificateAssignment", "<tas:CertificationPathID>"+soap.Text(path)+"</tas:CertificationPathID>", nil)
}

// keyNamed gives the key of a name, which is made where there is none.
func (c *Client) keyNamed(ctx context.Context, s service, name string, every time.Duration) (id string, err error) {
	var all struct{ KeyAttribute []keyXML }
	if err := unlessFault(c.callOf(ctx, s, "GetAllKeys", "", &all)); err != nil {
		return "", err
	}
	for _, k := range all.KeyAttribute {
		if strings.TrimSpace(k.Alias) == name && strings.TrimSpace(k.KeyStatus) != "corrupt" {
			id = strings.TrimSpace(k.KeyID)
		}
	}
	if id == "" {
		var made struct{ KeyID string }
		if err := c.callOf(ctx, s, "CreateRSAKeyPair", fmt.Sprintf("<tas:KeyLength>%d</tas:KeyLength><tas:Alias>%s</tas:Alias>", keyBits, soap.Text(name)), &made); err != nil {
			return "", err
		}
		if id = strings.TrimSpace(made.KeyID); id == "" {
			return "", ErrKey
		}
	}
	for {
		var got struct{ KeyStatus string }
		if err := c.callOf(ctx, s, "GetKeyStatus", "<tas:KeyID>"+soap.Text(id)+"</tas:KeyID>", &got); err != nil {
			return "", err
		}
		switch status := strings.TrimSpace(got.KeyStatus); status {
		case "ok":
			return id, nil
		case "generating":
		default:
			return "", fmt.Errorf("%w: %q", ErrKey, c.said(status))
		}
		t := time.NewTimer(every)
		select {
		case <-t.C:
		case <-ctx.Done():
			t.Stop()
			return "", fmt.Errorf("%w: %w", ErrKey, context.Cause(ctx))
		}
	}
}

// TidyKeystore removes the certification paths and certificates of a name that are not shown: those of
// before, and of a try that was cut short.
func (c *Client) TidyKeystore(ctx context.Context, name string) error {
	s, ok, err := c.keystore(ctx)
	if err != nil || !ok {
		return err
	}
	var shown, paths struct{ CertificationPathID []string }
	if err := c.callOf(ctx, s, "GetAssignedServerCertificates", "", &shown); err != nil {
		return unlessFault(err)
	}
	if err := c.callOf(ctx, s, "GetAllCertificationPaths", "", &paths); err != nil {
		return unlessFault(err)
	}
	used := map[string]bool{}
	for _, id := range paths.CertificationPathID[:min(len(paths.CertificationPathID), maxStored)] {
		id = strings.TrimSpace(id)
		var got struct {
			CertificationPath struct {
				CertificateID []string
				Alias         string
			}
		}
		if err := c.callOf(ctx, s, "GetCertificationPath", "<tas:CertificationPathID>"+soap.Text(id)+"</tas:CertificationPathID>", &got); err != nil {
			return unlessFault(err)
		}
		assigned := false
		for _, a := range shown.CertificationPathID {
			assigned = assigned || strings.TrimSpace(a) == id
		}
		if assigned || strings.TrimSpace(got.CertificationPath.Alias) != name {
			for _, cert := range got.CertificationPath.CertificateID {
				used[strings.TrimSpace(cert)] = true
			}
			continue
		}
		if err := unlessFault(c.callOf(ctx, s, "DeleteCertificationPath", "<tas:CertificationPathID>"+soap.Text(id)+"</tas:CertificationPathID>", nil)); err != nil {
			return err
		}
	}
	var certs struct {
		Certificate []struct{ CertificateID, Alias string }
	}
	if err := c.callOf(ctx, s, "GetAllCertificates", "", &certs); err != nil {
		return unlessFault(err)
	}
	for _, x := range certs.Certificate[:min(len(certs.Certificate), maxStored)] {
		id := strings.TrimSpace(x.CertificateID)
		if strings.TrimSpace(x.Alias) != name || used[id] {
			continue
		}
		if err := unlessFault(c.callOf(ctx, s, "DeleteCertificate", "<tas:CertificateID>"+soap.Text(id)+"</tas:CertificateID>", nil)); err != nil {
			return err
		}
	}
	return nil
}

// maxStored bounds how many things of a keystore are looked at.
const maxStored = 64

// octets reads base64, however it is broken into lines (RFC 4648, 3.1, 3.3).
func octets(text string) ([]byte, error) {
	return base64.StdEncoding.DecodeString(strings.Join(strings.Fields(text), ""))
}
