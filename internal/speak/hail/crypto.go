package hail

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"

	"github.com/flynn/noise"
	"golang.org/x/crypto/scrypt"

	"janustat/core/secret"
)

// keyLen is that of X25519 keys and of the keys made of passwords, in bytes.
const keyLen = 32

// SaltLen is that of the salt that a device draws for its password, in bytes.
const SaltLen = 16

// Work of scrypt (RFC 7914): 16 MB, some 50 ms on a laptop. A device does it once, when it
// is given a password.
const (
	scryptN = 1 << 14
	scryptR = 8
	scryptP = 1
)

// PasswordKey makes the key of a password. User and salt are in it, so that equal
// passwords of two devices have nothing in common.
func PasswordKey(user string, p secret.Password, salt []byte) ([]byte, error) {
	k, err := scrypt.Key([]byte(p.Reveal()), append([]byte("hail 1 "+user+"\x00"), salt...), scryptN, scryptR, scryptP, keyLen)
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

// Fingerprint tells a static public key: its SHA-256 in hexadecimal.
func Fingerprint(key []byte) string {
	h := sha256.Sum256(key)
	return hex.EncodeToString(h[:])
}

// handshake begins one. The prologue is the header of the Begin with its pattern, so that
// nobody changes which device it is with, or how.
func handshake(initiator bool, p Pattern, own noise.DHKey, psk, prologue []byte, random io.Reader) (*noise.HandshakeState, error) {
	if random == nil {
		random = rand.Reader
	}
	c := noise.Config{CipherSuite: suite, Pattern: noise.HandshakeXX, Initiator: initiator, StaticKeypair: own, Prologue: prologue, Random: random}
	if p == Enter {
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
