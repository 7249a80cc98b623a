package keys

import (
	"slices"
	"strings"

	"janustat/core/device"
	"janustat/core/secret"
)

// UserFor gives the password of a further user on a device, zero if there is none.
func (k *Ring) UserFor(mac device.MAC, name string) secret.Password {
	return secret.New(k.c.Users[mac][name])
}

// SetUserFor keeps the password of a further user on a device.
func (k *Ring) SetUserFor(mac device.MAC, name string, p secret.Password) {
	k.know(p.Reveal())
	setUser(&k.c.Users, mac, name, p)
}

func setUser(in *map[device.MAC]map[string]string, mac device.MAC, name string, p secret.Password) {
	if *in == nil {
		*in = map[device.MAC]map[string]string{}
	}
	if (*in)[mac] == nil {
		(*in)[mac] = map[string]string{}
	}
	(*in)[mac][name] = p.Reveal()
}

// NextUserFor gives the password that a change is about to give a further user of
// a device, or has given; zero if there is none.
func (k *Ring) NextUserFor(mac device.MAC, name string) secret.Password {
	return secret.New(k.c.NextUsers[mac][name])
}

// SetNextUserFor keeps it beside the present one until the device has confirmed it.
func (k *Ring) SetNextUserFor(mac device.MAC, name string, p secret.Password) {
	k.know(p.Reveal())
	setUser(&k.c.NextUsers, mac, name, p)
}

// ConfirmUser takes down that a further user has the next password.
func (k *Ring) ConfirmUser(mac device.MAC, name string) {
	if next := k.NextUserFor(mac, name); !next.IsZero() {
		k.SetUserFor(mac, name, next)
		delete(k.c.NextUsers[mac], name)
	}
}

// UserNames gives the further users that a device has on the keyring, sorted.
func (k *Ring) UserNames(mac device.MAC) (out []string) {
	for name := range k.c.Users[mac] {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// SharedUser gives the password that a further user has on all devices, zero if
// there is none.
func (k *Ring) SharedUser(name string) secret.Password {
	return secret.New(k.c.SharedUsers[name])
}

// SetSharedUser keeps it, for devices that do not have the user yet.
func (k *Ring) SetSharedUser(name string, p secret.Password) {
	if k.c.SharedUsers == nil {
		k.c.SharedUsers = map[string]string{}
	}
	k.know(p.Reveal())
	k.c.SharedUsers[name] = p.Reveal()
}

// Pair gives the registration secret of a door station and an indoor one, zero if there is
// none.
func (k *Ring) Pair(door, station device.MAC) secret.Password {
	return secret.New(k.c.Pairs[door.String()+" "+station.String()])
}

// PairsOf gives, by the MAC of the indoor station, what a door station registers it by.
func (k *Ring) PairsOf(door device.MAC) map[device.MAC]secret.Password {
	out := map[device.MAC]secret.Password{}
	for both, p := range k.c.Pairs {
		a, b, _ := strings.Cut(both, " ")
		station, err := device.ParseMAC(b)
		if err == nil && a == door.String() {
			out[station] = secret.New(p)
		}
	}
	return out
}

// SetPair keeps it.
func (k *Ring) SetPair(door, station device.MAC, p secret.Password) {
	if k.c.Pairs == nil {
		k.c.Pairs = map[string]string{}
	}
	k.know(p.Reveal())
	k.c.Pairs[door.String()+" "+station.String()] = p.Reveal()
}
