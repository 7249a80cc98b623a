package commission

import (
	"fmt"
	"slices"
	"strings"

	"janustat/core/device"
	"janustat/core/ground"
)

// Expected is what is known of a device before it is spoken with.
type Expected struct {
	Access device.Access
	Found  Found
}

// Outlook gives the writes that a plan makes for a device, given what is known of it
// before: in order, as the journal will have them. Whether it is restarted is the
// device's to say.
func Outlook(p Plan, e Expected) (out []Write) {
	first := e.Access == device.Fresh && !p.Known
	switch {
	case first:
		out = append(out, keyWrite(p))
	case p.Password.IsZero() && e.Access == device.Factory && !p.Replace.IsZero():
		out = append(out, Write{Step: StepRekey, Intent: "the factory password"})
	}
	f := e.Found
	if !first { // what it has confirmed it is taken to have still
		for _, u := range p.Users {
			if u.Made {
				f.Accounts = append(slices.Clone(f.Accounts), u.Account)
			}
		}
	}
	for _, s := range Decide(p, f) {
		if s != StepUser {
			out = append(out, p.write(s, f))
			continue
		}
		for _, u := range p.Users {
			if u.missing(f) {
				out = append(out, userWrite(u))
			}
		}
	}
	return out
}

// write gives a step as the journal has it.
func (p Plan) write(s Step, f Found) Write {
	w := Write{Step: s}
	switch s {
	case StepClock:
		w.Intent = "UTC now"
	case StepZone:
		w.Intent = p.Target.Zone
	case StepName:
		w.Intent = p.name(f.Settings.Name)
	case StepDNS:
		w.Intent = ground.List(p.Target.DNS)
	case StepNTP:
		w.Intent = ground.List(p.Target.NTP)
	case StepAddress:
		w.Intent = AddressIntent(p.Target)
	case StepGateway:
		w.Intent = p.Target.Gateway.String()
	}
	return w
}

func keyWrite(p Plan) Write { return Write{Step: StepKey, Intent: "administrator " + p.User} }

func userWrite(u User) Write { return Write{Step: StepUser, Intent: UserIntent(u.Account)} }

// UserIntent is how the journal tells a further user.
func UserIntent(a Account) string { return a.Name + " as " + strings.ToLower(string(a.Level)) }

// AddressIntent is how the journal tells an address to be set.
func AddressIntent(t device.Settings) string {
	return fmt.Sprintf("%s/%d, DHCP off", t.Address, t.Prefix)
}
