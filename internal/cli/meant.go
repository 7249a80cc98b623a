package cli

import (
	"regexp"
	"strings"
	"sync"

	"janustat/core/text"
)

// neighbours are words of other trades and other hands for the commands of this program.
var neighbours = map[string]string{
	"activate": "commission", "add": "take", "apply": "commission", "assign": "allot", "backup": "handover", "check": "prove", "configure": "commission", "connect": "commission", "delete": "forget", "diff": "compare",
	"discover": "survey", "exclude": "leave", "export": "handover", "find": "survey", "identify": "wink", "import": "schedule", "include": "take", "info": "show", "init": "begin", "ls": "list", "new": "begin", "open": "web",
	"password": "key", "passwords": "key list", "plan": "allot", "reboot": "restart", "remove": "leave", "rename": "name", "replace": "restore", "report": "handover", "revert": "putback", "scan": "survey", "search": "survey",
	"set": "key set", "setup": "commission", "snapshot": "views", "start": "go", "state": "", "status": "", "test": "prove", "verify": "prove", "wizard": "go",
}

// meantCommand says which command is meant by a word that is none.
func meantCommand(word string, names []string) string {
	command, known := neighbours[strings.ToLower(word)]
	switch {
	case known && command == "":
		return ": `janustat` by itself shows where the job stands"
	case known:
		return ": `janustat " + command + "` is what you want"
	}
	return text.Meant(word, names)
}

var noUnit = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`invalid argument "([0-9.]+)" for "(?:-\w, )?(--[a-z-]+)" flag: time: missing unit`)
})

// meantFlag says what is meant by a value that a flag does not take.
func meantFlag(err error) error {
	if m := noUnit().FindStringSubmatch(err.Error()); m != nil {
		return usagef("%s %s: give the unit: %[2]ss for seconds, %[2]sm for minutes", m[2], m[1])
	}
	return err
}
