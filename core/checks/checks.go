// Package checks lists what is proved of a device: the one list that proofs, their columns, what puts
// a failed one right, and the documentation go by.
package checks

import (
	"slices"

	"janustat/core/advice"
	"janustat/core/settings"
)

// Check is one sort of check.
type Check struct {
	Name  string
	Head  string // of its column; several may share one
	Holds string // when it holds, in words
	// Mend says what puts it right; nil is by commissioning again.
	Mend func(label string) advice.Advice
}

// The checks, in the order they are shown; those of settings come in between.
const (
	Answers  = "answers"
	Alone    = "alone"
	Password = "password"
	OldKeys  = "old keys"
	Closed   = "closed"
	Users    = "users"
	Cert     = "certificate"
	Identity = "identity"
	Firmware = "firmware"
	Address  = "address"
	Gateway  = "gateway"
	Static   = "static"
	DNS      = "dns"
	NTP      = "ntp"
	Name     = "name"
	Picture  = "picture"
	Clock    = "clock"
	Stream   = "stream"
	Channel  = "channel"
	Pair     = "pair"
	Report   = "report"
)

// All are the checks, in order.
var All = list()

func list() (out []Check) {
	replaced := func(label string) advice.Advice {
		return advice.Say("find out whether it was replaced or reset on purpose; only then %s", advice.Restore.On(label))
	}
	changed := func(label string) advice.Advice {
		return advice.Say("%s; if that does not help, it is for its manufacturer", advice.KeyChange.On(label))
	}
	out = []Check{
		{Answers, "up", "it answers at its address", func(string) advice.Advice {
			return advice.Say("check cable and power, then %s. If it has moved to another address: %s, then %s", advice.Prove, advice.Survey, advice.Commission)
		}},
		{Alone, "alone", "nobody else answers there", func(string) advice.Advice {
			return advice.Say("%s shows which device has its address too; ask whose that is before you disconnect anything", advice.Survey)
		}},
		{Password, "pw", "its password opens it", func(label string) advice.Advice {
			return advice.Say("%s with the password that it has now", advice.KeySet.On(label))
		}},
		{OldKeys, "old pw", "no old or factory password opens it. *2 untested*: so many are tried in the next hour, as far as the limit of tries allows", changed},
		{Closed, "closed", "without a password it shows nothing that needs one", changed},
		{Users, "users", "it has the users that the job sheet names, each with its password, and no others", nil},
		{Cert, "cert", "it shows the certificate that it showed when it was surveyed", replaced},
		{Identity, "id", "serial, MAC and endpoint are the same", replaced},
		{Firmware, "fw", "the firmware is as recorded", nil},
		{Address, "address", "address and mask are as allotted", nil},
		{Gateway, "gw", "the gateway is as allotted", nil},
		{Static, "static", "DHCP is off", nil},
		{DNS, "dns", "it asks the DNS servers of the site", nil},
		{NTP, "ntp", "its clock follows the NTP servers of the site", nil},
		{Name, "name", "it is called as the job sheet says", nil},
		{Picture, "caption", "its pictures show its name, and their sources are called so", nil},
	}
	for _, s := range settings.All {
		out = append(out, Check{string(s.Name), s.Head, s.Holds, nil})
	}
	return append(
		out,
		Check{Clock, "clock", "the clock is within seconds", nil},
		Check{Stream, "linked", "its picture is watched by the recorder's user", nil},
		Check{Channel, "linked", "each channel of a recorder is connected and shows its stream", nil},
		Check{Pair, "linked", "each intercom pair is registered, and a station knows no others than the job sheet has", nil},
		Check{Report, "linked", "it reports to its server", nil},
	)
}

// Of gives one by its name.
func Of(name string) (Check, bool) {
	if at := Order(name); at < len(All) {
		return All[at], true
	}
	return Check{}, false
}

// Order is the place of a check, by its name; one that is not listed comes after all.
func Order(name string) int {
	if at := slices.IndexFunc(All, func(c Check) bool { return c.Name == name }); at >= 0 {
		return at
	}
	return len(All)
}

// Mend says what puts a failed check of a device right. It goes by the reason: what commissioning
// sets, it sets again; a password, another unit or a second one on the address it cannot set.
func Mend(name, label string) advice.Advice {
	if c, ok := Of(name); ok && c.Mend != nil {
		return c.Mend(label)
	}
	return advice.Say("%s, then %s", advice.Commission, advice.Prove)
}
