package bench

import (
	"slices"
	"strings"
)

// Manners of users, that others look for by name.
const (
	namesItsUser = "names its user"
	locksAtThree = "locks at three"
)

// itsUser is what a device wants its first user to be called that wants that.
const itsUser = "supervisor"

// userManners are those of users and their passwords.
var userManners = map[string]manner{
	namesItsUser: {stands: "practice: the first user has a name of the maker's", weight: 2, group: "users", brings: func(_ *Model, u *Unit) { u.Password = "" }},
	locksAtThree: {stands: "practice: three wrong passwords lock it", weight: 2, group: "lock"},
	"hides administrators": {
		stands: "seen: GetUsers lists those that an administrator has made, and no administrators", weight: 2, group: "users",
		shape: func(_ *Device, op string, answer *node) {
			if op != "GetUsers" {
				return
			}
			answer.kids = slices.DeleteFunc(answer.kids, func(u *node) bool {
				return slices.ContainsFunc(u.kids, func(k *node) bool { return k.name == "UserLevel" && k.text == "Administrator" })
			})
		},
	},
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
}
