package commission

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/settings"
)

// step is one thing done to a device, and all that is known of it. The engine, the dry
// run, prove, the journal's words and the views go by the table below; a step is added
// there and nowhere else.
type step struct {
	name Step
	// title names it in a sentence, where its name does not.
	title string
	// while says what its time is spent on, for people; steps of one word are added up.
	while string
	// told is how the log tells it once it is done: a format of its intent; "" is not told.
	told string
	// quiet is a step that writes nothing: a list of what was done leaves it out.
	quiet bool

	// Of a setting, which a device is to have:
	due    func(p Plan, f Found) bool   // the device is not as planned
	intent func(p Plan, f Found) string // what is to be written, in words
	do     func(r *run, ctx context.Context, w Write) error
	proofs func(p Plan, f Found) []Check // that it is as planned; none where there is nothing to prove
	// own is a setting that journals its writes itself, since there are several.
	own bool
	// later is a setting whose refusal is trouble, told once all else is done.
	later bool
	// soft is a setting whose refusal is told, and keeps the device from nothing else.
	soft bool
	// opens is a setting by which the conversation begins anew; first is one that is set before the first
	// password where the device takes that.
	opens, first bool
	// static is a setting that is the DHCP server's to give to a device that has a lease.
	static bool
}

// Words for what time is spent on.
const (
	visiting = "choosing a temporary address"
	finding  = "finding"
	probing  = "waiting for the address probe"
	queueing = "waiting for its turn"
	starting = "waiting for its service"
	speaking = "speaking"
	moving   = "restarting or moving"
	flashing = "sending firmware"
	byHands  = "waiting for you"
	others   = "waiting for other devices"
)

// table has the steps in the order of a device that needs all of them.
var table []step

func init() { // it refers to functions that refer to it
	table = []step{
		{name: StepVisit, while: visiting, quiet: true},
		{name: StepFind, while: finding, quiet: true},
		{name: StepTurn, while: queueing},
		{name: StepOpen, while: starting},
		{name: StepRead, while: speaking},
		{name: StepKey, while: speaking, told: "first password set for its %s"},
		{name: StepFirst, while: speaking, told: "first password set for its %s (only if it had none)"},
		{name: StepRekey, while: speaking, told: "%s replaced"},
		{
			name: StepClock, while: speaking, told: "clock set to %s", soft: true,
			due:    clockDue,
			intent: func(Plan, Found) string { return "UTC now" },
			do:     (*run).setClock,
			proofs: func(_ Plan, f Found) []Check {
				return only(true, Check{"clock", f.Clock.Abs() <= ClockTolerance, "within " + ClockTolerance.String(), f.Clock.Round(100*time.Millisecond).String() + " off"})
			},
		},
		{
			name: StepName, while: speaking, told: "name set to %q", soft: true,
			due: func(p Plan, f Found) bool {
				name := p.name(f.Settings.Name)
				return name != "" && f.Settings.Name != name
			},
			intent: func(p Plan, f Found) string { return p.name(f.Settings.Name) },
			do:     (*run).setName,
			proofs: func(p Plan, f Found) []Check {
				t := p.Target.Name
				return only(true, Check{"name", t == "" || f.Settings.Name == t, t, f.Settings.Name})
			},
		},
		{
			name: StepPicture, while: speaking, told: "caption of its pictures set to %q", soft: true,
			due:    func(p Plan, f Found) bool { return p.captions(f) && !p.captioned(f) },
			intent: func(p Plan, _ Found) string { return p.Target.Name },
			do:     (*run).caption,
			proofs: func(p Plan, f Found) []Check {
				return only(p.captions(f), Check{"picture", p.captioned(f), p.Target.Name, shown(f.Pictures)})
			},
		},
		{
			name: StepUser, while: speaking, told: "user %s added", own: true, later: true,
			due: func(p Plan, f Found) bool {
				return slices.ContainsFunc(p.Users, func(u User) bool { return u.missing(f) })
			},
			do: func(r *run, ctx context.Context, _ Write) error { return r.users(ctx) },
		},
		{
			name: StepDNS, while: speaking, told: "DNS servers set to %s", soft: true, static: true,
			due:    func(p Plan, f Found) bool { return f.DNS.differ(p.Target.DNS) },
			intent: func(p Plan, _ Found) string { return ground.List(p.Target.DNS) },
			do:     (*run).setDNS,
			proofs: func(p Plan, f Found) []Check {
				return only(f.DNS.wanted(p.Target.DNS), Check{"dns", !f.DNS.differ(p.Target.DNS), ground.List(p.Target.DNS), f.DNS.String()})
			},
		},
		{
			name: StepNTP, while: speaking, told: "NTP servers set to %s", soft: true, static: true,
			due: func(p Plan, f Found) bool {
				// A clock that was set by hand no longer follows NTP.
				return f.NTP.wanted(p.Target.NTP) && (f.NTP.differ(p.Target.NTP) || !f.ByNTP || clockDue(p, f))
			},
			intent: func(p Plan, _ Found) string { return ground.List(p.Target.NTP) },
			do:     (*run).setNTP,
			proofs: func(p Plan, f Found) []Check {
				follows := map[bool]string{false: ", and the clock is set by hand"}[f.ByNTP]
				return only(f.NTP.wanted(p.Target.NTP), Check{
					"ntp", !f.NTP.differ(p.Target.NTP) && f.ByNTP, ground.List(p.Target.NTP) + ", and the clock follows it", f.NTP.String() + follows,
				})
			},
		},
		{name: StepProbe, while: probing, quiet: true},
		{
			name: StepAddress, while: speaking, told: "moved to %s", own: true, static: true,
			due: func(p Plan, f Found) bool {
				s := f.Settings
				return s.Address != p.Target.Address || s.Prefix != p.Target.Prefix || s.DHCP
			},
			intent: func(p Plan, _ Found) string { return placeWrite(p.Target).Intent },
			do:     func(r *run, ctx context.Context, _ Write) error { return r.address(ctx) },
			proofs: func(p Plan, f Found) []Check {
				want, got := netip.PrefixFrom(p.Target.Address, p.Target.Prefix).String(), netip.PrefixFrom(f.Settings.Address, f.Settings.Prefix).String()
				return []Check{
					{"address", want == got, want, got},
					{"static", !f.Settings.DHCP || p.Target.DHCP, "DHCP off", "DHCP on"},
				}
			},
		},
		{
			name: StepGateway, while: speaking, told: "gateway set to %s", static: true,
			due: func(p Plan, f Found) bool {
				return p.Target.Gateway.IsValid() && f.Settings.Gateway != p.Target.Gateway
			},
			intent: func(p Plan, _ Found) string { return p.Target.Gateway.String() },
			do:     (*run).setGateway,
			proofs: func(p Plan, f Found) []Check {
				t := p.Target
				return only(true, Check{"gateway", t.DHCP || !t.Gateway.IsValid() || f.Settings.Gateway == t.Gateway, t.Gateway.String(), f.Settings.Gateway.String()})
			},
		},
		{name: StepRestart, while: speaking, told: "restarted, %s"},
		{name: StepReturn, while: moving, quiet: true},
		{name: StepVerify, while: speaking, quiet: true},
		{name: StepAwait, while: others, quiet: true},
		{name: StepUnlock, while: others},
		{name: StepChannel, while: speaking, told: "records on %s", proofs: tieProofs(StepChannel)},
		{name: StepPair, while: speaking, told: "%s registered", proofs: tieProofs(StepPair)},
		{name: StepRest, while: speaking, told: "recording of %s paused"},
		{name: StepPart, while: speaking, told: "pairing with %s removed"},
		{name: StepReport, while: speaking, told: "reports to %s", proofs: tieProofs(StepReport)},
		{name: StepFare, while: others, quiet: true},
		{name: StepDismiss, while: speaking, told: "user %s removed"},
		{name: StepDHCP, while: speaking, told: "set to ask for its address by DHCP"},
		{name: StepFlash, while: flashing, told: "firmware sent: %s"},
		{name: StepReset, while: speaking, told: "reset %s"},
		{name: StepPower, while: byHands},
		{name: StepHand, while: byHands, told: "set up by hand: %s"},
	}
	// A clock is told with its zone: the zone comes first. What an address does not change may come
	// before that; the last comes when the device is where it is to be.
	before := func(name Step) int {
		return slices.IndexFunc(table, func(s step) bool { return s.name == name })
	}
	for _, s := range settings.All {
		at := before(StepClock)
		if s.Last {
			at = before(StepRestart)
		}
		table = slices.Insert(table, at, ofSetting(s))
	}
}

// tieProofs proves the links of one step: each does what it is for.
func tieProofs(s Step) func(Plan, Found) []Check {
	return func(_ Plan, f Found) (out []Check) {
		for i := range f.Ties {
			t := &f.Ties[i]
			if t.Link.Step == s && t.State != ToType {
				want := string(Connected)
				if s == StepPair {
					want = string(Registered)
				}
				got, changed := t.Text(), t.Changed()
				if changed != "" {
					got += ", and " + changed
				}
				out = append(out, Check{string(s), t.Set && t.State.Good() && changed == "", t.Link.Name() + " " + want, got})
			}
		}
		return out
	}
}

// Check is one thing proved of a device.
type Check struct {
	Name      string
	OK        bool
	Want, Got string
}

// Proof is a comparison with what is known of why it did not hold.
type Proof struct {
	Check
	Refused bool // the device refused to have it so
}

func only(is bool, c Check) []Check {
	if !is {
		return nil
	}
	return []Check{c}
}

func clockDue(p Plan, f Found) bool {
	enough := min(clockSet+f.ClockDoubt, ClockTolerance)
	if f.ByNTP && !f.NTP.differ(p.Target.NTP) {
		// It is rather left to the server it follows.
		enough = min(enough+500*time.Millisecond, ClockTolerance)
	}
	return f.Clock.Abs() > enough
}

func stepOf(s Step) step {
	if i := slices.IndexFunc(table, func(t step) bool { return t.name == s }); i >= 0 {
		return table[i]
	}
	return step{name: s, while: speaking}
}

// Decide gives the writes that turn what was found into what is planned, in
// order. Nothing that is already right is written (safety rule 3).
func Decide(p Plan, f Found) (out []Step) {
	for _, s := range table {
		if s.due != nil && !f.Lacks[s.name] && !(s.static && p.Target.DHCP) && s.due(p, f) {
			out = append(out, s.name)
		}
	}
	return out
}

// refusedBefore reports whether a setting as it is planned was refused in an earlier run.
func (p Plan) refusedBefore(s Step, f Found) bool {
	value, refused := p.Refused[s]
	return refused && value == p.write(s, f).JSON()
}

// answeredBefore reports whether a setting as it is planned was taken or refused in an
// earlier run.
func (p Plan) answeredBefore(s Step, f Found) bool {
	value, answered := p.Answered[s]
	return answered && value == p.write(s, f).JSON()
}

// Soft gives the settings that a device may refuse, and is left without.
func Soft() (out []Step) {
	for _, s := range table {
		if s.soft {
			out = append(out, s.name)
		}
	}
	return out
}

// Proofs compares what was found with what is planned, setting by setting.
func Proofs(p Plan, f Found) (out []Proof) {
	for _, s := range table {
		if s.proofs != nil && !f.Lacks[s.name] && !f.Unread[s.name] && !(s.static && p.Target.DHCP && s.soft) {
			refused := s.soft && p.refusedBefore(s.name, f)
			for _, c := range s.proofs(p, f) {
				out = append(out, Proof{c, refused && !c.OK})
			}
		}
	}
	return out
}

// write gives a setting as the journal has it.
func (p Plan) write(s Step, f Found) Write {
	w := Write{Step: s}
	if it := stepOf(s); it.intent != nil {
		w.Intent = it.intent(p, f)
	}
	return w
}

// Told tells a step once it is done.
func Told(s Step, intent string) string {
	if words := stepOf(s).told; words != "" {
		return fmt.Sprintf(words, intent)
	}
	return string(s) + ": " + intent
}

// InWords names a step in a sentence.
func InWords(s Step) string { return stepOf(s).words() }

// Waits reports whether a step writes nothing: a list of what was done leaves it out.
func Waits(s Step) bool { return stepOf(s).quiet }

// Activity is what part of a device's time was spent on.
type Activity struct {
	While string
	Took  time.Duration
}

// Activities adds up the time of steps by what it was spent on, in order.
func Activities(spent map[Step]time.Duration) (out []Activity) {
	for _, s := range table {
		if spent[s.name] == 0 {
			continue
		}
		at := slices.IndexFunc(out, func(a Activity) bool { return a.While == s.while })
		if at < 0 {
			out, at = append(out, Activity{While: s.while}), len(out)
		}
		out[at].Took += spent[s.name]
	}
	return out
}

func keyWrite(p Plan) Write { return adminWrite(StepKey, p.User) }

func firstWrite(p Plan) Write {
	return adminWrite(StepFirst, p.User)
}

func adminWrite(s Step, user string) Write {
	a := admin{user}
	return Write{Step: s, Intent: a.String(), Value: a}
}

func userWrite(u User) Write { return UserWrite(u.Account) }

// UserWrite is that of a further user.
func UserWrite(a Account) Write { return Write{Step: StepUser, Intent: a.String(), Value: a} }

func placeWrite(t device.Settings) Write {
	p := Place{t.Address, t.Prefix}
	return Write{Step: StepAddress, Intent: p.String(), Value: p}
}
