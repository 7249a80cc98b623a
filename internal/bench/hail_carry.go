package bench

import (
	"fmt"
	"slices"
	"time"

	core "janustat/core/secret"
	"janustat/internal/speak/hail"
)

// Carry implements hail.Owner.
func (e *hailEnd) Carry(r hail.Request) (hail.Response, func()) {
	d := e.d
	d.mu.Lock()
	defer d.mu.Unlock()
	what := EventWrite
	if r.Do == hail.DoRead || r.Do == hail.DoPairs || r.Do == hail.DoWink {
		what = EventRead
	}
	if w := d.unit.Window; w > 0 && what == EventWrite && time.Since(d.powered) > w {
		d.logs.add(Event{Host: d.unit.ID, What: what, Op: "hail " + r.Do})
		return hail.Response{Error: "settings are taken for a while after power-on only", Code: hail.CodeNow, Now: true}, nil
	}
	answer, then := d.carry(r)
	answer.OK = answer.Error == ""
	d.logs.add(Event{Host: d.unit.ID, What: what, Op: "hail " + r.Do, OK: answer.OK})
	return answer, then
}

func no(code, format string, args ...any) (hail.Response, func()) {
	return hail.Response{Error: fmt.Sprintf(format, args...), Code: code}, nil
}

// codeOf tells in a word what is wrong with a password.
func (d *Device) codeOf(password string) string {
	r := d.unit.model.Rules
	switch n := len([]rune(password)); {
	case r != nil && n < r.Min:
		return hail.CodeShort
	case r != nil && r.Max > 0 && n > r.Max:
		return hail.CodeLong
	}
	return hail.CodeWeak
}

// carry does one call. The lock is held.
func (d *Device) carry(r hail.Request) (hail.Response, func()) {
	switch r.Do {
	case hail.DoClaim:
		if !d.fresh() {
			return no(hail.CodeHere, "it has an administrator")
		}
		if f := d.judgePassword(r.User, r.Password); f != nil {
			return no(d.codeOf(r.Password), "%s", f.reason)
		}
		d.state.users[r.User] = account{r.Password, "Administrator"}
		d.had = append(d.had, r.Password)
		d.takeKey(r.User, r)
	case hail.DoPassword:
		for user, a := range d.state.users {
			if a.level != "Administrator" {
				continue
			}
			if f := d.judgePassword(user, r.Password); f != nil {
				return no(d.codeOf(r.Password), "%s", f.reason)
			}
			d.state.users[user] = account{r.Password, "Administrator"}
			d.had = append(d.had, r.Password)
			d.takeKey(user, r)
		}
	case hail.DoRead:
		return hail.Response{State: d.hailState()}, nil
	case hail.DoPairs:
		return hail.Response{Pairs: d.marked()}, nil
	case hail.DoUnpair:
		d.state.hail.pairs = slices.DeleteFunc(d.state.hail.pairs, func(p hail.Pair) bool { return p.Serial == r.Serial })
	case hail.DoClock:
		if r.Time == nil {
			return no(hail.CodeValue, "no time")
		}
		d.state.offset, d.state.byNTP = time.Until(*r.Time), false
	case hail.DoName:
		d.setName(r.Name)
	case hail.DoAddress:
		return d.hailMove(r)
	case hail.DoGateway:
		if r.Gateway == nil || !r.Gateway.Is4() {
			return no(hail.CodeValue, "no gateway")
		}
		d.state.gateway = *r.Gateway
	case hail.DoServer:
		if r.Server == nil && d.unit.model.hailVersion() > hail.Version1 {
			d.state.hail.server = nil
			d.callHome()
			break
		}
		if r.Server == nil || !r.Server.Address.Is4() || r.Server.Port == 0 {
			return no(hail.CodeValue, "no server")
		}
		s := *r.Server
		s.Connected, s.Why = false, ""
		d.state.hail.server = &s
		d.callHome()
	case hail.DoPair:
		return d.hailPair(r.Pair)
	case hail.DoWink:
		d.winks = append(d.winks, "hail")
		return hail.Response{Means: "its light"}, nil
	case hail.DoRestart:
		return hail.Response{}, func() { d.again(d.unit.Restart, false) }
	case hail.DoReset:
		return hail.Response{}, d.Reset
	default:
		return no(hail.CodeCall, "unknown call %q", r.Do)
	}
	return hail.Response{}, nil
}

func (d *Device) hailState() *hail.State {
	s := &hail.State{Name: d.name(), Time: d.clock().UTC(), Address: d.state.address, Gateway: d.state.gateway, DHCP: d.state.dhcp}
	for user, a := range d.state.users {
		if a.level == "Administrator" {
			s.User = user
		}
	}
	if v := d.state.hail.server; v != nil {
		own := *v
		s.Server = &own
	}
	if m := &d.unit.model; m.hailVersion() == hail.Version1 {
		s.Pairs = d.marked()
	} else {
		s.Make, s.Model, s.Serial, s.Firmware = m.Make, m.Name, d.unit.Serial, m.Firmware
	}
	return s
}

// marked gives what a station tells of its pairs: no secrets.
func (d *Device) marked() (out []hail.Pair) {
	for _, p := range d.state.hail.pairs {
		p.Mark, p.Secret = hail.SecretMark(core.New(p.Secret)), ""
		out = append(out, p)
	}
	return out
}

func keyOf(version int, user, password string) string {
	return fmt.Sprintf("%d\x00%s\x00%s", version, user, password)
}

// takeKey keeps the key of a password that a controller has worked out for the device, as
// from version 2 on. The lock is held.
func (d *Device) takeKey(user string, r hail.Request) {
	if v := d.unit.model.hailVersion(); v > hail.Version1 && len(r.Key) > 0 {
		d.state.hail.key, d.state.hail.keyOf = r.Key, keyOf(v, user, r.Password)
	}
}

func (d *Device) hailMove(r hail.Request) (hail.Response, func()) {
	if r.DHCP && d.unit.model.hailVersion() > hail.Version1 {
		d.state.dhcp = true
		return hail.Response{}, func() { d.again(moveTime, false) }
	}
	if r.Address == nil || !r.Address.Addr().Is4() || r.Address.Masked().Addr() == r.Address.Addr() {
		return no(hail.CodeValue, "no address")
	}
	if d.unit.DHCPOnly {
		return no(hail.CodeValue, "it takes its address by DHCP alone")
	}
	to := *r.Address
	d.state.next = &to
	if d.unit.model.NeedsBoot {
		return hail.Response{Restart: true}, nil
	}
	lose := d.unit.LoseMove
	return hail.Response{}, func() { d.again(moveTime, lose) }
}

// maxPairs is how many others a station knows.
const maxPairs = 16

func (d *Device) hailPair(p *hail.Pair) (hail.Response, func()) {
	if p == nil || p.Serial == "" || p.Secret == "" || p.Flat == "" {
		return no(hail.CodeValue, "no pair")
	}
	own := *p
	own.Registered, own.Why = false, ""
	if d.unit.model.hailVersion() > hail.Version1 && !p.Door { // a station that was replaced leaves no predecessor
		d.state.hail.pairs = slices.DeleteFunc(d.state.hail.pairs, func(x hail.Pair) bool { return x.Flat == p.Flat && x.Serial != p.Serial && !x.Door })
	}
	at := slices.IndexFunc(d.state.hail.pairs, func(x hail.Pair) bool { return x.Serial == p.Serial })
	switch {
	case at >= 0:
		d.state.hail.pairs[at] = own
	case len(d.state.hail.pairs) >= maxPairs:
		return no(hail.CodeFull, "it knows %d others already", maxPairs)
	default:
		d.state.hail.pairs = append(d.state.hail.pairs, own)
	}
	d.had = append(d.had, p.Secret)
	select {
	case d.paired <- struct{}{}:
	default:
	}
	return hail.Response{}, nil
}
