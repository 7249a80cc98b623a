package commission

import (
	"context"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"janustat/core/device"
	"janustat/core/secret"
)

// Devices differ in what they take when. Each ends settled where it can be, with as few
// writes as that takes, and a second run writes nothing.
func TestOrdersOfWrites(t *testing.T) {
	leased := func(d *toy) { d.set.Settings.DHCP = true }
	for name, c := range map[string]struct {
		make     func(*toy)
		change   func(*Plan)
		writes   []string
		notes    []string
		reserved bool
		again    []string // what a second run still writes: what was refused before
	}{
		"wants its gateway before its address": {
			make:   func(d *toy) { d.wantsGW = true },
			writes: []string{"key", "clock", "name", "address", "gateway", "address"},
		},
		"takes a gateway only in its subnet": {
			make:   func(d *toy) { d.gatewayIn = true },
			writes: []string{"key", "clock", "name", "address", "gateway"},
		},
		"takes it only there, and needs a restart": {
			make:   func(d *toy) { d.gatewayIn, d.needsBoot = true, true },
			writes: []string{"key", "clock", "name", "address", "gateway", "restart", "gateway"},
		},
		"forgets its gateway with its address": {
			make:   func(d *toy) { d.gatewayOnce, d.wantsGW, d.set.Settings.Gateway = true, true, gateway },
			writes: []string{"key", "clock", "name", "address", "gateway"},
		},
		"takes no address while it has a lease": {
			make:   func(d *toy) { leased(d); d.frozen = true },
			writes: []string{"key", "clock", "name", "address", "gateway", "address", "address", "address"},
		},
		"takes DNS servers only without DHCP": {
			make:   func(d *toy) { leased(d); d.servers, d.noDNSByDHCP = true, true },
			change: func(p *Plan) { p.Target.DNS = append(p.Target.DNS, gateway) },
			writes: []string{"key", "clock", "name", "dns", "address", "dns", "gateway"},
		},
		"needs a restart, and does not ask for it": {
			make:   func(d *toy) { d.silentBoot = true },
			writes: []string{"key", "clock", "name", "address", "restart", "gateway"},
		},
		"acts on a restart later": {
			make:   func(d *toy) { d.needsBoot, d.lazy = true, 1 },
			writes: []string{"key", "clock", "name", "address", "gateway", "restart"},
		},
		"acts later on one it did not ask for": {
			make:   func(d *toy) { d.silentBoot, d.lazy = true, 1 },
			writes: []string{"key", "clock", "name", "address", "restart", "gateway"},
		},
		"takes no static address in any way": {
			make:     func(d *toy) { leased(d); d.dhcpOnly = true; d.set.Settings.Address, d.at = newPlace, newPlace },
			writes:   []string{"key", "clock", "name", "address", "gateway", "address", "address"},
			reserved: true,
		},
		"refuses a name and a clock": {
			make:   func(d *toy) { d.refuses = map[Step]bool{StepName: true, StepClock: true} },
			writes: []string{"key", "clock", "name", "address", "clock", "name", "gateway"},
			notes:  []string{"refuses its clock (UTC now): set it at its own page", "refuses its name (Quay): set it at its own page"},
			again:  []string{"clock", "name"},
		},
		"takes a name and does not keep it": {
			make:   func(d *toy) { d.forgets = map[Step]bool{StepName: true} },
			writes: []string{"key", "clock", "name", "address", "name", "gateway"},
			notes:  []string{"accepts its name (Quay) but does not keep it. Check it on its web page"},
			again:  []string{"name", "name"},
		},
	} {
		t.Run(name, func(t *testing.T) {
			d, p := newToy(), plan()
			c.make(d)
			if c.change != nil {
				c.change(&p)
			}
			r := d.run(t.Context(), p)
			assert.Equal(t, Done, r.Status, r.Reason)
			assert.Equal(t, c.writes, d.writes())
			assert.ElementsMatch(t, c.notes, r.Notes)
			assert.Equal(t, c.reserved, r.Reserved)
			assert.Equal(t, newPlace, d.at)
			if c.reserved {
				return
			}
			d.log = nil
			p.From = newPlace
			r = d.run(context.Background(), p)
			assert.Equal(t, Done, r.Status, r.Reason)
			assert.Equal(t, c.again, d.writes(), "a second run")
		})
	}
}

// A user that a device refuses is told, once the device has its address.
func TestARefusedUserKeepsNoDeviceFromItsAddress(t *testing.T) {
	d, p := newToy(), plan()
	d.picky = func(s string) bool { return s == p.Password.Reveal() }
	p.Users = []User{{Account: Account{"guard", Viewer}, Password: p.Password}}
	p.Users[0].Password = p.Replace // a weak one
	r := d.run(t.Context(), p)
	assert.Equal(t, NeedsYou, r.Status)
	assert.Contains(t, r.Reason, "user")
	assert.Equal(t, newPlace, d.at)
	assert.Equal(t, device.Settings{Address: newPlace, Prefix: 23, Gateway: gateway, Name: "Quay"}, r.Left.Settings)
}

func TestADeviceThatNeverRestartsIsSaidTo(t *testing.T) {
	d := newToy()
	d.needsBoot, d.lazy, d.noHands = true, 1, true
	r := d.run(t.Context(), plan())
	assert.Equal(t, NeedsYou, r.Status)
	assert.Contains(t, r.Reason, "does not restart to use it")
	assert.Contains(t, r.Next.String(), "power it off and on")
}

// A restart that was lost on its way is asked for once more, and not waited for.
func TestALostRestartIsAskedForAgain(t *testing.T) {
	d := newToy()
	d.needsBoot, d.deaf, d.noHands = true, 1, true
	r := d.run(t.Context(), plan())
	assert.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, newPlace, d.at)
	assert.NotContains(t, d.log, "repowered")
	restarts := slices.DeleteFunc(slices.Clone(d.log), func(s string) bool { return s != "write restart" })
	assert.Len(t, restarts, 2)
}

// Every step has words for its time, and those of settings have all that prove and the
// dry run need.
func TestTheTableIsWhole(t *testing.T) {
	seen := map[Step]bool{}
	for _, s := range table {
		assert.False(t, seen[s.name], s.name)
		seen[s.name] = true
		assert.NotEmpty(t, s.while, s.name)
		if s.due != nil {
			assert.NotNil(t, s.do, s.name)
			assert.NotEmpty(t, s.told, s.name)
			assert.True(t, s.proofs != nil || s.name == StepUser, s.name)
		}
	}
}

// A device that hides its users may be fresh all the same: whether it is shows when the
// first administrator is created, with a password of its own.
func TestWhatListingUsersDoesNotTell(t *testing.T) {
	hidden := func(d *toy) (*toy, Plan) {
		p := plan()
		p.First, p.Replace, p.Password = secret.New("Own-side77"), secret.New("Own-side77"), secret.Password{}
		d.hides = true
		return d, p
	}
	d, p := hidden(newToy())
	r := d.run(t.Context(), p)
	assert.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []string{"key", "clock", "name", "address", "gateway"}, d.writes())
	assert.Equal(t, "Own-side77", d.password)
	assert.Equal(t, FromChange, r.Key.Origin, "the keyring makes it its own")

	d, p = hidden(newToy())
	d.password = "someone's"
	r = d.run(t.Context(), p)
	assert.Equal(t, NeedsYou, r.Status)
	assert.Contains(t, r.Reason, "has a password")
	assert.Equal(t, []string{"key"}, d.writes(), "refused, once")
	assert.Equal(t, "someone's", d.password)
	assert.NotContains(t, d.log, "spend", "no password in use was offered")

	d, p = hidden(newToy())
	d.password, p.Others = "12345", []Credential{{User: "admin", Password: secret.New("12345"), Origin: FromFactory}}
	r = d.run(t.Context(), p)
	assert.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, "Own-side77", d.password, "its factory password was replaced")

	d, p = hidden(newToy())
	p.Known, d.password = true, ""
	r = d.run(t.Context(), p)
	assert.Equal(t, NeedsYou, r.Status)
	assert.Empty(t, d.writes(), "one that was opened before is given no first password")

	d, p = hidden(newToy())
	d.loseKey = 1
	r = d.run(t.Context(), p)
	assert.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, "Own-side77", d.password)
}

// A device that keeps only the beginning of a password is opened by that, and it is said.
func TestAPasswordThatIsSilentlyCut(t *testing.T) {
	d := newToy()
	d.cuts = 8
	r := d.run(t.Context(), plan())
	assert.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, "Quay-sid", r.Key.Password.Reveal())
	assert.Equal(t, FromChange, r.Key.Origin)
	assert.Equal(t, []string{"keeps only the first 8 characters of its password: the keyring has these"}, r.Notes)
	assert.Equal(t, newPlace, d.at)

	d = newToy()
	d.cuts, d.budget = 5, 0 // nothing that it is offered fits
	r = d.run(t.Context(), plan())
	assert.Equal(t, NeedsYou, r.Status)
	assert.Contains(t, r.Reason, "is not opened by it")
}

// What an earlier run was refused is not asked again, and told each time; another value is.
func TestWhatWasRefusedIsNotAskedAgain(t *testing.T) {
	d, p := newToy(), plan()
	d.refuses = map[Step]bool{StepName: true}
	p.Refused = map[Step]string{StepName: `"Quay"`}
	r := d.run(t.Context(), p)
	assert.Equal(t, Done, r.Status, r.Reason)
	assert.NotContains(t, d.writes(), "name")
	assert.Equal(t, []string{"refuses its name (Quay): set it at its own page"}, r.Notes)
	assert.NotContains(t, Outlook(p, Expected{Access: device.Fresh, Found: d.set}), Write{Step: StepName, Intent: "Quay"})

	d, p.Refused = newToy(), map[Step]string{StepName: `"Pier"`}
	r = d.run(t.Context(), p)
	assert.Contains(t, d.writes(), "name")
	assert.Empty(t, r.Notes)
}

// The picture step goes by what each source can do, and is excused where it is refused.
func TestPicturesAreCaptionedAsFarAsTheyCan(t *testing.T) {
	p := plan()
	p.Pictures, p.Target.Name = true, "Quay"
	found := func(list ...Picture) Found {
		return Found{Settings: device.Settings{Address: newPlace, Prefix: 23, Gateway: gateway, Name: "Quay"}, Pictures: list}
	}
	for name, c := range map[string]struct {
		pictures []Picture
		due      bool
		check    string // want and got; "" for none
	}{
		"none":                    {nil, false, ""},
		"one that can do neither": {[]Picture{{Name: "V"}}, false, ""},
		"one that is so":          {[]Picture{{Name: "Quay", Text: "Quay", Named: true, Shows: true}}, false, "ok"},
		"another text":            {[]Picture{{Name: "Quay", Text: "Dome", Named: true, Shows: true}}, true, `Quay: source "Quay", text "Dome"`},
		"another name, no text":   {[]Picture{{Name: "V", Named: true}}, true, `Quay: source "V"`},
		"text alone":              {[]Picture{{Text: "V", Shows: true}}, true, `Quay: text "V"`},
		"two of two":              {[]Picture{{Text: "Quay 1", Shows: true}, {Text: "Quay 2", Shows: true}}, false, "ok"},
		"one of two":              {[]Picture{{Text: "Quay 1", Shows: true}, {Text: "Quay 1", Shows: true}}, true, `Quay: text "Quay 1"; text "Quay 1"`},
	} {
		f := found(c.pictures...)
		assert.Equal(t, c.due, slices.Contains(Decide(p, f), StepPicture), name)
		got := ""
		for _, x := range Proofs(p, f) {
			if x.Name == "picture" {
				got = x.Want + ": " + x.Got
				if x.OK {
					got = "ok"
				}
			}
		}
		assert.Equal(t, c.check, got, name)
		p.Refused = map[Step]string{StepPicture: `"Quay"`}
		for _, x := range Proofs(p, f) {
			assert.Equal(t, x.Name == "picture" && c.due, x.Refused, "%s: %s", name, x.Name)
		}
		p.Refused = nil
	}
	p.Pictures = false
	assert.NotContains(t, Decide(p, found(Picture{Text: "V", Shows: true})), StepPicture)
}
