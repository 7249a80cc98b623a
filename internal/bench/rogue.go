package bench

import (
	"crypto/tls"
	"net/netip"
	"slices"
	"time"
)

// Pose is how a stranger poses as a device whose MAC and address it has taken over.
type Pose struct {
	Fresh    bool          // says that it has no administrator
	NoHTTPS  bool          // speaks HTTP alone
	Cert     bool          // shows a certificate of its own
	Serial   string        // tells this serial number; the device's own if left out
	Endpoint bool          // tells an endpoint reference of its own
	Open     bool          // tells its settings to everyone
	Token    bool          // asks for a token in the place of a digest
	Ahead    time.Duration // by so much its clock is ahead
}

// Usurp has a stranger take over the device's MAC and address, until Yield. Whatever is
// sent to it is in the log under the device's name, and in what Passwords tells.
func (d *Device) Usurp(p Pose) {
	d.mu.Lock()
	own := d.unit
	d.usurped = &usurped{unit: own, state: d.state, cert: d.cert}
	d.state.users = map[string]account{}
	if !p.Fresh {
		d.state.users["admin"] = account{"of the stranger's own", "Administrator"}
	}
	if p.NoHTTPS {
		d.unit.model.HTTPS = ""
		d.serve(serving{plain: true})
	}
	if p.Cert {
		d.cert, d.state.keystore = selfSigned(d.unit), keystore{}
	}
	if p.Token {
		d.unit.model.Auth = "token"
	}
	if p.Ahead != 0 {
		d.state.offset = p.Ahead
	}
	if p.Serial != "" {
		d.unit.Serial = p.Serial
	}
	d.poses, d.unit.model.Strict = p, !p.Open && p.Fresh
	d.had = nil
	d.mu.Unlock()
	d.again(moveTime, false)
}

// usurped is what a device was before a stranger took its place.
type usurped struct {
	unit  Unit
	state state
	cert  *tls.Certificate
}

// Yield brings the device itself back.
func (d *Device) Yield() {
	d.mu.Lock()
	was := d.usurped
	d.unit, d.state, d.poses = was.unit, was.state, Pose{}
	d.serve(d.state.serving)
	d.cert = was.cert
	d.mu.Unlock()
	d.again(moveTime, false)
}

// Holds gives where the device is by its own settings.
func (d *Device) Holds() (at netip.Prefix, gateway netip.Addr, dns, ntp []netip.Addr) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.state.address, d.state.gateway, slices.Clone(d.state.dns), slices.Clone(d.state.ntp)
}
