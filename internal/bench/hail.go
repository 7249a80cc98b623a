package bench

import (
	"cmp"
	"crypto/rand"
	"crypto/sha256"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/flynn/noise"

	"janustat/core/device"
	core "janustat/core/secret"
	"janustat/internal/speak/hail"
)

// Words of the models' speak_hail.
const (
	hailToo  = "too"  // beside the standard device service
	hailOnly = "only" // instead of it
)

// speaks is what a device that speaks Hail keeps over restarts.
type speaks struct {
	salt   []byte
	key    []byte // of its password
	keyOf  string // which password, and version, that is of
	server *hail.Server
	pairs  []hail.Pair
}

// hailEnd is the device's end of Hail.
type hailEnd struct {
	d       *Device
	station *hail.Station
}

var hailCalls = []string{
	hail.DoRead, hail.DoClock, hail.DoName, hail.DoAddress, hail.DoGateway, hail.DoPassword, hail.DoWink, hail.DoRestart, hail.DoReset,
}

// staticKey is the key that a device came with: it stays when it is reset.
func staticKey(m device.MAC) noise.DHKey {
	k, err := hail.NewKey(&seeded{seed: sha256.Sum256([]byte("hail key of " + m.String()))})
	if err != nil {
		panic(err) // of a source that never ends
	}
	return k
}

// seeded gives the same bytes for the same seed.
type seeded struct {
	seed [32]byte
	n    uint64
}

func (s *seeded) Read(b []byte) (int, error) {
	for i := range b {
		if s.n%32 == 0 {
			s.seed = sha256.Sum256(s.seed[:])
		}
		b[i] = s.seed[s.n%32]
		s.n++
	}
	return len(b), nil
}

// startHail has the device speak Hail.
func (d *Device) startHail() {
	if d.unit.model.Hail == "" || d.unit.ByHand {
		return
	}
	e := &hailEnd{d: d}
	e.station = hail.NewStation(d.unit.mac, staticKey(d.unit.mac), e, rand.Reader, time.Now)
	e.station.Spread = d.host.port.sw.pace.Of(hailSpread)
	h := d.host
	h.change(func() {
		h.hail = func(payload []byte, v6 bool) {
			e.station.Take(payload, func(answer []byte) { h.sendHail(answer, v6) })
		}
	})
	h.onDown(func() { h.change(func() { h.hail = nil }) })
	e.station.Announce(func(b []byte) {
		h.sendHail(b, false)
	})
}

// Describe implements hail.Owner.
func (e *hailEnd) Describe() hail.Description {
	d := e.d
	d.mu.Lock()
	defer d.mu.Unlock()
	m := d.unit.model
	does := slices.Clone(hailCalls)
	switch m.Kind {
	case "panel":
		does = append(does, hail.DoServer)
	case "door-station", "indoor-station":
		does = append(does, hail.DoPair)
		if m.hailVersion() > hail.Version1 {
			does = append(does, hail.DoPairs, hail.DoUnpair)
		}
	case "audio":
		does = append(does, hail.DoServer)
	}
	words := map[string]string{"door-station": "door station", "indoor-station": "indoor station", "audio": "audio unit"}
	kind := words[m.Kind]
	if kind == "" {
		kind = m.Kind
	}
	return hail.Description{
		Make: m.Make, Model: m.Name, Serial: d.unit.Serial, Firmware: m.Firmware, Kind: kind, Name: d.name(), Fresh: d.fresh(),
		Address: d.state.address, Gateway: d.state.gateway, DHCP: d.state.dhcp, Salt: d.salt(), Does: does,
		Speaks: []int{m.hailVersion()},
		Rules:  m.Rules.told(),
	}
}

// told gives rules as a device tells them, nil where it keeps them to itself.
func (r *Rules) told() *hail.Rules {
	if r == nil || r.Silent {
		return nil
	}
	return &hail.Rules{Min: r.Min, Max: r.Max, Upper: r.Upper, Digits: r.Digits, Special: r.Special, Plain: r.NoSpecial, NotUser: r.NoUser}
}

// hailSpread is how long a device waits at most before it answers everyone.
const hailSpread = 400 * time.Millisecond

// hailVersion is that of a model's conversations, the newest if it names none.
func (m *Model) hailVersion() int {
	if m.HailV == 0 {
		return hail.Version2
	}
	return m.HailV
}

// name is what the device is called. The lock is held.
func (d *Device) name() string {
	for _, s := range d.state.scopes {
		if name, ok := strings.CutPrefix(s, scopeRoot+"name/"); ok {
			if plain, err := url.PathUnescape(name); err == nil {
				return plain
			}
			return name
		}
	}
	return ""
}

// setName does so. The lock is held.
func (d *Device) setName(name string) {
	d.state.scopes = slices.DeleteFunc(slices.Clone(d.state.scopes), func(s string) bool { return strings.HasPrefix(s, scopeRoot+"name/") })
	d.state.scopes = append(d.state.scopes, scopeRoot+"name/"+url.PathEscape(name))
}

// salt is drawn when it is first wanted. The lock is held.
func (d *Device) salt() []byte {
	if d.state.hail.salt == nil {
		d.state.hail.salt = make([]byte, hail.SaltLen)
		_, _ = rand.Read(d.state.hail.salt) // never fails (crypto/rand)
	}
	return d.state.hail.salt
}

// PasswordKey implements hail.Owner: the key of the administrator, made when the password
// is another than the last time.
func (e *hailEnd) PasswordKey(version int) []byte {
	d := e.d
	d.mu.Lock()
	defer d.mu.Unlock()
	for user, a := range d.state.users {
		if a.level != "Administrator" {
			continue
		}
		if of := keyOf(version, user, a.password); d.state.hail.keyOf != of {
			k, err := hail.PasswordKey(version, user, core.New(a.password), d.salt())
			if err != nil {
				return nil
			}
			d.state.hail.key, d.state.hail.keyOf = k, of
		}
		return d.state.hail.key
	}
	return nil
}

// Wrong implements hail.Owner.
func (e *hailEnd) Wrong() {
	d := e.d
	d.mu.Lock()
	defer d.mu.Unlock()
	d.logs.add(Event{Host: d.unit.ID, What: EventWrongPassword, Op: "hail"})
	if d.guard.wrong++; d.guard.wrong >= lockAfter {
		d.guard.locked = time.Now().Add(cmp.Or(d.unit.Lock, lockFor))
	}
}

// Fits implements hail.Owner.
func (e *hailEnd) Fits() {
	d := e.d
	d.mu.Lock()
	defer d.mu.Unlock()
	d.guard.wrong = 0
	d.logs.add(Event{Host: d.unit.ID, What: EventPassword, Op: "hail", OK: true})
}

// Shut implements hail.Owner.
func (e *hailEnd) Shut() time.Duration {
	e.d.mu.Lock()
	defer e.d.mu.Unlock()
	return max(0, time.Until(e.d.guard.locked))
}
