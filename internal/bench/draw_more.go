package bench

import (
	"strings"
	"time"
)

// furtherTraits are those of models, and of how somebody left a device, beside the table of the
// first ones.
func furtherTraits() []Trait {
	return []Trait{
		rules("no runs", "practice: no three neighbours in a row, and nothing is published", 2, Rules{Min: 8, NoRun: true, Silent: true}),
		rules("no repeats", "practice: no sign twice, and nothing is published", 2, Rules{Min: 8, NoRepeat: true, Silent: true}),
		rules("ceiling that is told", "Core Specification, CreateUsers: PasswordTooLong", 2, Rules{Min: 4, Max: 10, Silent: true, Tells: true}),
		rules("signs that are told", "practice: letters and digits only, said in words", 2, Rules{Min: 4, NoSpecial: true, Silent: true, Tells: true}),
		rules("several of each", "practice: two of each class, and nothing is published", 2, Rules{Min: 10, Upper: 2, Digits: 2, Special: 2, Silent: true}),
		rules("sixteen at least", "practice: sixteen signs, and nothing is published", 1, Rules{Min: 16, Silent: true}),
		left("somebody's guest", "users", "practice: a user that somebody has left", 1, func(u *Unit) { u.Guest = "lobby" }),
		model("long texts", "texts", "seen: texts of some hundred characters", 1, func(m *Model) { m.Firmware = "1.0 " + strings.Repeat("build 2026-11-29 ", 20) }),
		left("texts of the world", "texts", "Unicode: letters of every script, and marks of direction", 1, func(u *Unit) { u.Name = "Вход 光 \u202e3\u202c" }),
		left("markup in names", "texts", "practice: names with markup in them", 1, func(u *Unit) { u.Name = `<b>"Gate" & 'Yard'</b>` }),
		left("slow clock", "time", "practice: forty seconds behind", 2, func(u *Unit) { u.Clock = -40 * time.Second }),
		left("clock of 2040", "time", "practice: no battery, beyond 2038", 1, func(u *Unit) { u.Clock = 14 * 365 * 24 * time.Hour }),
		left("odd zone", "clock", "POSIX, 8.3: a zone by its number", 2, func(u *Unit) { u.Zone = "<+0530>-5:30" }),
		model("slow restart", "restart", "practice: half a minute over a restart", 1, func(m *Model) { m.NeedsBoot, m.Restart = true, 30*time.Second }),
		left("trickles", "busy", "practice: answers come octet by octet", 1, func(u *Unit) { u.Dribble = time.Millisecond }),
	}
}

func rules(name, stands string, weight int, r Rules) Trait {
	return model(name, "rules", stands, weight, func(m *Model) { own := r; m.Rules = &own })
}
