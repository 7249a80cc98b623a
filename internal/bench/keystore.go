package bench

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"maps"
	"slices"
	"strconv"
	"time"
)

// keystoreNS is the namespace of the Security Configuration Specification.
const keystoreNS = "http://www.onvif.org/ver10/advancedsecurity/wsdl"

// Manners of a keystore, that others look for by name.
const (
	keepsKeys          = "keystore"
	slowKeys           = "slow keys"
	refusesCertificate = "refuses certificates"
	keepsCertificate   = "keeps its certificate"
	fullKeystore       = "small keystore"
)

// keystoreManners are those.
var keystoreManners = map[string]manner{
	keepsKeys:          {stands: "Security Configuration Specification, keystore and TLS server: it makes keys, and shows certificates that others have signed"},
	slowKeys:           {stands: "Security Configuration Specification, GetKeyStatus: it takes 12 s over a key"},
	refusesCertificate: {stands: "Security Configuration Specification, UploadCertificate: it takes none that it has not signed"},
	keepsCertificate:   {stands: "practice: the assignment is confirmed, and it shows its former certificate"},
	fullKeystore:       {stands: "Security Configuration Specification, MaximumNumberOfCertificates: it has places for two certificates"},
}

// keystore is what a device keeps of keys and certificates: it survives restarts.
type keystore struct {
	last  int
	keys  map[string]storedKey
	certs map[string]storedCert
	paths map[string]storedPath
	// shows is the path over HTTPS from a moment on, and showed the one until then; "" is its own certificate.
	shows, showed string
	from          time.Time
}

type storedKey struct {
	alias string
	key   crypto.Signer
	ready time.Time
}

type storedCert struct {
	alias, key string
	der        []byte
}

type storedPath struct {
	alias string
	certs []string
}

// slowKey is how long a slow device takes over a key.
const slowKey = 12 * time.Second

// next gives a new ID.
func (k *keystore) next(sort string) string {
	if k.keys == nil {
		k.keys, k.certs, k.paths = map[string]storedKey{}, map[string]storedCert{}, map[string]storedPath{}
	}
	k.last++
	return sort + strconv.Itoa(k.last)
}

// certificate is what the device shows over HTTPS. The lock is held.
func (d *Device) certificate() *tls.Certificate {
	k := d.state.keystore
	shown := k.shows
	if time.Now().Before(k.from) {
		shown = k.showed
	}
	path, ok := k.paths[shown]
	if !ok || d.is(keepsCertificate) {
		return d.cert
	}
	out := &tls.Certificate{}
	for _, id := range path.certs {
		out.Certificate = append(out.Certificate, k.certs[id].der)
	}
	out.PrivateKey = k.keys[k.certs[path.certs[0]].key].key
	return out
}

// Stored tells how many keys, certificates and paths the device keeps.
func (d *Device) Stored() (keys, certs, paths int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	k := d.state.keystore
	return len(k.keys), len(k.certs), len(k.paths)
}

func keyed(name string, kids ...any) (*node, *fault) {
	return el(keystoreNS, name+"Response", kids...), nil
}

func noSuch(what string) *fault { return invalid(what, "No "+what+" of this ID") }

// keystoreOperations are those of the service that are in use.
var keystoreOperations = map[string]operation{
	"GetAllKeys": {reading, false, func(d *Device, _ *element) (*node, *fault) {
		out := el(keystoreNS, "GetAllKeysResponse")
		k := d.state.keystore
		for _, id := range slices.Sorted(maps.Keys(k.keys)) {
			out.kids = append(out.kids, el(keystoreNS, "KeyAttribute", el(keystoreNS, "KeyID", id), el(keystoreNS, "Alias", k.keys[id].alias),
				el(keystoreNS, "hasPrivateKey", true), el(keystoreNS, "KeyStatus", k.keys[id].status())))
		}
		return out, nil
	}},
	"CreateRSAKeyPair": {writing, false, func(d *Device, req *element) (*node, *fault) {
		bits, err := strconv.Atoi(req.find("KeyLength").value())
		if err != nil || bits < 2048 || bits > 4096 {
			return nil, invalid("KeyLength", "The key length is not supported")
		}
		key, err := rsa.GenerateKey(rand.Reader, bits)
		if err != nil {
			return nil, invalid("KeyLength", err.Error())
		}
		k := &d.state.keystore
		id := k.next("key")
		made := storedKey{alias: req.find("Alias").value(), key: key}
		if d.is(slowKeys) {
			made.ready = time.Now().Add(d.host.port.sw.pace.Of(slowKey))
		}
		k.keys[id] = made
		return keyed("CreateRSAKeyPair", el(keystoreNS, "KeyID", id), el(keystoreNS, "EstimatedCreationTime", "PT5S"))
	}},
	"GetKeyStatus": {reading, false, func(d *Device, req *element) (*node, *fault) {
		key, ok := d.state.keystore.keys[req.find("KeyID").value()]
		if !ok {
			return nil, noSuch("KeyID")
		}
		return keyed("GetKeyStatus", el(keystoreNS, "KeyStatus", key.status()))
	}},
	"CreatePKCS10CSR": {writing, false, func(d *Device, req *element) (*node, *fault) {
		key, ok := d.state.keystore.keys[req.find("KeyID").value()]
		if !ok || key.status() != "ok" {
			return nil, noSuch("KeyID")
		}
		if req.find("SignatureAlgorithm", "algorithm").value() != "1.2.840.113549.1.1.11" {
			return nil, invalid("UnsupportedSignatureAlgorithm", "The signature algorithm is not supported")
		}
		der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{Subject: pkix.Name{CommonName: req.find("Subject", "CommonName").value()}}, key.key)
		if err != nil {
			return nil, invalid("CSRCreationFailed", err.Error())
		}
		return keyed("CreatePKCS10CSR", el(keystoreNS, "PKCS10CSR", base64.StdEncoding.EncodeToString(der)))
	}},
	"UploadCertificate": {writing, false, func(d *Device, req *element) (*node, *fault) {
		der, err := base64.StdEncoding.DecodeString(req.find("Certificate").value())
		if err != nil {
			return nil, invalid("BadCertificate", "It is no certificate")
		}
		cert, err := x509.ParseCertificate(der)
		k := &d.state.keystore
		switch {
		case err != nil:
			return nil, invalid("BadCertificate", "It is no certificate")
		case d.is(refusesCertificate):
			return nil, invalid("UnsupportedSignatureAlgorithm", "The signature algorithm is not supported")
		case d.is(fullKeystore) && len(k.certs) >= 2:
			return nil, invalid("MaximumNumberOfCertificatesReached", "No place is left")
		}
		for id, key := range k.keys {
			if public, ok := key.key.Public().(interface{ Equal(crypto.PublicKey) bool }); ok && public.Equal(cert.PublicKey) {
				at := k.next("cert")
				k.certs[at] = storedCert{req.find("Alias").value(), id, der}
				return keyed("UploadCertificate", el(keystoreNS, "CertificateID", at), el(keystoreNS, "KeyID", id))
			}
		}
		return nil, invalid("NoMatchingPrivateKey", "No private key of this certificate")
	}},
	"GetAllCertificates": {reading, false, func(d *Device, _ *element) (*node, *fault) {
		out := el(keystoreNS, "GetAllCertificatesResponse")
		k := d.state.keystore
		for _, id := range slices.Sorted(maps.Keys(k.certs)) {
			c := k.certs[id]
			out.kids = append(out.kids, el(keystoreNS, "Certificate", el(keystoreNS, "CertificateID", id), el(keystoreNS, "KeyID", c.key), el(keystoreNS, "Alias", c.alias),
				el(keystoreNS, "CertificateContent", base64.StdEncoding.EncodeToString(c.der))))
		}
		return out, nil
	}},
	"DeleteCertificate": {writing, false, func(d *Device, req *element) (*node, *fault) {
		id, k := req.find("CertificateID").value(), &d.state.keystore
		for _, p := range k.paths {
			if slices.Contains(p.certs, id) {
				return nil, invalid("ReferenceExists", "A path has this certificate")
			}
		}
		if _, ok := k.certs[id]; !ok {
			return nil, noSuch("CertificateID")
		}
		delete(k.certs, id)
		return keyed("DeleteCertificate")
	}},
	"CreateCertificationPath": {writing, false, func(d *Device, req *element) (*node, *fault) {
		k := &d.state.keystore
		id := req.find("CertificateIDs", "CertificateID").value()
		if _, ok := k.certs[id]; !ok {
			return nil, noSuch("CertificateID")
		}
		at := k.next("path")
		k.paths[at] = storedPath{req.find("Alias").value(), []string{id}}
		return keyed("CreateCertificationPath", el(keystoreNS, "CertificationPathID", at))
	}},
	"GetAllCertificationPaths": {reading, false, func(d *Device, _ *element) (*node, *fault) {
		out := el(keystoreNS, "GetAllCertificationPathsResponse")
		for _, id := range slices.Sorted(maps.Keys(d.state.keystore.paths)) {
			out.kids = append(out.kids, el(keystoreNS, "CertificationPathID", id))
		}
		return out, nil
	}},
	"GetCertificationPath": {reading, false, func(d *Device, req *element) (*node, *fault) {
		p, ok := d.state.keystore.paths[req.find("CertificationPathID").value()]
		if !ok {
			return nil, noSuch("CertificationPathID")
		}
		path := el(keystoreNS, "CertificationPath")
		for _, id := range p.certs {
			path.kids = append(path.kids, el(keystoreNS, "CertificateID", id))
		}
		path.kids = append(path.kids, el(keystoreNS, "Alias", p.alias))
		return keyed("GetCertificationPath", path)
	}},
	"DeleteCertificationPath": {writing, false, func(d *Device, req *element) (*node, *fault) {
		id, k := req.find("CertificationPathID").value(), &d.state.keystore
		if id == k.shows || id == k.showed && time.Now().Before(k.from) {
			return nil, invalid("ReferenceExists", "It is shown")
		}
		delete(k.paths, id)
		return keyed("DeleteCertificationPath")
	}},
	"GetAssignedServerCertificates": {reading, false, func(d *Device, _ *element) (*node, *fault) {
		out := el(keystoreNS, "GetAssignedServerCertificatesResponse")
		if d.state.keystore.shows != "" {
			out.kids = append(out.kids, el(keystoreNS, "CertificationPathID", d.state.keystore.shows))
		}
		return out, nil
	}},
	"AddServerCertificateAssignment": {writing, false, func(d *Device, req *element) (*node, *fault) {
		return d.assign(req, "AddServerCertificateAssignment", "")
	}},
	"ReplaceServerCertificateAssignment": {writing, false, func(d *Device, req *element) (*node, *fault) {
		return d.assign(req, "ReplaceServerCertificateAssignment", "New")
	}},
}

// assign has the device show a path over HTTPS. The lock is held.
func (d *Device) assign(req *element, name, which string) (*node, *fault) {
	id, k := req.find(which+"CertificationPathID").value(), &d.state.keystore
	if _, ok := k.paths[id]; !ok {
		return nil, noSuch("CertificationPathID")
	}
	if which == "" && k.shows != "" {
		return nil, invalid("MaximumNumberOfTLSCertificationPathsReached", "One is shown already")
	}
	k.shows, k.showed, k.from = id, k.shows, time.Now().Add(d.host.port.sw.pace.Of(portLate))
	return keyed(name)
}

func (k storedKey) status() string {
	if time.Now().Before(k.ready) {
		return "generating"
	}
	return "ok"
}
