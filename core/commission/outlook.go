package commission

import (
	"slices"

	"janustat/core/device"
)

// Expected is what is known of a device before it is spoken with.
type Expected struct {
	Access device.Access
	Found  Found
	Links  []device.Link // as they were read last
}

// Outlook gives the writes that a plan makes for a device, given what is known of it
// before: in order, as the journal will have them. Whether it is restarted is the
// device's to say.
func Outlook(p Plan, e Expected) (out []Write) {
	first := e.Access == device.Fresh && !p.Known
	switch {
	case first:
		out = append(out, keyWrite(p))
	case e.Access == device.Sealed && !p.First.IsZero() && !p.Known:
		out = append(out, firstWrite(p))
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
		if p.refusedBefore(s, f) {
			continue
		}
		switch {
		case first && stepOf(s).first: // before its first password
			out = slices.Insert(out, 0, p.write(s, f))
			continue
		case s != StepUser:
			out = append(out, p.write(s, f))
			continue
		}
		for _, u := range p.Users {
			if u.missing(f) {
				out = append(out, userWrite(u))
			}
		}
	}
	for _, o := range p.Partings {
		if slices.ContainsFunc(e.Links, func(k device.Link) bool { return k.Kind == string(StepPair) && k.Peer == o.Tag }) {
			out = append(out, Write{Step: StepPart, Intent: o.label()})
		}
	}
	for _, l := range p.Links {
		if !slices.ContainsFunc(e.Links, l.standsAs) {
			out = append(out, Write{Step: l.Step, Intent: l.Intent()})
		}
	}
	return out
}

// standsAs reports whether a link is known to be there and to do what it is for.
func (l *Link) standsAs(k device.Link) bool {
	return k.Kind == string(l.Step) && k.Peer == l.peerName() && k.Number == l.Number && State(k.State).Good()
}
