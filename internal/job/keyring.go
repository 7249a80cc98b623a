package job

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"runtime/debug"
	"time"

	"filippo.io/age"

	"janustat/core/device"
	"janustat/core/secret"
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
	path       string
	passphrase string
	work       int // scrypt work factor as a power of two; 0 is usualWork
	content    keyringContent
	veil       *secret.Veil // knows every password on the keyring
}

type keyringContent struct {
	Version int                     `json:"version"`
	Site    string                  `json:"site,omitempty"`    // the site password
	Kinds   map[device.Kind]string  `json:"kinds,omitempty"`   // the passwords of each kind
	Devices map[device.MAC]keyFor   `json:"devices"`           // each device's own
	Next    map[device.MAC]keyFor   `json:"next,omitempty"`    // what a change is about to give, or has given
	Past    map[device.MAC][]past   `json:"past,omitempty"`    // what devices had before
	Sent    map[device.MAC][]keyFor `json:"sent,omitempty"`    // what was sent before its own, and is not known to be refused for good
	Earlier []keyFor                `json:"earlier,omitempty"` // of earlier work, for sealed devices
	Refused map[device.MAC][]string `json:"refused,omitempty"` // marks of keys that do not open a device
	// Forms are the sorts of passwords that a device has refused to be given: for which user,
	// and by which firmware.
	Forms map[device.MAC][]string `json:"forms,omitempty"`
	// Cut is how many characters of a password a device keeps that keeps no more.
	Cut map[device.MAC]int `json:"cut,omitempty"`
	// Doubted are marks of keys that were refused by a word that anybody may have said, the
	// one offered last at the end.
	Doubted map[device.MAC][]string `json:"doubted,omitempty"`
	// Passwords of further users, by name: on each device, and one for all.
	Users       map[device.MAC]map[string]string `json:"users,omitempty"`
	NextUsers   map[device.MAC]map[string]string `json:"next_users,omitempty"` // what a change is about to give
	SharedUsers map[string]string                `json:"shared_users,omitempty"`
	// Pairs are the registration secrets of intercom pairs, by the MACs of the two.
	Pairs map[string]string `json:"pairs,omitempty"`
}

type keyFor struct {
	User     string `json:"user"`
	Password string `json:"password"`
	Origin   string `json:"origin,omitempty"`
	// Since is when a next password was put here.
	Since time.Time `json:"since,omitzero"`
}

type past struct {
	keyFor
	Until time.Time `json:"until"`
}

// keyringVersion is the version of the plain form. Version 1 had the site
// password and the devices' own only, version 2 no further users, version 3
// no pairs; they are read as they are.
const keyringVersion = 4

// NewKeyring makes an empty keyring that Save will write.
func NewKeyring(path, passphrase string) *Keyring {
	return &Keyring{path: path, passphrase: passphrase, content: keyringContent{Version: keyringVersion, Devices: map[device.MAC]keyFor{}}, veil: &secret.Veil{}}
}

// Veil makes every password that is on the keyring, or will be, known to v.
func (k *Keyring) Veil(v *secret.Veil) {
	k.veil = v
	k.reveal()
}

// reveal makes all that is on the keyring known to its veil.
func (k *Keyring) reveal() {
	c := &k.content
	k.know(c.Site)
	for _, p := range c.Kinds {
		k.know(p)
	}
	for _, list := range []map[device.MAC]keyFor{c.Devices, c.Next} {
		for _, e := range list {
			k.know(e.Password)
		}
	}
	for _, list := range c.Past {
		for _, e := range list {
			k.know(e.Password)
		}
	}
	for _, e := range c.Earlier {
		k.know(e.Password)
	}
	for _, list := range c.Sent {
		for _, e := range list {
			k.know(e.Password)
		}
	}
	for _, users := range []map[device.MAC]map[string]string{c.Users, c.NextUsers} {
		for _, list := range users {
			for _, p := range list {
				k.know(p)
			}
		}
	}
	for _, list := range []map[string]string{c.SharedUsers, c.Pairs} {
		for _, p := range list {
			k.know(p)
		}
	}
}

func (k *Keyring) know(plain string) { k.veil.Add(secret.New(plain)) }

// OpenKeyring decrypts a keyring. ErrNoKeyring when there is none, ErrPassphrase
// when the passphrase is wrong, ErrKeyring when the file is damaged.
func OpenKeyring(path, passphrase string) (*Keyring, error) {
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
	defer roomForScrypt()()
	plain, err := age.Decrypt(bytes.NewReader(data), id)
	var mismatch *age.NoIdentityMatchError
	if errors.As(err, &mismatch) {
		return nil, ErrPassphrase
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrKeyring, err)
	}
	text, err := io.ReadAll(io.LimitReader(plain, maxKeyring))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrKeyring, err)
	}
	k := NewKeyring(path, passphrase)
	if err := json.Unmarshal(text, &k.content); err != nil || k.content.Version < 1 || k.content.Version > keyringVersion {
		// The JSON error could quote a password, so it is not passed on.
		return nil, fmt.Errorf("%w: its content is not of this version", ErrKeyring)
	}
	k.content.Version = keyringVersion
	if k.content.Devices == nil {
		k.content.Devices = map[device.MAC]keyFor{}
	}
	return k, nil
}

// usualWork takes 128 MB and about half a second: it is spent at every command, on a
// laptop that carries a whole site beside it.
const usualWork = 17

// maxWork is the most that a keyring may ask for: 512 MB.
const maxWork = 19

// roomForScrypt gives memory that is not used back before scrypt takes its 128 MB, and
// what scrypt has taken after it: neither is held beside the other.
func roomForScrypt() (after func()) {
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
	plain, err := json.Marshal(k.content)
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
	to.SetWorkFactor(cmp.Or(k.work, usualWork))
	var out bytes.Buffer
	defer roomForScrypt()()
	w, err := age.Encrypt(&out, to)
	if err != nil {
		return fmt.Errorf("keyring: %w", err)
	}
	if _, err := w.Write(plain); err != nil {
		return fmt.Errorf("keyring: %w", err)
	}
	if err := w.Close(); err != nil {
		return fmt.Errorf("keyring: %w", err)
	}
	return WriteFile(k.path, out.Bytes(), 0o600)
}

// Draft gives a copy to plan on, which is never saved.
func (k *Keyring) Draft() (*Keyring, error) {
	plain, err := json.Marshal(k.content)
	if err != nil {
		return nil, fmt.Errorf("keyring: %w", err)
	}
	d := NewKeyring("", "")
	d.veil = k.veil
	if err := json.Unmarshal(plain, &d.content); err != nil {
		return nil, fmt.Errorf("keyring: %w", err)
	}
	return d, nil
}

// Site gives the site password, zero if there is none.
func (k *Keyring) Site() secret.Password { return secret.New(k.content.Site) }

// SetSite sets the site password, for devices that have none yet.
func (k *Keyring) SetSite(p secret.Password) {
	k.know(p.Reveal())
	k.content.Site = p.Reveal()
}

// For gives the user and password of a device.
func (k *Keyring) For(mac device.MAC) (user string, p secret.Password, ok bool) {
	e, ok := k.content.Devices[mac]
	return e.User, secret.New(e.Password), ok
}

// Set keeps the user and password of a device. It reports whether that changed anything.
func (k *Keyring) Set(mac device.MAC, user string, p secret.Password) bool {
	return k.set(mac, keyFor{User: user, Password: p.Reveal()})
}

func (k *Keyring) set(mac device.MAC, e keyFor) bool {
	was := k.content.Devices[mac]
	if was.User == e.User && was.Password == e.Password {
		return false
	}
	k.know(e.Password)
	k.content.Devices[mac] = e
	return true
}
