// Package open computes what is left to do in a job: one list, by which every screen and every
// document says what is open, and that nothing is.
package open

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"janustat/core/advice"
	"janustat/core/checks"
	"janustat/core/device"
	"janustat/core/text"
)

// What is the sort of an open item.
type What string

// The sorts, the most urgent first.
const (
	Alarm        What = "alarm"        // not the device that was set up
	Locked       What = "locked"       // answers no password for a while
	Failed       What = "failed"       // a check of its last proof did not pass
	Silent       What = "no answer"    // at the last survey
	Closed       What = "sealed"       // no password opens it
	Reset        What = "reset"        // and not brought back
	Surveying    What = "survey"       // nobody has looked yet
	Undecided    What = "undecided"    // seen, and nobody has said whether it is of the job
	SetApart     What = "set apart"    // likewise, and somebody has set it up before
	Unread       What = "unread"       // did not say yet what it is
	Mute         What = "mute"         // looks like a device, and answers nothing that can be configured
	NoAddress    What = "no address"   // none is allotted
	ByHand       What = "by hand"      // it waits for what a person types
	Uncommission What = "not set up"   // allotted, and nothing done yet
	Unrecorded   What = "not recorded" // a camera without a channel
	Unpaired     What = "not paired"   // a station without another
	Unreported   What = "no server"    // a panel that reports to nobody
	Unproved     What = "not proved"   // not since it was changed
	SameName     What = "same name"    // as another
	HalfChanged  What = "half changed" // its next password is not confirmed
	Refused      What = "refused"      // a setting that it does not take
	Outdated     What = "firmware"     // it has another version than is agreed on
	Clear        What = "unencrypted"  // its password was set so
	Lease        What = "leased"       // it depends on a reservation on a DHCP server
	LeftOut      What = "left out"     // set up, and out of the job since
	Stale        What = "out of date"  // the record
)

// Urgency is how soon an item wants to be looked at.
type Urgency int

// The urgencies.
const (
	Note Urgency = iota + 1 // to be known, and to be told the client
	Work                    // to be done before the job is handed over
	Now                     // to be looked at before anything else
)

// String names it.
func (u Urgency) String() string {
	return map[Urgency]string{Note: "note", Work: "work", Now: "now"}[u]
}

// Item is one thing that is open.
type Item struct {
	ID      int64  // of the device; 0 is the whole job
	Device  string // its label
	What    What
	Text    string    // what is so, as a predicate of the device, or a sentence of the job
	Since   time.Time // zero is not known
	Next    advice.Advice
	Urgency Urgency
	// Of a check that did not pass: which, what was expected, and what was found.
	Check, Want, Got string
}

// Sentence tells the item without what to do.
func (i *Item) Sentence() string { return strings.TrimSpace(i.Device + " " + i.Text) }

// Check is one check of a proof that did not pass.
type Check struct {
	Name, Want, Got string
	Refused         bool // the device refuses to have it so
}

// Proof is the last proof of a device.
type Proof struct {
	At       time.Time
	Failed   []Check
	Untested int // passwords that were not tried yet, for the budget
}

// Firmware is what is agreed on of a device that has another version.
type Firmware struct {
	Version string
	Due     bool // there is a way there
}

// State is what the list is computed of.
type State struct {
	Devices  []device.Device
	Surveyed time.Time // the last survey; zero is none
	Proofs   map[int64]Proof
	Locked   map[int64]time.Time // until when
	InClear  map[int64]bool      // a password that it has was set without encryption
	Agreed   map[int64]Firmware  // of those that have another version
	Changing map[int64]bool      // its next password is not confirmed
	// Recorded, Paired and Reporting are the devices that the job sheet joins to others.
	Recorded, Paired, Reporting map[int64]bool
	// No are links that somebody has said there are none of.
	NoChannels, NoPairs, NoServer bool
	// Stale are labels of devices that the record on disk tells otherwise.
	Stale []string
}

// List computes what is open, the most urgent first, in the order of the devices.
func List(s State) []Item {
	l := &list{s: s}
	if s.Surveyed.IsZero() {
		l.add(Item{What: Surveying, Text: "Nobody has looked yet what is on the LAN", Next: advice.Say("%s", advice.Survey), Urgency: Work})
	}
	for i := range s.Devices {
		l.device(&s.Devices[i])
	}
	l.joined()
	l.names()
	if len(s.Stale) > 0 {
		l.add(Item{What: Stale, Text: fmt.Sprintf("The record on disk is out of date (%s)", named(s.Stale)), Next: advice.Say("%s", advice.Handover), Urgency: Work})
	}
	order := []What{Alarm, Locked, Failed, Silent, Closed, Reset, Surveying, Undecided, SetApart, Unread, Mute, NoAddress, ByHand, Uncommission, Unrecorded, Unpaired, Unreported, Unproved, SameName, HalfChanged, Refused, Outdated, Clear, Lease, LeftOut, Stale}
	slices.SortStableFunc(l.out, func(a, b Item) int {
		return cmp.Or(int(b.Urgency)-int(a.Urgency), slices.Index(order, a.What)-slices.Index(order, b.What), text.Natural(a.Device, b.Device))
	})
	return l.out
}

type list struct {
	s   State
	out []Item
}

func (l *list) add(i Item) { l.out = append(l.out, i) }

// device adds what is open of one device by itself.
func (l *list) device(d *device.Device) {
	add := func(what What, u Urgency, since time.Time, next advice.Advice, format string, args ...any) {
		l.add(Item{ID: d.ID, Device: d.Label(), What: what, Text: fmt.Sprintf(format, args...), Since: since, Next: next, Urgency: u})
	}
	if d.InJob == device.Left && d.Commissioned() {
		add(LeftOut, Note, time.Time{}, advice.Advice{}, "was set up and then left out of the job: it keeps %s and its password", d.AsLeft.Address)
	}
	if d.NotOurs || d.InJob == device.Left {
		return
	}
	ref := d.Label()
	if d.InJob == device.Undecided {
		switch {
		case d.SetUpBy != "":
			add(SetApart, Work, d.FirstSeen, advice.Say("%s if it is the site's, %s if not", advice.Take.On(refOf(d)), advice.Leave.On(refOf(d))), "is a %s, set up by somebody before (%s): nobody has said whose it is", what(d), d.SetUpBy)
		case d.Configurable():
			add(Undecided, Work, d.FirstSeen, advice.Say("%s adds all of that sort", advice.TakeAll), "is a %s, and nobody has said whether it is of the job", what(d))
		case d.Access == device.Unread:
			add(Unread, Work, d.FirstSeen, advice.Say("%s", advice.Survey), "is a %s, and did not say yet what it is", what(d))
		case d.Access == device.Mute:
			add(Mute, Work, d.FirstSeen, advice.Say("look at its page; %s if it is the site's, %s if not", advice.TakeByHand, advice.Leave.On(refOf(d))), "at %s looks like a device by its open ports, and answers no protocol that it could be set up by", d.Address())
		}
		return
	}
	if d.Alarm != "" {
		add(Alarm, Now, time.Time{}, advice.Say("%s; %s only if it was replaced or reset on purpose", advice.Show.On(ref), advice.Restore.On(ref)), "changed its identity (%s): nothing is sent to it", d.Alarm)
	}
	if until, ok := l.s.Locked[d.ID]; ok {
		add(Locked, Now, time.Time{}, advice.Say("leave it alone until %s UTC, then %s", until.UTC().Format("15:04"), advice.Commission), "answers no password now, since too many were wrong")
	}
	if !l.s.Surveyed.IsZero() && d.SeenAt.Before(l.s.Surveyed) && d.OpenedAt.Before(l.s.Surveyed) {
		add(Silent, Now, d.SeenAt, advice.Say("see whether it has power and link, then %s", advice.Survey), "did not answer the last survey")
	}
	switch {
	case !d.ResetAt.IsZero():
		add(Reset, Work, d.ResetAt, advice.Say("%s", advice.Restore.On(ref)), "was reset, and is not back yet")
		return
	case d.Access == device.Sealed && d.OpenedAt.IsZero() && d.Alarm == "":
		add(Closed, Work, d.FirstSeen, advice.Say("%s with its password, or %s", advice.KeySet.On(ref), advice.Leave.On(ref)), "is protected, and no password on the keyring opens it")
		return
	case d.Condition == device.Bare && d.Allotted == nil && !d.Commissioned():
		add(ByHand, Work, d.FirstSeen, advice.Say("%s gives it one", advice.Lease), "has no address yet")
		return
	case d.Allotted == nil && !d.Commissioned():
		add(NoAddress, Work, d.FirstSeen, advice.Say("%s", advice.Allot), "has no address allotted")
		return
	case !d.Commissioned() && d.ByHand():
		add(ByHand, Work, d.FirstSeen, advice.Say("type its address into it, then %s", advice.Commission), "is set up by hand, and was not met at its address yet")
		return
	case !d.Commissioned():
		add(Uncommission, Work, d.FirstSeen, advice.Say("%s", advice.Commission), "is not set up yet")
		return
	}
	if l.s.Changing[d.ID] {
		add(HalfChanged, Work, time.Time{}, advice.Say("%s", advice.Commission), "was sent a new password that it has not confirmed")
	}
	l.proof(d, add)
	if d.AsLeft.DHCP {
		add(Lease, Note, time.Time{}, advice.Advice{}, "accepts only DHCP: the site's DHCP server must keep %s for %s", d.AsLeft.Address, d.MAC)
	}
	switch f := l.s.Agreed[d.ID]; {
	case f.Due:
		add(Outdated, Work, time.Time{}, advice.Say("%s", advice.Firmware.On(ref)), "has firmware %s, and %s is agreed on", d.Firmware, f.Version)
	case f.Version != "":
		add(Outdated, Note, time.Time{}, advice.Advice{}, "has firmware %s, and %s is agreed on: no image leads there", d.Firmware, f.Version)
	}
	if l.s.InClear[d.ID] {
		add(Clear, Note, time.Time{}, advice.Advice{}, "had its password set without encryption")
	}
}

// proof adds what the last proof of a device has left.
func (l *list) proof(d *device.Device, add func(What, Urgency, time.Time, advice.Advice, string, ...any)) {
	p, proved := l.s.Proofs[d.ID]
	changed := d.Proved.IsZero() && d.ChangedAt.After(p.At) // since: what the proof said may be mended
	failed := d.Alarm != ""                                 // which is what its checks say then
	for _, c := range p.Failed {
		if d.Alarm != "" {
			break
		}
		told := fmt.Sprintf("%s: should be %s, is %s", c.Name, c.Want, cmp.Or(c.Got, "none"))
		switch {
		case c.Refused:
			add(Refused, Note, p.At, advice.Advice{}, "%s; the device refuses to have it set", told)
			l.out[len(l.out)-1].of(c)
		case !changed:
			failed = true
			add(Failed, Now, p.At, checks.Mend(c.Name, d.Label()), "%s", told)
			l.out[len(l.out)-1].of(c)
		}
	}
	switch {
	case failed:
	case d.Proved.IsZero():
		add(Unproved, Work, d.ChangedAt, advice.Say("%s", advice.Prove), "was not proved since it was changed last")
	case proved && p.Untested > 0:
		add(Unproved, Work, p.At, advice.Say("%s in an hour", advice.Prove), "has %s untested", text.Plural(p.Untested, "old or additional password"))
	}
}

// of takes a check over.
func (i *Item) of(c Check) { i.Check, i.Want, i.Got = c.Name, c.Want, cmp.Or(c.Got, "none") }

// joined adds the devices that work with no other, where there is one to work with.
func (l *list) joined() {
	recorders, doors, stations := 0, 0, 0
	for i := range l.s.Devices {
		d := &l.s.Devices[i]
		if d.InJob != device.Taken {
			continue
		}
		switch {
		case d.Kind == device.Recorder:
			recorders++
		case d.Kind == device.Intercom && d.Indoor:
			stations++
		case d.Kind == device.Intercom:
			doors++
		}
	}
	for i := range l.s.Devices {
		d := &l.s.Devices[i]
		if d.InJob != device.Taken || d.ByHand() {
			continue
		}
		add := func(what What, text, some, none string) {
			l.add(Item{ID: d.ID, Device: d.Label(), What: what, Text: text, Since: d.FirstSeen, Next: advice.Say("write `%s` or `%s` into the job sheet, then %s", some, none, advice.Commission), Urgency: Work})
		}
		switch {
		case d.Kind == device.Camera && recorders > 0 && !l.s.Recorded[d.ID] && !l.s.NoChannels:
			add(Unrecorded, "is on no channel of a recorder", "channels: auto", "channels: none")
		case d.Kind == device.Intercom && doors > 0 && stations > 0 && !l.s.Paired[d.ID] && !l.s.NoPairs:
			add(Unpaired, "is paired with no other station", "intercoms: {D01: {I01: {flat: 101}}}", "intercoms: none")
		case d.Kind == device.Panel && !l.s.Reporting[d.ID] && !l.s.NoServer:
			add(Unreported, "reports to no server", "reporting: {server: …, port: …}", "reporting: none")
		}
	}
}

// names adds the devices of one name.
func (l *list) names() {
	by := map[string][]*device.Device{}
	for i := range l.s.Devices {
		if d := &l.s.Devices[i]; d.InJob == device.Taken && d.Commissioned() && !device.FactoryName(d) {
			by[strings.ToLower(d.Name)] = append(by[strings.ToLower(d.Name)], d)
		}
	}
	for _, same := range by {
		if len(same) < 2 {
			continue
		}
		slices.SortFunc(same, func(a, b *device.Device) int { return text.Natural(a.Label(), b.Label()) })
		for _, d := range same[1:] {
			l.add(Item{ID: d.ID, Device: d.Label(), What: SameName, Text: fmt.Sprintf("is called %q, as %s is", d.Name, same[0].Label()), Next: advice.Say("give it a name of its own in the job sheet, then %s", advice.Commission), Urgency: Work})
		}
	}
}

func what(d *device.Device) string {
	at := ""
	if a := d.Address(); a.IsValid() {
		at = "at " + a.String()
	}
	kind := string(d.Kind)
	if d.Kind == device.Other {
		kind = "device"
	}
	return text.Words(kind, d.Make, d.Model, at)
}

func refOf(d *device.Device) string {
	if d.Tag != "" {
		return d.Tag
	}
	return d.MAC.String()
}

// named names a few, and counts the rest.
func named(labels []string) string {
	const most = 8
	shown := strings.Join(labels[:min(len(labels), most)], " ")
	if n := len(labels) - most; n > 0 {
		shown += fmt.Sprintf(" and %d more", n)
	}
	return shown
}
