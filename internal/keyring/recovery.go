package keyring

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"filippo.io/age"

	"janustat/internal/disk"
	"janustat/internal/intake"
)

// RecoveryFile is the copy of a keyring, beside it, that opens by other keys than its passphrase.
const RecoveryFile = "keyring-recovery.age"

// ErrNoRecovery is returned where there is no such copy.
var ErrNoRecovery = errors.New("the keyring has no recovery copy: public keys for it are in the job sheet, under password.recovery")

func recoveryPath(path string) string { return filepath.Join(filepath.Dir(path), RecoveryFile) }

// SetRecovery makes Save write a copy that opens by the private keys of these public ones (age1…) too;
// none takes the copy away.
func (k *Keyring) SetRecovery(to []string) error {
	var out []age.Recipient
	var names []string
	for _, text := range to {
		text = strings.TrimSpace(text)
		r, err := age.ParseX25519Recipient(text)
		if err != nil {
			return fmt.Errorf("password.recovery in the job sheet: %q is not an age public key (they begin with age1)", text)
		}
		out, names = append(out, r), append(names, text)
	}
	k.recovery = out
	_, serr := os.Stat(recoveryPath(k.path))
	k.due = !slices.Equal(k.Recovery(), names) || len(names) > 0 && errors.Is(serr, fs.ErrNotExist)
	k.Ring.SetRecovery(names)
	return nil
}

// RecoveryDue reports whether the copy is not as it is to be, and Save has something to do for that.
func (k *Keyring) RecoveryDue() bool { return k.due }

func (k *Keyring) writeRecovery(plain []byte) error {
	path := recoveryPath(k.path)
	if len(k.recovery) == 0 {
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("keyring: %w", err)
		}
		k.due = false
		return nil
	}
	sealed, err := Seal(plain, k.recovery...)
	if err != nil {
		return fmt.Errorf("keyring: %w", err)
	}
	err = disk.WriteFile(path, sealed, 0o600)
	k.due = k.due && err != nil
	return err
}

// Recover opens the copy of a keyring by private keys, as the keyring at path: it needs a passphrase
// before it is saved. ErrNoRecovery where there is no copy, ErrKeyring where it is damaged.
func Recover(path string, by []age.Identity) (*Keyring, error) {
	data, err := intake.Read(recoveryPath(path), 2*maxKeyring)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNoRecovery
	}
	if err != nil {
		return nil, fmt.Errorf("keyring: %w", err)
	}
	plain, err := age.Decrypt(bytes.NewReader(data), by...)
	var mismatch *age.NoIdentityMatchError
	if errors.As(err, &mismatch) {
		return nil, fmt.Errorf("%s was not made for this key: use the private key of one that password.recovery in the job sheet names", RecoveryFile)
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrKeyring, err)
	}
	ring, err := ringOf(plain)
	if err != nil {
		return nil, err
	}
	return &Keyring{Ring: ring, path: path}, nil
}
