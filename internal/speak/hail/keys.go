package hail

import (
	"crypto/sha256"
	"fmt"
	"sync"

	"janustat/core/secret"
)

// Keys remembers the keys that were made of passwords: each conversation with a device begins
// with one, and making it takes the whole work of scrypt. The zero value remembers none yet.
type Keys struct {
	mu   sync.Mutex
	made map[[sha256.Size]byte][]byte
}

// maxKeys bounds what is remembered: salts come off the wire, and anybody may send them.
const maxKeys = 4096

// make gives the key of a password (PasswordKey), as it was made before where it was.
func (k *Keys) make(version int, user string, p secret.Password, salt []byte) ([]byte, error) {
	of := sha256.Sum256(fmt.Appendf(nil, "%d %q %q %x", version, user, p.Reveal(), salt))
	k.mu.Lock()
	key, ok := k.made[of]
	k.mu.Unlock()
	if ok {
		return key, nil
	}
	key, err := PasswordKey(version, user, p, salt)
	if err != nil {
		return nil, err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.made == nil || len(k.made) >= maxKeys {
		k.made = map[[sha256.Size]byte][]byte{}
	}
	k.made[of] = key
	return key, nil
}
