package hail

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"strings"

	"github.com/flynn/noise"
	"golang.org/x/crypto/scrypt"

	"janustat/core/secret"
)

// keyLen is that of X25519 keys and of the keys made of passwords, in bytes.
const keyLen = 32

// SaltLen is that of the salt that a device draws for its password, in bytes.
const SaltLen = 16

// Work of scrypt (RFC 7914): 16 MB, some 50 ms on a laptop. In version 1 a device does it
// too, once, when it is given a password; from version 2 on it is given the key.
const (
	scryptN = 1 << 14
	scryptR = 8
	scryptP = 1
)

// PasswordKey makes the key of a password, for conversations of a version. User and salt
// are in it, so that equal passwords of two devices have nothing in common.
func PasswordKey(version int, user string, p secret.Password, salt []byte) ([]byte, error) {
	k, err := scrypt.Key([]byte(p.Reveal()), append(fmt.Appendf(nil, "hail %d %s\x00", version, user), salt...), scryptN, scryptR, scryptP, keyLen)
	if err != nil {
		return nil, fmt.Errorf("hail: %w", err)
	}
	return k, nil
}

// Pattern is how a handshake is made.
type Pattern byte

// The patterns, of the Noise Protocol Framework (revision 34).
const (
	// Claim is XX: of a device without a password, which is given its first.
	Claim Pattern = 0
	// Enter is XXpsk3: the password comes in with the third message, once the device has
	// proved its own key. So a listener has nothing to guess the password against, who
	// plays a device without its key is found out before that, and who plays a controller
	// gets one guess for each handshake.
	Enter Pattern = 1
)

var suite = noise.NewCipherSuite(noise.DH25519, noise.CipherChaChaPoly, noise.HashSHA256)

// NewKey draws a static key pair.
func NewKey(random io.Reader) (noise.DHKey, error) {
	k, err := suite.GenerateKeypair(random)
	if err != nil {
		return k, fmt.Errorf("hail: %w", err)
	}
	return k, nil
}

// Pin is what is on record of a device's key: the fingerprint of its static public key (its
// SHA-256 in hexadecimal), behind "2." where it was met in version 2; and, of one that was
// entered in version 1, the salt of its password after another point. "" is nothing.
//
// Version 1 tells the salt in the open. It changes by a reset alone, so that one that was
// met with is held on to, and no forged one is worked with. A device that was met in
// version 2 is not spoken to in version 1 any more.
type Pin string

// MakePin makes the pin of a key that is met in a version.
func MakePin(version byte, key, salt []byte) Pin {
	h := sha256.Sum256(key)
	p := hex.EncodeToString(h[:])
	switch {
	case version >= Version2:
		p = pin2 + p
	case len(salt) > 0:
		p += "." + hex.EncodeToString(salt)
	}
	return Pin(p)
}

const pin2 = "2."

// parts gives what a pin holds.
func (p Pin) parts() (version byte, key, salt string) {
	version = Version1
	rest, two := strings.CutPrefix(string(p), pin2)
	if two {
		version = Version2
	}
	key, salt, _ = strings.Cut(rest, ".")
	return version, key, salt
}

// Fits reports whether what a device tells of itself is of this pin: its key, a version
// that is not older, and in version 1 the salt, unless it says that it has no password.
func (p Pin) Fits(d *Description) bool {
	version, key, salt := p.parts()
	h := sha256.Sum256(d.Key)
	if key != hex.EncodeToString(h[:]) || d.version() < version {
		return false
	}
	return d.version() > Version1 || salt == "" || d.Fresh || salt == hex.EncodeToString(d.Salt)
}

// SameKey reports whether two pins are of one key, the second in no older version.
func (p Pin) SameKey(o Pin) bool {
	was, key, _ := p.parts()
	is, other, _ := o.parts()
	return key == other && is >= was
}

// handshake begins one. The prologue is the header of the Begin with its pattern, so that
// nobody changes which device it is with, or how.
func handshake(initiator bool, p Pattern, own noise.DHKey, psk, prologue []byte, random io.Reader) (*noise.HandshakeState, error) {
	if random == nil {
		random = rand.Reader
	}
	c := noise.Config{CipherSuite: suite, Pattern: noise.HandshakeXX, Initiator: initiator, StaticKeypair: own, Prologue: prologue, Random: random}
	if p == Enter { // a controller has it once the Answer has told the salt
		c.PresharedKey, c.PresharedKeyPlacement = psk, 3
	}
	h, err := noise.NewHandshakeState(c)
	if err != nil {
		return nil, fmt.Errorf("hail: %w", err)
	}
	return h, nil
}

// prologue is what a handshake is bound to.
func prologue(begin *Message, p Pattern) []byte { return append(begin.Header(), byte(p)) }

// channel is an encrypted conversation.
type channel struct{ send, receive *noise.CipherState }

func (c *channel) seal(m *Message, plain []byte) error {
	var err error
	m.Body, err = c.send.Encrypt(nil, m.Header(), plain)
	return err
}

func (c *channel) open(m *Message) ([]byte, error) {
	return c.receive.Decrypt(nil, m.Header(), m.Body)
}
