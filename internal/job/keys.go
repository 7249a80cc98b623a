package job

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
func (k *Keyring) ForKind(kind device.Kind) secret.Password { return secret.New(k.content.Kinds[kind]) }

// SetKind sets the password of a kind, for devices that have none yet.
func (k *Keyring) SetKind(kind device.Kind, p secret.Password) {
	if k.content.Kinds == nil {
		k.content.Kinds = map[device.Kind]string{}
	}
	k.know(p.Reveal())
	k.content.Kinds[kind] = p.Reveal()
}

// Next gives the password that a change is about to give a device, or has given.
func (k *Keyring) Next(mac device.MAC) (commission.Credential, bool) {
	e, ok := k.content.Next[mac]
	return commission.Credential{User: e.User, Password: secret.New(e.Password), Origin: commission.FromChange}, ok
}

// SetNext keeps a password beside the present one until it is known which holds.
func (k *Keyring) SetNext(mac device.MAC, user string, p secret.Password, now time.Time) {
	if k.content.Next == nil {
		k.content.Next = map[device.MAC]keyFor{}
	}
	k.know(p.Reveal())
	k.content.Next[mac] = keyFor{User: user, Password: p.Reveal(), Since: now.UTC()}
}

// NextSince tells when a device's next password was put on the keyring: what was
// sent to it before cannot have been that.
func (k *Keyring) NextSince(mac device.MAC) time.Time { return k.content.Next[mac].Since }

// maxPast bounds how many passwords of a device are remembered.
const maxPast = 8

// Opened takes down which key opened a device. The one it had before is kept
// among those of the past; a next one that it turned out to have becomes its own.
func (k *Keyring) Opened(mac device.MAC, c commission.Credential, now time.Time) (changed bool) {
	was, had := k.content.Devices[mac]
	e := keyFor{User: c.User, Password: c.Password.Reveal(), Origin: string(c.Origin)}
	if k.set(mac, e) {
		changed = true
		if had {
			k.passed(mac, was, now)
		}
	}
	delete(k.content.Forms, mac)
	if len(k.content.Sent[mac]) > 0 { // one of them, or another, opens it: the rest are in vain
		delete(k.content.Sent, mac)
		changed = true
	}
	// A key of earlier work stays: what was to replace a factory one is not needed.
	if next, ok := k.content.Next[mac]; ok && (next.Password == e.Password || c.Origin == commission.FromEarlier) {
		delete(k.content.Next, mac)
		changed = true
	}
	return changed
}

// KeepSent keeps what was sent to a device as its own, while another takes its place: it may
// have taken it all the same.
func (k *Keyring) KeepSent(mac device.MAC) {
	was := k.content.Devices[mac]
	if was.Password == "" || slices.Contains(k.content.Sent[mac], was) {
		return
	}
	if k.content.Sent == nil {
		k.content.Sent = map[device.MAC][]keyFor{}
	}
	k.content.Sent[mac] = append(k.content.Sent[mac], was)
}

// NoteCut takes down that a device keeps no more of a password than so many characters.
func (k *Keyring) NoteCut(mac device.MAC, n int) {
	if k.content.Cut == nil {
		k.content.Cut = map[device.MAC]int{}
	}
	k.content.Cut[mac] = n
}

// KeepsOnly gives how many characters of a password a device keeps; 0 is all, for all that is
// known.
func (k *Keyring) KeepsOnly(mac device.MAC) int { return k.content.Cut[mac] }

// maxForms bounds the forms that are remembered of a device.
const maxForms = 64

// NoteForm takes down that a device refuses a form of password for a user. A form without a
// name is none of those that are made.
func (k *Keyring) NoteForm(mac device.MAC, user, firmware, form string) {
	if form == "" || k.FormRefused(mac, user, firmware, form) || len(k.content.Forms[mac]) >= maxForms {
		return
	}
	if k.content.Forms == nil {
		k.content.Forms = map[device.MAC][]string{}
	}
	k.content.Forms[mac] = append(k.content.Forms[mac], formKey(user, firmware, form))
}

// FormRefused reports whether a device has refused a form of password for a user.
func (k *Keyring) FormRefused(mac device.MAC, user, firmware, form string) bool {
	return slices.Contains(k.content.Forms[mac], formKey(user, firmware, form))
}

func formKey(user, firmware, form string) string { return user + "\x00" + firmware + "\x00" + form }

// Sent gives what was sent to a device before its present key, none of which it has proved
// to refuse, the latest first.
func (k *Keyring) Sent(mac device.MAC) (out []commission.Credential) {
	for _, e := range slices.Backward(k.content.Sent[mac]) {
		out = append(out, commission.Credential{User: e.User, Password: secret.New(e.Password), Origin: commission.FromSent})
	}
	return k.NotRefused(mac, out)
}

// IsDoubted reports whether a key was refused before by a word that is not believed for good.
func (k *Keyring) IsDoubted(mac device.MAC, c commission.Credential) bool {
	return slices.Contains(k.content.Doubted[mac], mark(mac, c))
}

// passed keeps a key that a device had.
func (k *Keyring) passed(mac device.MAC, was keyFor, now time.Time) {
	if was.Password == "" {
		return
	}
	if k.content.Past == nil {
		k.content.Past = map[device.MAC][]past{}
	}
	list := append(k.content.Past[mac], past{was, now.UTC()})
	k.content.Past[mac] = list[max(0, len(list)-maxPast):]
}

// Begin has a device begin anew, with another password than it ever had: after a reset,
// or as the unit that replaces another. What it had is kept among those of the past.
func (k *Keyring) Begin(mac device.MAC, user string, p secret.Password, now time.Time) {
	k.passed(mac, k.content.Devices[mac], now)
	for _, own := range []map[device.MAC]keyFor{k.content.Next, k.content.Devices} {
		delete(own, mac)
	}
	delete(k.content.Users, mac)
	delete(k.content.NextUsers, mac)
	delete(k.content.Sent, mac)
	delete(k.content.Forms, mac)
	delete(k.content.Cut, mac)
	k.ForgetRefused(mac)
	k.Set(mac, user, p)
}

// Past gives the keys a device had before, the latest first.
func (k *Keyring) Past(mac device.MAC) (out []commission.Credential) {
	for _, p := range slices.Backward(k.content.Past[mac]) {
		out = append(out, commission.Credential{User: p.User, Password: secret.New(p.Password), Origin: commission.FromEarlier})
	}
	return out
}

// AddEarlier keeps a key of earlier work, and reports whether it is new.
func (k *Keyring) AddEarlier(user string, p secret.Password) bool {
	e := keyFor{User: user, Password: p.Reveal()}
	if slices.Contains(k.content.Earlier, e) {
		return false
	}
	k.know(e.Password)
	k.content.Earlier = append(k.content.Earlier, e)
	return true
}

// Earlier gives the keys of earlier work that a device has not refused yet.
func (k *Keyring) Earlier(mac device.MAC) (out []commission.Credential) {
	for _, e := range k.content.Earlier {
		out = append(out, commission.Credential{User: e.User, Password: secret.New(e.Password), Origin: commission.FromEarlier})
	}
	return k.NotRefused(mac, out)
}

// Earliers counts the keys of earlier work.
func (k *Keyring) Earliers() int { return len(k.content.Earlier) }

// mark tells a key that a device refused, without holding it.
func mark(mac device.MAC, c commission.Credential) string {
	sum := sha256.Sum256([]byte(mac.String() + "\x00" + c.User + "\x00" + c.Password.Reveal()))
	return hex.EncodeToString(sum[:8])
}

// NoteRefused remembers that keys do not open a device, so that they are not
// tried again. The device's own is not noted: it may have been offered wrongly.
func (k *Keyring) NoteRefused(mac device.MAC, list []evidence.Proven[commission.Credential]) (changed bool) {
	for _, p := range list {
		c := p.Is()
		m := mark(mac, c)
		if !p.Stands() {
			continue
		}
		if c.Origin == commission.FromKeyring || c.Origin == commission.FromChange || slices.Contains(k.content.Refused[mac], m) {
			continue
		}
		if k.content.Refused == nil {
			k.content.Refused = map[device.MAC][]string{}
		}
		k.content.Refused[mac] = append(k.content.Refused[mac], m)
		changed = true
	}
	return changed
}

// NoteDoubted remembers that keys were offered to a device and refused by a word that
// anybody may have said: they are offered again, after the others.
func (k *Keyring) NoteDoubted(mac device.MAC, list []commission.Credential) (changed bool) {
	for _, c := range list {
		if c.Origin == commission.FromKeyring || c.Origin == commission.FromChange {
			continue
		}
		if k.content.Doubted == nil {
			k.content.Doubted = map[device.MAC][]string{}
		}
		// The last one offered comes last again.
		m := mark(mac, c)
		if was := k.content.Doubted[mac]; len(was) > 0 && was[len(was)-1] == m {
			continue
		}
		k.content.Doubted[mac] = append(slices.DeleteFunc(k.content.Doubted[mac], func(o string) bool { return o == m }), m)
		changed = true
	}
	return changed
}

// NotRefused leaves out the keys that a device has refused before, and puts those last of
// which that is only heard.
func (k *Keyring) NotRefused(mac device.MAC, list []commission.Credential) (out []commission.Credential) {
	for _, c := range list {
		if !slices.Contains(k.content.Refused[mac], mark(mac, c)) {
			out = append(out, c)
		}
	}
	if doubted := k.content.Doubted[mac]; len(doubted) > 0 {
		slices.SortStableFunc(out, func(a, b commission.Credential) int {
			return slices.Index(doubted, mark(mac, a)) - slices.Index(doubted, mark(mac, b))
		})
	}
	return out
}

// ForgetRefused forgets which keys a device has refused, and reports whether any were.
func (k *Keyring) ForgetRefused(mac device.MAC) bool {
	had := len(k.content.Refused[mac])+len(k.content.Doubted[mac]) > 0
	delete(k.content.Refused, mac)
	delete(k.content.Doubted, mac)
	return had
}

// Origin tells where a device's key came from.
func (k *Keyring) Origin(mac device.MAC) commission.Origin {
	return commission.Origin(k.content.Devices[mac].Origin)
}
