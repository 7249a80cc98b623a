package sheet

import (
	"cmp"
	"fmt"
	"strings"

	"janustat/core/commission"
	"janustat/core/text"
)

// WantedUser is a further user that devices are to have beside the administrator.
type WantedUser struct {
	Name string   `yaml:"name"`
	Role string   `yaml:"role"` // administrator, operator or user
	On   []string `yaml:"on"`   // kinds, tags, MACs or serials; every device if left out
}

// LevelOf gives the level of a role in the job sheet; of one that is none the lowest.
func LevelOf(role string) commission.Level { return cmp.Or(levels[role], commission.Viewer) }

var levels = map[string]commission.Level{
	"administrator": commission.Administrator, "operator": commission.Operator, "user": commission.Viewer,
}

// maxUserName is what common devices take.
const maxUserName = 32

func (s *Sheet) checkUsers() error {
	seen := map[string]bool{}
	for i, u := range s.Users {
		switch {
		case u.Name == "" || len([]rune(u.Name)) > maxUserName || strings.ContainsAny(u.Name, " \n\t\x00:"):
			return s.wrong(fmt.Sprintf("users[%d].name", i), "%q: a user name is 1 to %d characters without spaces or colons", u.Name, maxUserName)
		case strings.EqualFold(u.Name, s.User()):
			return s.wrong(fmt.Sprintf("users[%d].name", i), "%q is the administrator of password.user already", u.Name)
		case seen[strings.ToLower(u.Name)]:
			return s.wrong(fmt.Sprintf("users[%d].name", i), "%q is there twice", u.Name)
		case levels[u.Role] == "":
			return s.wrong(fmt.Sprintf("users[%d].role", i), "%q: use administrator, operator or user%s", u.Role, text.Meant(u.Role, []string{"administrator", "operator", "user"}))
		}
		seen[strings.ToLower(u.Name)] = true
	}
	return nil
}
