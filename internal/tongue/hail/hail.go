// Package hail is the tongue of devices that speak Hail (docs/hail.md).
package hail

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/internal/reach"
	speak "janustat/internal/speak/hail"
	"janustat/internal/tongue"
)

// Name is what the register calls the tongue.
const Name device.Tongue = "hail"

// Tongue is Hail.
type Tongue struct{}

var (
	_ tongue.Tongue  = Tongue{}
	_ tongue.Locator = Tongue{}
	_ tongue.Meeter  = Tongue{}
)

// Name implements tongue.Tongue.
func (Tongue) Name() device.Tongue { return Name }

// Seek implements tongue.Tongue.
func (t Tongue) Seek(n *reach.Net) error {
	_, err := t.SeekMarked(n)
	return err
}

// SeekMarked implements tongue.Meeter: the mark is the exchange.
func (Tongue) SeekMarked(n *reach.Net) (mark string, err error) {
	m := speak.Message{Kind: speak.Seek, Device: speak.Everyone, Exchange: speak.NewExchange()}
	return string(m.Exchange[:]), link{n}.Send(m.Encode())
}

// Mark implements tongue.Meeter.
func (Tongue) Mark(h *reach.Heard) string {
	if h.Datagram == nil {
		return ""
	}
	m, err := speak.Parse(h.Datagram.Payload)
	if err != nil || m.Exchange == (speak.Exchange{}) {
		return ""
	}
	return string(m.Exchange[:])
}

// Hear implements tongue.Tongue.
func (Tongue) Hear(h *reach.Heard) (device.Sighting, bool) {
	d := h.Datagram
	if d == nil || d.From.Port() != speak.Port || d.To.Port() != speak.Port {
		return device.Sighting{}, false
	}
	m, err := speak.Parse(d.Payload)
	if m.Kind != speak.Here || m.Device != h.From {
		return device.Sighting{}, false
	}
	if errors.Is(err, speak.ErrVersion) {
		return device.Sighting{At: h.At, By: string(Name), MAC: h.From, Facts: later(int(m.Version))}, true
	}
	if err != nil {
		return device.Sighting{}, false
	}
	about, err := speak.ReadDescription(m.Body)
	if err != nil {
		return device.Sighting{}, false
	}
	return device.Sighting{At: h.At, By: string(Name), MAC: h.From, Address: about.Address.Addr(), Facts: facts(about)}, true
}

// later is what is known of a device that speaks a later version alone.
func later(version int) device.Facts {
	return device.Facts{Model: fmt.Sprintf("uses Hail %d, newer than this program", version), Access: device.Unmanaged}
}

// Meet implements tongue.Meeter.
func (Tongue) Meet(ctx context.Context, n *reach.Net, mac device.MAC) (device.Sighting, error) {
	about, err := speak.Meet(ctx, link{n}, mac, n.Pace)
	s := device.Sighting{At: time.Now(), By: string(Name), MAC: mac}
	two := errors.Is(err, speak.ErrTwoKeys)
	if err != nil && !two {
		return s, err
	}
	if s.Address, s.Facts = about.Address.Addr(), facts(about); two {
		s.Facts.Pins = map[device.Tongue]string{Name: device.TwoKeys}
	}
	return s, nil
}

// facts are what a device tells everyone of itself.
func facts(d speak.Description) device.Facts {
	version, pin := d.Pin()
	if version == 0 {
		f := later(slices.Max(d.Speaks))
		f.Make, f.Serial, f.Name = d.Make, d.Serial, d.Name
		return f
	}
	f := device.Facts{
		Make: d.Make, Model: d.Model, Serial: d.Serial, Firmware: d.Firmware, Name: d.Name, Access: device.Sealed,
		Tongues: []device.Tongue{Name}, Pins: map[device.Tongue]string{Name: string(pin)},
		Settings: &device.Settings{Address: d.Address.Addr(), Prefix: max(d.Address.Bits(), 0), Gateway: d.Gateway, DHCP: d.DHCP, Name: d.Name},
	}
	if d.Fresh {
		f.Access = device.Fresh
	}
	f.Kind, f.Indoor = kindOf(d.Kind)
	return f
}

// kindOf tells what a device is by its own word for it.
func kindOf(word string) (kind device.Kind, indoor bool) {
	switch strings.ToLower(word) {
	case "door station":
		return device.Intercom, false
	case "indoor station":
		return device.Intercom, true
	case "recorder":
		return device.Recorder, false
	case "camera":
		return device.Camera, false
	case "":
		return "", false
	}
	return device.Panel, false // panels, door and audio units: what is numbered among them
}

// link carries Hail over a wire. It is sent in both families, since a device may have no
// address in one; it answers in that which it was asked in.
type link struct{ net *reach.Net }

// Send implements speak.Link.
func (l link) Send(payload []byte) error {
	return errors.Join(
		l.net.SendLink(speak.Port, netip.AddrPortFrom(speak.Group, speak.Port), payload),
		l.net.SendLink(speak.Port, netip.AddrPortFrom(speak.Group6, speak.Port), payload))
}

// Hear implements speak.Link.
func (l link) Hear(of device.MAC, f func(payload []byte)) (stop func()) {
	return l.net.Hear(func(h reach.Heard) {
		if d := h.Datagram; h.From == of && d != nil && d.From.Port() == speak.Port && d.To.Port() == speak.Port {
			f(d.Payload)
		}
	})
}

// Locate implements tongue.Locator.
func (Tongue) Locate(ctx context.Context, w tongue.Way, p commission.Plan) (netip.Addr, error) {
	n := w.Network()
	for {
		c, err := speak.Dial(ctx, link{n}, p.MAC, speak.Pin(p.Pins[Name]), n.Pace)
		if err == nil {
			defer c.Close()
			about, _ := c.About()
			return about.Address.Addr(), nil
		}
		var other *speak.KeyError
		if errors.As(err, &other) || errors.Is(err, speak.ErrTwoKeys) || errors.Is(err, speak.ErrLater) {
			return netip.Addr{}, nil // it is met, and Open says what is wrong with it
		}
		if ctx.Err() != nil {
			return netip.Addr{}, context.Cause(ctx)
		}
		select {
		case <-n.Done():
			return netip.Addr{}, n.Err()
		default:
		}
	}
}

// Open implements tongue.Tongue.
func (Tongue) Open(ctx context.Context, w tongue.Way, p commission.Plan, _ netip.Addr) (commission.Session, error) {
	n := w.Network()
	pin := speak.Pin(p.Pins[Name])
	c, err := speak.Dial(ctx, link{n}, p.MAC, pin, n.Pace)
	var other *speak.KeyError
	switch {
	case pin == device.TwoKeys:
		return nil, commission.Stranger(p, "two keys were announced for its MAC: find out which device is not yours, and ask whoever runs the network to disconnect it")
	case errors.As(err, &other):
		return nil, commission.Stranger(p, fmt.Sprintf("its key is another, %.18s… and not %.18s…", other.Pin, pin))
	case errors.Is(err, speak.ErrTwoKeys), errors.Is(err, speak.ErrLater):
		return nil, commission.Stranger(p, err.Error())
	case err != nil:
		return nil, lost(err)
	}
	keys, _ := w.Memory().LoadOrStore(madeKeys{}, &speak.Keys{})
	c.Remember(keys.(*speak.Keys))
	return &session{Client: c, plan: p, veil: w.Blank()}, nil
}

// madeKeys is where the way remembers the keys that were made of passwords.
type madeKeys struct{}
