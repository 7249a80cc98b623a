package proving

import (
	"fmt"
	"slices"
	"time"

	"janustat/core/advice"
	"janustat/core/checks"
	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/evidence"
	"janustat/core/text"
)

// Check is one thing proved of a device.
type Check struct {
	Name string `json:"check"`
	OK   bool   `json:"ok"`
	Want string `json:"want,omitempty"`
	Got  string `json:"got,omitempty"`
	Left int    `json:"left,omitempty"` // passwords not offered yet, for the budget of tries
	// Refused tells that it is not as it should be because the device takes it in no way.
	Refused bool `json:"refused,omitempty"`
}

// Proof is what proving one device gave.
type Proof struct {
	Device  device.Device
	Checks  []Check
	Read    bool // the device was opened and read
	Factory bool // by a factory password
	Found   commission.Found
	// Refused are old and factory keys that it was offered and has proved to refuse.
	Refused []evidence.Proven[commission.Credential]
	// Pins are the keys that it has proved to have, in tongues with such.
	Pins map[device.Tongue]string
	// News is what is worth knowing of it, and no fault of the work.
	News []string
	// Alarm says why nothing was offered to it, where it is not what it was.
	Alarm string

	words        func(advice.Step) string // of what to do next; nil is in plain words
	offered      []commission.Credential  // old keys that it did not take, in this proving
	others       []string                 // stations that it knows and the job sheet does not have
	usersRefused []string                 // further users whose password does not open it
	usersLeft    int                      // further users whose password was not offered, for the budget of tries
}

// OK reports whether every check passed.
func (p *Proof) OK() bool {
	return len(p.Checks) > 0 && !slices.ContainsFunc(p.Checks, func(c Check) bool { return !c.OK })
}

// NotOpened gives the further users whose password does not open the device.
func (p *Proof) NotOpened(plan commission.Plan) (out []commission.Account) {
	for _, u := range plan.Users {
		if slices.Contains(p.usersRefused, u.Name) {
			out = append(out, u.Account)
		}
	}
	return out
}

// Events gives what the proof tells of the device.
func (p *Proof) Events(now time.Time) (out []device.Event) {
	proving := device.Proving{At: now, Held: p.OK()}
	if p.Alarm != "" {
		out = append(out, device.Alarmed{At: now, Why: p.Alarm})
	}
	if p.Read {
		if p.Device.Firmware != "" { // what was recorded stays the measure; a survey takes a new one over
			p.Found.Firmware = p.Device.Firmware
		}
		out = append(out, device.Opened{At: now, Factory: p.Factory, Facts: p.Found.Proven(), Pins: p.Pins})
	}
	if p.OK() {
		left := p.Found.Settings
		proving.Left = &left
	}
	return append(out, proving)
}

func (p *Proof) pass(name string) { p.Checks = append(p.Checks, Check{Name: name, OK: true}) }

func (p *Proof) fail(name, want, got string) {
	p.Checks = append(p.Checks, Check{Name: name, Want: text.Harmless(want, text.Long, nil), Got: text.Harmless(got, 2*text.Long, nil)})
}

func (p *Proof) compare(name string, ok bool, want, got any) {
	if ok {
		p.pass(name)
		return
	}
	p.fail(name, fmt.Sprint(want), fmt.Sprint(got))
}

func (p *Proof) notOffered(plan commission.Plan) {
	p.fail(checks.Password, "accepted", "not offered: it is not what it was. If it was reset or replaced on purpose: "+p.says(advice.Restore.On(plan.Tag)))
}

// says puts a step into words.
func (p *Proof) says(s advice.Step) string { return advice.Say("%s", s).Text(p.words) }

func (p *Proof) put(a advice.Act) string { return p.says(advice.Step{Act: a}) }
