// Package hail is the tongue of devices that speak Hail (docs/hail.md).
package hail

import (
	"context"
	"errors"
	"net/netip"
	"strings"

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
)

// Name implements tongue.Tongue.
func (Tongue) Name() device.Tongue { return Name }

// Seek implements tongue.Tongue.
func (Tongue) Seek(n *reach.Net) error {
	m := speak.Message{Kind: speak.Seek, Device: speak.Everyone, Exchange: speak.NewExchange()}
	return link{n}.Send(m.Encode())
}

// Hear implements tongue.Tongue.
func (Tongue) Hear(h *reach.Heard) (device.Sighting, bool) {
	d := h.Datagram
	if d == nil || d.From.Port() != speak.Port || d.To.Port() != speak.Port {
		return device.Sighting{}, false
	}
	m, err := speak.Parse(d.Payload)
	if err != nil || m.Kind != speak.Here || m.Device != h.From {
		return device.Sighting{}, false
	}
	about, err := speak.ReadDescription(m.Body)
	if err != nil {
		return device.Sighting{}, false
	}
	return device.Sighting{At: h.At, By: string(Name), MAC: h.From, Address: about.Address.Addr(), Facts: facts(about)}, true
}

// facts are what a device tells everyone of itself.
func facts(d speak.Description) device.Facts {
	f := device.Facts{
		Make: d.Make, Model: d.Model, Serial: d.Serial, Firmware: d.Firmware, Name: d.Name, Access: device.Sealed,
		Tongues: []device.Tongue{Name}, Pins: map[device.Tongue]string{Name: speak.Fingerprint(d.Key)},
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
func (Tongue) Locate(ctx context.Context, w tongue.Way, mac device.MAC) (netip.Addr, error) {
	n := w.Network()
	for {
		c, err := speak.Dial(ctx, link{n}, mac, n.Pace)
		if err == nil {
			defer c.Close()
			return c.About.Address.Addr(), nil
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
	c, err := speak.Dial(ctx, link{n}, p.MAC, n.Pace)
	if err != nil {
		return nil, lost(err)
	}
	return &session{Client: c, plan: p, veil: w.Blank()}, nil
}
