// Package keys is the passwords of a job: which device has which, had which, and refused which.
package keys

import (
	"encoding/json"
	"errors"
	"time"

	"janustat/core/device"
	"janustat/core/secret"
)

// Ring holds the passwords of a job, as far as they are in memory.
type Ring struct {
	c    content
	veil *secret.Veil // knows every password on the ring
}

// NewRing makes an empty ring.
func NewRing() *Ring {
	return &Ring{c: content{Version: version, Devices: map[device.MAC]keyFor{}}, veil: &secret.Veil{}}
}

// ErrVersion is returned for what is not of a version that is known.
var ErrVersion = errors.New("its content is not of this version")

// Read gives a ring from its plain form, which is JSON. The errors of that could quote a
// password: they are not passed on.
func Read(plain []byte) (*Ring, error) {
	k := NewRing()
	if err := json.Unmarshal(plain, &k.c); err != nil || k.c.Version < 1 || k.c.Version > version {
		return nil, ErrVersion
	}
	k.c.Version = version
	if k.c.Devices == nil {
		k.c.Devices = map[device.MAC]keyFor{}
	}
	return k, nil
}

// Plain gives its plain form.
func (k *Ring) Plain() ([]byte, error) { return json.Marshal(k.c) }

// Authority gives the site's authority in its plain form, with its private key; "" where there is none.
func (k *Ring) Authority() string { return k.c.Authority }

// SetAuthority keeps the site's authority.
func (k *Ring) SetAuthority(plain string) { k.c.Authority = plain }

// Backups gives the private key by which backups of devices open; "" where there is none yet.
func (k *Ring) Backups() string { return k.c.Backups }

// SetBackups keeps it.
func (k *Ring) SetBackups(key string) { k.c.Backups = key }

// Recovery gives the public keys that a copy of the ring was last encrypted to.
func (k *Ring) Recovery() []string { return k.c.Recovery }

// SetRecovery takes them down.
func (k *Ring) SetRecovery(to []string) { k.c.Recovery = to }

// Draft gives a copy to plan on.
func (k *Ring) Draft() (*Ring, error) {
	plain, err := k.Plain()
	if err != nil {
		return nil, err
	}
	d, err := Read(plain)
	if err != nil {
		return nil, err
	}
	d.veil = k.veil
	return d, nil
}

type content struct {
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
	// Authority is the site's, which signs certificates, in its plain form.
	Authority string `json:"authority,omitempty"`
	// Backups is the private key by which backups of devices open.
	Backups string `json:"backups,omitempty"`
	// Recovery are the public keys that a copy of the ring was last encrypted to.
	Recovery []string `json:"recovery,omitempty"`
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

// version is the version of the plain form. Version 1 had the site
// password and the devices' own only, version 2 no further users, version 3
// no pairs; they are read as they are.
const version = 5

// Veil makes every password that is on the keyring, or will be, known to v.
func (k *Ring) Veil(v *secret.Veil) {
	k.veil = v
	k.reveal()
}

// reveal makes all that is on the keyring known to its veil.
func (k *Ring) reveal() {
	c := &k.c
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

func (k *Ring) know(plain string) { k.veil.Add(secret.New(plain)) }

// Site gives the site password, zero if there is none.
func (k *Ring) Site() secret.Password { return secret.New(k.c.Site) }

// SetSite sets the site password, for devices that have none yet.
func (k *Ring) SetSite(p secret.Password) {
	k.know(p.Reveal())
	k.c.Site = p.Reveal()
}

// For gives the user and password of a device.
func (k *Ring) For(mac device.MAC) (user string, p secret.Password, ok bool) {
	e, ok := k.c.Devices[mac]
	return e.User, secret.New(e.Password), ok
}

// Set keeps the user and password of a device. It reports whether that changed anything.
func (k *Ring) Set(mac device.MAC, user string, p secret.Password) bool {
	return k.set(mac, keyFor{User: user, Password: p.Reveal()})
}

func (k *Ring) set(mac device.MAC, e keyFor) bool {
	was := k.c.Devices[mac]
	if was.User == e.User && was.Password == e.Password {
		return false
	}
	k.know(e.Password)
	k.c.Devices[mac] = e
	return true
}
