package bench

import (
	"crypto/rand"
	"crypto/sha256"
	"net/netip"
	"slices"
	"sync"
	"time"

	"janustat/core/device"
	"janustat/internal/speak/hail"
)

// Rivalry is how a rival races.
type Rivalry struct {
	After    bool // it answers after the device, and not before
	Between  bool // it is silent until a handshake begins, and then announces itself and answers
	Sealed   bool // it says that it has a password
	Refuses  bool // it refuses whatever is asked, in the open: locked, for as long as can be said
	Firmware string
	Phantoms int // it announces so many further devices, each from a MAC of its own
}

// Rival is a hostile neighbour: on a port of its own it answers in the name of a device
// that speaks Hail, from the device's MAC, with a key of its own.
type Rival struct {
	how     Rivalry
	victim  *Device
	port    *Port
	station *hail.Station

	mu   sync.Mutex
	gave []string // passwords that it was given
	psk  []byte
}

// Rival has one race a device, until the bench stops.
func (b *Bench) Rival(id string, how Rivalry) (*Rival, error) {
	own, err := hail.NewKey(&seeded{seed: sha256.Sum256([]byte("rival of " + id))})
	if err != nil {
		return nil, err
	}
	r := &Rival{how: how, victim: b.Device(id)}
	if how.Sealed {
		r.psk = make([]byte, 32)
	}
	r.station = hail.NewStation(r.victim.unit.mac, own, r, rand.Reader, time.Now)
	r.port = b.sw.Plug(r.hear, nil)
	for i := range how.Phantoms {
		r.Phantom(i)
	}
	return r, nil
}

// Given is what it was given by mistake.
func (r *Rival) Given() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.gave)
}

func (r *Rival) hear(frame []byte) {
	payload, v6, ok := hailIn(frame)
	if !ok || device.MACFrom(frame[6:12]) == r.victim.unit.mac {
		return
	}
	m, err := hail.Parse(payload)
	if err != nil {
		return
	}
	send := func(answer []byte) { r.port.Send(hailFrame(r.victim.unit.mac, netip.IPv4Unspecified(), answer, v6)) }
	act := func() {
		if r.how.Refuses && m.Device == r.victim.unit.mac && m.Kind != hail.Seek {
			refusal := hail.Message{Version: m.Version, Kind: hail.Refusal, Device: m.Device, Exchange: m.Exchange, Seq: m.Seq, Body: []byte{byte(hail.Locked), 255, 255, 255, 255}}
			send(refusal.Encode())
			return
		}
		r.station.Take(payload, send)
	}
	switch {
	case r.how.Between && m.Kind == hail.Seek:
	case r.how.Between && m.Kind == hail.Begin:
		r.station.Announce(send)
		act()
	case r.how.After:
		time.AfterFunc(5*time.Millisecond, act)
	default:
		act()
	}
}

// Phantom announces a device that is not there.
func (r *Rival) Phantom(i int) {
	mac := device.MAC{0x02, 0xba, 0xd0, byte(i >> 16), byte(i >> 8), byte(i)}
	own, err := hail.NewKey(&seeded{seed: sha256.Sum256(mac[:])})
	if err != nil {
		return
	}
	s := hail.NewStation(mac, own, r, rand.Reader, time.Now)
	s.Announce(func(b []byte) { r.port.Send(hailFrame(mac, netip.IPv4Unspecified(), b, false)) })
}

// Describe implements hail.Owner: as the device itself, but for what it has no key for.
func (r *Rival) Describe() hail.Description {
	d := (&hailEnd{d: r.victim}).Describe()
	d.Fresh = !r.how.Sealed
	d.Salt = make([]byte, hail.SaltLen)
	if r.how.Firmware != "" {
		d.Firmware = r.how.Firmware
	}
	return d
}

// PasswordKey implements hail.Owner.
func (r *Rival) PasswordKey(int) []byte {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.psk
}

// Carry implements hail.Owner: it is content with everything, and keeps what it is given.
func (r *Rival) Carry(q hail.Request) (hail.Response, func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if q.Password != "" {
		r.gave = append(r.gave, q.Password)
	}
	return hail.Response{OK: true, State: &hail.State{Firmware: r.how.Firmware}}, nil
}

// Wrong implements hail.Owner.
func (r *Rival) Wrong() {}

// Fits implements hail.Owner.
func (r *Rival) Fits() {}

// Shut implements hail.Owner.
func (r *Rival) Shut() time.Duration { return 0 }

// Yield ends it.
func (r *Rival) Yield() { r.port.Unplug() }
