// Package keyring is the file of a job's passwords, encrypted to a passphrase.
package keyring

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"runtime/debug"
	"strconv"

	"filippo.io/age"

	"janustat/core/keys"
	"janustat/internal/disk"
	"janustat/internal/intake"
)

// Errors of a keyring.
var (
	ErrNoKeyring  = errors.New("there is no keyring yet")
	ErrPassphrase = errors.New("the passphrase does not open the keyring")
	ErrKeyring    = errors.New("the keyring is damaged")
)

// maxKeyring bounds a keyring, in bytes once decrypted.
const maxKeyring = 16 << 20

// Keyring holds the job's passwords. On disk it is one age file, encrypted to
// a passphrase (scrypt); its plain form is JSON and never leaves memory.
type Keyring struct {
	*keys.Ring
	path       string
	passphrase string
	work       int // scrypt work factor as a power of two; 0 is usualWork
	recovery   []age.Recipient
	due        bool // the recovery copy is not as it is to be
}

// New makes an empty keyring that Save will write.
func New(path, passphrase string) *Keyring {
	return &Keyring{Ring: keys.NewRing(), path: path, passphrase: passphrase}
}

// Open decrypts a keyring. ErrNoKeyring when there is none, ErrPassphrase
// when the passphrase is wrong, ErrKeyring when the file is damaged.
func Open(path, passphrase string) (*Keyring, error) {
	data, err := intake.Read(path, 2*maxKeyring)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNoKeyring
	}
	if err != nil {
		return nil, fmt.Errorf("keyring: %w", err)
	}
	id, err := age.NewScryptIdentity(passphrase)
	if err != nil {
		return nil, fmt.Errorf("%w: it is empty", ErrPassphrase)
	}
	// The file says how much work its passphrase is: a keyring of somebody else's must not
	// take the memory of the laptop.
	id.SetMaxWorkFactor(maxWork)
	defer roomForScrypt(workOf(data))()
	plain, err := age.Decrypt(bytes.NewReader(data), id)
	var mismatch *age.NoIdentityMatchError
	if errors.As(err, &mismatch) {
		return nil, ErrPassphrase
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrKeyring, err)
	}
	ring, err := ringOf(plain)
	if err != nil {
		return nil, err
	}
	return &Keyring{Ring: ring, path: path, passphrase: passphrase}, nil
}

// ringOf reads what a keyring holds, once it is decrypted.
func ringOf(plain io.Reader) (*keys.Ring, error) {
	text, err := io.ReadAll(io.LimitReader(plain, maxKeyring))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrKeyring, err)
	}
	ring, err := keys.Read(text)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrKeyring, err)
	}
	return ring, nil
}

// Seal encrypts something as an age file.
func Seal(plain []byte, to ...age.Recipient) ([]byte, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, to...)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(plain); err != nil {
		return nil, err
	}
	err = w.Close()
	return out.Bytes(), err
}

// usualWork takes 128 MB and about half a second: it is spent at every command, on a
// laptop that carries a whole site beside it.
const usualWork = 17

// maxWork is the most that a keyring may ask for: 512 MB.
const maxWork = 19

// muchWork takes 32 MB: less than that is not worth the time that giving memory back takes.
const muchWork = 15

// workOf is the work factor that a keyring names in its header (age, scrypt recipient stanza);
// the most there may be where it names none.
func workOf(data []byte) int {
	for line := range bytes.Lines(data[:min(len(data), 200)]) {
		if words := bytes.Fields(line); len(words) == 4 && string(words[1]) == "scrypt" {
			if n, err := strconv.Atoi(string(words[3])); err == nil {
				return n
			}
		}
	}
	return maxWork
}

// roomForScrypt gives memory that is not used back before scrypt takes its 128 MB, and
// what scrypt has taken after it: neither is held beside the other.
func roomForScrypt(work int) (after func()) {
	if work < muchWork {
		return func() {}
	}
	debug.FreeOSMemory()
	return debug.FreeOSMemory
}

// SetWork makes Save spend another work factor of scrypt, a power of two from 10
// to maxWork, on the passphrase. Lower than the usual one is for tests.
func (k *Keyring) SetWork(factor int) { k.work = factor }

// Passphrase gives the passphrase that it opens by, for further commands of the same person.
func (k *Keyring) Passphrase() string { return k.passphrase }

// SetPassphrase makes Save encrypt to another passphrase.
func (k *Keyring) SetPassphrase(phrase string) { k.passphrase = phrase }

// Save writes the keyring as a whole.
func (k *Keyring) Save() error {
	write, err := k.Ready()
	if err != nil {
		return err
	}
	return write()
}

// Ready gives what writes the keyring as it is now, while it may change already.
func (k *Keyring) Ready() (write func() error, err error) {
	plain, err := k.Plain()
	if err != nil {
		return nil, fmt.Errorf("keyring: %w", err)
	}
	return func() error { return k.write(plain) }, nil
}

func (k *Keyring) write(plain []byte) error {
	to, err := age.NewScryptRecipient(k.passphrase)
	if err != nil {
		return fmt.Errorf("%w: it is empty", ErrPassphrase)
	}
	work := cmp.Or(k.work, usualWork)
	to.SetWorkFactor(work)
	defer roomForScrypt(work)()
	sealed, err := Seal(plain, to)
	if err != nil {
		return fmt.Errorf("keyring: %w", err)
	}
	// What opens by another key comes first: it may know of a password that is never sent, and
	// must know of every one that is.
	if err := k.writeRecovery(plain); err != nil {
		return err
	}
	return disk.WriteFile(k.path, sealed, 0o600)
}

// Draft gives a copy to plan on, which is never saved.
func (k *Keyring) Draft() (*Keyring, error) {
	ring, err := k.Ring.Draft()
	if err != nil {
		return nil, fmt.Errorf("keyring: %w", err)
	}
	return &Keyring{Ring: ring}, nil
}
