package commission

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"
)

// What is written to a device is journaled as a value, as JSON, and put into words when it is shown:
// no run goes by a sentence that an earlier one has left.

// Place is the value of an address that a device is given.
type Place struct {
	Address netip.Addr `json:"address"`
	Prefix  int        `json:"prefix"`
}

// String says so in words.
func (p Place) String() string { return fmt.Sprintf("%s/%d, DHCP off", p.Address, p.Prefix) }

// admin is the value of a first password: whose it is.
type admin struct {
	User string `json:"administrator"`
}

// String says so in words.
func (a admin) String() string { return "administrator " + a.User }

// flash is the value of firmware that a device is sent.
type flash struct {
	From   string `json:"from"`
	To     string `json:"to"`
	SHA256 string `json:"sha256"`
}

// String says so in words.
func (f flash) String() string { return f.From + " → " + f.To }

// String says in words who it is.
func (a Account) String() string { return a.Name + " as " + strings.ToLower(string(a.Level)) }

// JSON gives the value of a write; one without another is its words.
func (w Write) JSON() string {
	var v any = w.Intent
	if w.Value != nil {
		v = w.Value
	}
	b, err := json.Marshal(v)
	if err != nil {
		b, _ = json.Marshal(w.Intent) // a text always can
	}
	return string(b)
}

// Words puts the value of a step into words, as they were when it was written.
func Words(s Step, value string) string {
	var text string
	if json.Unmarshal([]byte(value), &text) == nil {
		return text
	}
	switch s {
	case StepUser:
		var a Account
		if json.Unmarshal([]byte(value), &a) == nil {
			return a.String()
		}
	case StepAddress:
		if p, ok := PlaceOf(value); ok {
			return p.String()
		}
	case StepFlash:
		var f flash
		if json.Unmarshal([]byte(value), &f) == nil {
			return f.String()
		}
	case StepKey, StepFirst:
		var a admin
		if json.Unmarshal([]byte(value), &a) == nil {
			return a.String()
		}
	}
	return value
}

// PlaceOf gives the value of an address that was given. Registers of earlier versions have it in words.
func PlaceOf(value string) (p Place, ok bool) {
	var text string
	if json.Unmarshal([]byte(value), &text) != nil {
		return p, json.Unmarshal([]byte(value), &p) == nil && p.Address.IsValid()
	}
	at, err := netip.ParsePrefix(strings.TrimSuffix(text, ", DHCP off"))
	return Place{at.Addr(), max(at.Bits(), 0)}, err == nil
}

// AccountOf gives the value of a further user. Registers of earlier versions have it in words.
func AccountOf(value string) (a Account, ok bool) {
	var text string
	if json.Unmarshal([]byte(value), &text) != nil {
		return a, json.Unmarshal([]byte(value), &a) == nil && a.Name != ""
	}
	at := strings.LastIndex(text, " as ")
	if at < 1 {
		return a, false
	}
	a.Name, a.Level = text[:at], Level(text[at+len(" as "):])
	for _, l := range []Level{Administrator, Operator, Viewer} {
		if strings.EqualFold(string(l), string(a.Level)) {
			a.Level = l
		}
	}
	return a, true
}
