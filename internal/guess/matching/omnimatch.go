// Package matching finds what is guessable in a password. It is that of github.com/trustelem/zxcvbn
// (its licence is in this folder), whose tables are made when they are first asked for, and not at
// every start of the program: they take tens of milliseconds and ten megabytes, and next to no
// command judges a passphrase.
package matching

import (
	"regexp"
	"sync"

	"github.com/trustelem/zxcvbn/adjacency"
	"github.com/trustelem/zxcvbn/frequency"
	"github.com/trustelem/zxcvbn/match"
)

// Omnimatch gives every match, in order.
func Omnimatch(password string, userInputs []string) (matches []*match.Match) {
	dictMatcher := dictionaries().withDict("user_inputs", buildRankedDict(userInputs))

	matchers := []match.Matcher{
		dictMatcher,
		reverseDictionnaryMatch{dm: dictMatcher},
		l33tMatch{dm: dictMatcher, table: l33tTable},
		spatialMatch{graphs: graphs()},
		repeatMatch{},
		sequenceMatch{},
		regexpMatch{regexes: years},
		dateMatch{},
	}

	for _, m := range matchers {
		matches = append(matches, m.Matches(password)...)
	}
	match.Sort(matches)
	return matches
}

var (
	dictionaries = sync.OnceValue(loadDictionaries)
	graphs       = sync.OnceValue(loadGraphs)
	years        = []struct {
		Name   string
		Regexp *regexp.Regexp
	}{
		{
			Name:   "recent_year",
			Regexp: regexp.MustCompile(`19\d\d|200\d|201\d`),
		},
	}
	l33tTable = map[string][]string{
		"a": {"4", "@"},
		"b": {"8"},
		"c": {"(", "{", "[", "<"},
		"e": {"3"},
		"g": {"6", "9"},
		"i": {"1", "!", "|"},
		"l": {"1", "|", "7"},
		"o": {"0"},
		"s": {"$", "5"},
		"t": {"+", "7"},
		"x": {"%"},
		"z": {"2"},
	}
)

func loadDictionaries() dictionaryMatch {
	rd := make(map[string]rankedDictionnary)
	for n, list := range frequency.FrequencyLists {
		rd[n] = buildRankedDict(list)
	}
	return dictionaryMatch{
		rankedDictionaries: rd,
	}
}

func loadGraphs() []*adjacency.Graph {
	return []*adjacency.Graph{
		adjacency.Graphs["qwerty"],
		adjacency.Graphs["dvorak"],
		adjacency.Graphs["keypad"],
		adjacency.Graphs["mac_keypad"],
	}
}
