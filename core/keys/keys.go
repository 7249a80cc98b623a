package keys

import (
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/evidence"
	"janustat/core/secret"
)

// ForKind gives the password of a kind, zero if there is none.
func (k *Ring) ForKind(kind device.Kind) secret.Password { return secret.New(k.c.Kinds[kind]) }

// SetKind sets the password of a kind, for devices that have none yet.
func (k *Ring) SetKind(kind device.Kind, p secret.Password) {
	if k.c.Kinds == nil {
		k.c.Kinds = map[device.Kind]string{}
	}
	k.know(p.Reveal())
	k.c.Kinds[kind] = p.Reveal()
}

// Next gives the password that a change is about to give a device, or has given.
func (k *Ring) Next(mac device.MAC) (commission.Credential, bool) {
	e, ok := k.c.Next[mac]
	return commission.Credential{User: e.User, Password: secret.New(e.Password), Origin: commission.FromChange}, ok
}

// SetNext keeps a password beside the present one until it is known which holds.
func (k *Ring) SetNext(mac device.MAC, user string, p secret.Password, now time.Time) {
	if k.c.Next == nil {
		k.c.Next = map[device.MAC]keyFor{}
	}
	k.know(p.Reveal())
	k.c.Next[mac] = keyFor{User: user, Password: p.Reveal(), Since: now.UTC()}
}

// NextSince tells when a device's next password was put on the keyring: what was
// sent to it before cannot have been that.
func (k *Ring) NextSince(mac device.MAC) time.Time { return k.c.Next[mac].Since }

// maxPast bounds how many passwords of a device are remembered.
const maxPast = 8

// Opened takes down which key opened a device. The one it had before is kept
// among those of the past; a next one that it turned out to have becomes its own.
func (k *Ring) Opened(mac device.MAC, c commission.Credential, now time.Time) (changed bool) {
	was, had := k.c.Devices[mac]
	e := keyFor{User: c.User, Password: c.Password.Reveal(), Origin: string(c.Origin)}
	if k.set(mac, e) {
		changed = true
		if had {
			k.passed(mac, was, now)
		}
	}
	delete(k.c.Forms, mac)
	if len(k.c.Sent[mac]) > 0 { // one of them, or another, opens it: the rest are in vain
		delete(k.c.Sent, mac)
		changed = true
	}
	// A key of earlier work stays: what was to replace a factory one is not needed.
	if next, ok := k.c.Next[mac]; ok && (next.Password == e.Password || c.Origin == commission.FromEarlier) {
		delete(k.c.Next, mac)
		changed = true
	}
	return changed
}

// KeepSent keeps what was sent to a device as its own, while another takes its place: it may
// have taken it all the same.
func (k *Ring) KeepSent(mac device.MAC) {
	was := k.c.Devices[mac]
	if was.Password == "" || slices.Contains(k.c.Sent[mac], was) {
		return
	}
	if k.c.Sent == nil {
		k.c.Sent = map[device.MAC][]keyFor{}
	}
	k.c.Sent[mac] = append(k.c.Sent[mac], was)
}

// NoteCut takes down that a device keeps no more of a password than so many characters.
func (k *Ring) NoteCut(mac device.MAC, n int) {
	if k.c.Cut == nil {
		k.c.Cut = map[device.MAC]int{}
	}
	k.c.Cut[mac] = n
}

// KeepsOnly gives how many characters of a password a device keeps; 0 is all, for all that is
// known.
func (k *Ring) KeepsOnly(mac device.MAC) int { return k.c.Cut[mac] }

// maxForms bounds the forms that are remembered of a device.
const maxForms = 64

// NoteForm takes down that a device refuses a form of password for a user. A form without a
// name is none of those that are made.
func (k *Ring) NoteForm(mac device.MAC, user, firmware, form string) {
	if form == "" || k.FormRefused(mac, user, firmware, form) || len(k.c.Forms[mac]) >= maxForms {
		return
	}
	if k.c.Forms == nil {
		k.c.Forms = map[device.MAC][]string{}
	}
	k.c.Forms[mac] = append(k.c.Forms[mac], formKey(user, firmware, form))
}

// FormRefused reports whether a device has refused a form of password for a user.
func (k *Ring) FormRefused(mac device.MAC, user, firmware, form string) bool {
	return slices.Contains(k.c.Forms[mac], formKey(user, firmware, form))
}

func formKey(user, firmware, form string) string { return user + "\x00" + firmware + "\x00" + form }

// Sent gives what was sent to a device before its present key, none of which it has proved
// to refuse, the latest first.
func (k *Ring) Sent(mac device.MAC) (out []commission.Credential) {
	for _, e := range slices.Backward(k.c.Sent[mac]) {
		out = append(out, commission.Credential{User: e.User, Password: secret.New(e.Password), Origin: commission.FromSent})
	}
	return k.NotRefused(mac, out)
}

// IsDoubted reports whether a key was refused before by a word that is not believed for good.
func (k *Ring) IsDoubted(mac device.MAC, c commission.Credential) bool {
	return slices.Contains(k.c.Doubted[mac], mark(mac, c))
}

// passed keeps a key that a device had.
func (k *Ring) passed(mac device.MAC, was keyFor, now time.Time) {
	if was.Password == "" {
		return
	}
	if k.c.Past == nil {
		k.c.Past = map[device.MAC][]past{}
	}
	list := append(k.c.Past[mac], past{was, now.UTC()})
	k.c.Past[mac] = list[max(0, len(list)-maxPast):]
}

// Begin has a device begin anew, with another password than it ever had: after a reset,
// or as the unit that replaces another. What it had is kept among those of the past.
func (k *Ring) Begin(mac device.MAC, user string, p secret.Password, now time.Time) {
	k.passed(mac, k.c.Devices[mac], now)
	for _, own := range []map[device.MAC]keyFor{k.c.Next, k.c.Devices} {
		delete(own, mac)
	}
	delete(k.c.Users, mac)
	delete(k.c.NextUsers, mac)
	delete(k.c.Sent, mac)
	delete(k.c.Forms, mac)
	delete(k.c.Cut, mac)
	k.ForgetRefused(mac)
	k.Set(mac, user, p)
}

// Past gives the keys a device had before, the latest first.
func (k *Ring) Past(mac device.MAC) (out []commission.Credential) {
	for _, p := range slices.Backward(k.c.Past[mac]) {
		out = append(out, commission.Credential{User: p.User, Password: secret.New(p.Password), Origin: commission.FromEarlier})
	}
	return out
}

// AddEarlier keeps a key of earlier work, and reports whether it is new.
func (k *Ring) AddEarlier(user string, p secret.Password) bool {
	e := keyFor{User: user, Password: p.Reveal()}
	if slices.Contains(k.c.Earlier, e) {
		return false
	}
	k.know(e.Password)
	k.c.Earlier = append(k.c.Earlier, e)
	return true
}

// Earlier gives the keys of earlier work that a device has not refused yet.
func (k *Ring) Earlier(mac device.MAC) (out []commission.Credential) {
	for _, e := range k.c.Earlier {
		out = append(out, commission.Credential{User: e.User, Password: secret.New(e.Password), Origin: commission.FromEarlier})
	}
	return k.NotRefused(mac, out)
}

// Earliers counts the keys of earlier work.
func (k *Ring) Earliers() int { return len(k.c.Earlier) }

// mark tells a key that a device refused, without holding it.
func mark(mac device.MAC, c commission.Credential) string {
	sum := sha256.Sum256([]byte(mac.String() + "\x00" + c.User + "\x00" + c.Password.Reveal()))
	return hex.EncodeToString(sum[:8])
}

// NoteRefused remembers that keys do not open a device, so that they are not
// tried again. The device's own is not noted: it may have been offered wrongly.
func (k *Ring) NoteRefused(mac device.MAC, list []evidence.Proven[commission.Credential]) (changed bool) {
	for _, p := range list {
		c := p.Is()
		m := mark(mac, c)
		if !p.Stands() {
			continue
		}
		if c.Origin == commission.FromKeyring || c.Origin == commission.FromChange || slices.Contains(k.c.Refused[mac], m) {
			continue
		}
		if k.c.Refused == nil {
			k.c.Refused = map[device.MAC][]string{}
		}
		k.c.Refused[mac] = append(k.c.Refused[mac], m)
		changed = true
	}
	return changed
}

// NoteDoubted remembers that keys were offered to a device and refused by a word that
// anybody may have said: they are offered again, after the others.
func (k *Ring) NoteDoubted(mac device.MAC, list []commission.Credential) (changed bool) {
	for _, c := range list {
		if c.Origin == commission.FromKeyring || c.Origin == commission.FromChange {
			continue
		}
		if k.c.Doubted == nil {
			k.c.Doubted = map[device.MAC][]string{}
		}
		// The last one offered comes last again.
		m := mark(mac, c)
		if was := k.c.Doubted[mac]; len(was) > 0 && was[len(was)-1] == m {
			continue
		}
		k.c.Doubted[mac] = append(slices.DeleteFunc(k.c.Doubted[mac], func(o string) bool { return o == m }), m)
		changed = true
	}
	return changed
}

// NotRefused leaves out the keys that a device has refused before, and puts those last of
// which that is only heard.
func (k *Ring) NotRefused(mac device.MAC, list []commission.Credential) (out []commission.Credential) {
	for _, c := range list {
		if !slices.Contains(k.c.Refused[mac], mark(mac, c)) {
			out = append(out, c)
		}
	}
	if doubted := k.c.Doubted[mac]; len(doubted) > 0 {
		slices.SortStableFunc(out, func(a, b commission.Credential) int {
			return slices.Index(doubted, mark(mac, a)) - slices.Index(doubted, mark(mac, b))
		})
	}
	return out
}

// ForgetRefused forgets which keys a device has refused, and reports whether any were.
func (k *Ring) ForgetRefused(mac device.MAC) bool {
	had := len(k.c.Refused[mac])+len(k.c.Doubted[mac]) > 0
	delete(k.c.Refused, mac)
	delete(k.c.Doubted, mac)
	return had
}

// Origin tells where a device's key came from.
func (k *Ring) Origin(mac device.MAC) commission.Origin {
	return commission.Origin(k.c.Devices[mac].Origin)
}
