package job

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/secret"
	"janustat/core/text"
)

// WantedUser is a further user that devices are to have beside the administrator.
type WantedUser struct {
	Name string   `yaml:"name"`
	Role string   `yaml:"role"` // administrator, operator or user
	On   []string `yaml:"on"`   // kinds, tags, MACs or serials; every device if left out
}

// LevelOf gives the level of a role in the job sheet; of one that is none the lowest.
func LevelOf(role string) commission.Level { return cmp.Or(levels[role], commission.Viewer) }

var levels = map[string]commission.Level{
	"administrator": commission.Administrator, "operator": commission.Operator, "user": commission.Viewer,
}

// maxUserName is what common devices take.
const maxUserName = 32

func (s *Sheet) checkUsers() error {
	seen := map[string]bool{}
	for i, u := range s.Users {
		switch {
		case u.Name == "" || len([]rune(u.Name)) > maxUserName || strings.ContainsAny(u.Name, " \n\t\x00:"):
			return s.wrong(fmt.Sprintf("users[%d].name", i), "%q: a user name is 1 to %d characters without spaces or colons", u.Name, maxUserName)
		case strings.EqualFold(u.Name, s.User()):
			return s.wrong(fmt.Sprintf("users[%d].name", i), "%q is the administrator of password.user already", u.Name)
		case seen[strings.ToLower(u.Name)]:
			return s.wrong(fmt.Sprintf("users[%d].name", i), "%q is there twice", u.Name)
		case levels[u.Role] == "":
			return s.wrong(fmt.Sprintf("users[%d].role", i), "%q: use administrator, operator or user%s", u.Role, text.Meant(u.Role, []string{"administrator", "operator", "user"}))
		}
		seen[strings.ToLower(u.Name)] = true
	}
	return nil
}

// UserFor gives the password of a further user on a device, zero if there is none.
func (k *Keyring) UserFor(mac device.MAC, name string) secret.Password {
	return secret.New(k.content.Users[mac][name])
}

// SetUserFor keeps the password of a further user on a device.
func (k *Keyring) SetUserFor(mac device.MAC, name string, p secret.Password) {
	k.know(p.Reveal())
	setUser(&k.content.Users, mac, name, p)
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
func (k *Keyring) NextUserFor(mac device.MAC, name string) secret.Password {
	return secret.New(k.content.NextUsers[mac][name])
}

// SetNextUserFor keeps it beside the present one until the device has confirmed it.
func (k *Keyring) SetNextUserFor(mac device.MAC, name string, p secret.Password) {
	k.know(p.Reveal())
	setUser(&k.content.NextUsers, mac, name, p)
}

// ConfirmUser takes down that a further user has the next password.
func (k *Keyring) ConfirmUser(mac device.MAC, name string) {
	if next := k.NextUserFor(mac, name); !next.IsZero() {
		k.SetUserFor(mac, name, next)
		delete(k.content.NextUsers[mac], name)
	}
}

// UserNames gives the further users that a device has on the keyring, sorted.
func (k *Keyring) UserNames(mac device.MAC) (out []string) {
	for name := range k.content.Users[mac] {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// SharedUser gives the password that a further user has on all devices, zero if
// there is none.
func (k *Keyring) SharedUser(name string) secret.Password {
	return secret.New(k.content.SharedUsers[name])
}

// SetSharedUser keeps it, for devices that do not have the user yet.
func (k *Keyring) SetSharedUser(name string, p secret.Password) {
	if k.content.SharedUsers == nil {
		k.content.SharedUsers = map[string]string{}
	}
	k.know(p.Reveal())
	k.content.SharedUsers[name] = p.Reveal()
}

// Pair gives the registration secret of a door station and an indoor one, zero if there is
// none.
func (k *Keyring) Pair(door, station device.MAC) secret.Password {
	return secret.New(k.content.Pairs[door.String()+" "+station.String()])
}

// PairsOf gives, by the MAC of the indoor station, what a door station registers it by.
func (k *Keyring) PairsOf(door device.MAC) map[device.MAC]secret.Password {
	out := map[device.MAC]secret.Password{}
	for both, p := range k.content.Pairs {
		a, b, _ := strings.Cut(both, " ")
		station, err := device.ParseMAC(b)
		if err == nil && a == door.String() {
			out[station] = secret.New(p)
		}
	}
	return out
}

// SetPair keeps it.
func (k *Keyring) SetPair(door, station device.MAC, p secret.Password) {
	if k.content.Pairs == nil {
		k.content.Pairs = map[string]string{}
	}
	k.know(p.Reveal())
	k.content.Pairs[door.String()+" "+station.String()] = p.Reveal()
}
