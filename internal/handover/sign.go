package handover

import (
	"bytes"
	"crypto/rand"
	"crypto/sha512"
	"encoding/base64"
	"fmt"

	"golang.org/x/crypto/ssh"
)

// Namespace is what a signature of a manifest is for (PROTOCOL.sshsig, "namespace").
const Namespace = "janustat-handover"

// sshsig is the magic of a signature (PROTOCOL.sshsig).
const sshsig = "SSHSIG"

// Sign signs a manifest with an installer's own SSH key, as `ssh-keygen -Y sign` does
// (PROTOCOL.sshsig, version 1, SHA-512), so that `ssh-keygen -Y verify` proves it.
func Sign(manifest []byte, key ssh.Signer) ([]byte, error) {
	hash := sha512.Sum512(manifest)
	signed := ssh.Marshal(struct{ Namespace, Reserved, Algorithm, Hash string }{Namespace, "", "sha512", string(hash[:])})
	signed = append([]byte(sshsig), signed...)
	var sig *ssh.Signature
	var err error
	if as, ok := key.(ssh.AlgorithmSigner); ok && key.PublicKey().Type() == ssh.KeyAlgoRSA {
		sig, err = as.SignWithAlgorithm(rand.Reader, signed, ssh.KeyAlgoRSASHA512) // RFC 8332: never SHA-1
	} else {
		sig, err = key.Sign(rand.Reader, signed)
	}
	if err != nil {
		return nil, fmt.Errorf("sign: %w", err)
	}
	blob := append([]byte(sshsig), ssh.Marshal(struct {
		Version                                              uint32
		PublicKey, Namespace, Reserved, Algorithm, Signature string
	}{1, string(key.PublicKey().Marshal()), Namespace, "", "sha512", string(ssh.Marshal(sig))})...)
	var out bytes.Buffer
	out.WriteString("-----BEGIN SSH SIGNATURE-----\n")
	text := base64.StdEncoding.EncodeToString(blob)
	for len(text) > 70 {
		out.WriteString(text[:70] + "\n")
		text = text[70:]
	}
	out.WriteString(text + "\n-----END SSH SIGNATURE-----\n")
	return out.Bytes(), nil
}
