package bench

import "strings"

// Manners of users, that others look for by name.
const (
	namesItsUser = "names its user"
	locksAtThree = "locks at three"
)

// itsUser is what a device wants its first user to be called that wants that.
const itsUser = "supervisor"

func withRules(r Rules) func(*Model, *Unit) {
	return func(m *Model, _ *Unit) { own := r; m.Rules = &own }
}

// userManners are those of users and their passwords.
var userManners = map[string]manner{
	namesItsUser: {stands: "practice: the first user has a name of the maker's", weight: 2, group: "users", brings: func(_ *Model, u *Unit) { u.Password = "" }},
	locksAtThree: {stands: "practice: three wrong passwords lock it", weight: 2, group: "lock"},
	"anonymous listed": {
		stands: "Core Specification, tt:UserLevel: Anonymous", weight: 1, group: "users",
		shape: func(_ *Device, op string, answer *node) {
			if op == "GetUsers" {
				answer.kids = append([]*node{el(devNS, "User", el(typNS, "Username", "anonymous"), el(typNS, "UserLevel", "Anonymous"))}, answer.kids...)
			}
		},
	},
	"levels in small letters": {
		stands: "seen: levels of users in small letters", weight: 1, group: "users",
		shape: func(_ *Device, op string, answer *node) {
			if op == "GetUsers" {
				answer.each("UserLevel", func(n *node) { n.text = strings.ToLower(n.text) })
			}
		},
	},
	"passwords listed": {
		stands: "seen: GetUsers has a Password, which is empty or stars", weight: 1, group: "users",
		shape: func(_ *Device, op string, answer *node) {
			if op == "GetUsers" {
				answer.each("User", func(n *node) { n.kids = append(n.kids, el(typNS, "Password", "********"), el(typNS, "Extension")) })
			}
		},
	},
	"somebody's guest": {
		stands: "practice: a user that somebody has left", weight: 1, group: "users",
		brings: func(_ *Model, u *Unit) { u.Guest = "lobby" },
	},
	"no runs":              {stands: "practice: no three neighbours in a row, and nothing is published", weight: 2, group: "rules", brings: withRules(Rules{Min: 8, NoRun: true, Silent: true})},
	"no repeats":           {stands: "practice: no sign twice, and nothing is published", weight: 2, group: "rules", brings: withRules(Rules{Min: 8, NoRepeat: true, Silent: true})},
	"ceiling that is told": {stands: "Core Specification, CreateUsers: PasswordTooLong", weight: 2, group: "rules", brings: withRules(Rules{Min: 4, Max: 10, Silent: true, Tells: true})},
	"signs that are told":  {stands: "practice: letters and digits only, said in words", weight: 2, group: "rules", brings: withRules(Rules{Min: 4, NoSpecial: true, Silent: true, Tells: true})},
	"several of each":      {stands: "practice: two of each class, and nothing is published", weight: 2, group: "rules", brings: withRules(Rules{Min: 10, Upper: 2, Digits: 2, Special: 2, Silent: true})},
	"sixteen at least":     {stands: "practice: sixteen signs, and nothing is published", weight: 1, group: "rules", brings: withRules(Rules{Min: 16, Silent: true})},
}
