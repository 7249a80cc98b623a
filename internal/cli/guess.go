package cli

import (
	"slices"
	"strings"

	"github.com/trustelem/zxcvbn"
)

// leastScore is what a passphrase must reach of zxcvbn's scale: below it, a million
// guesses are enough.
const leastScore = 2

// maxJudged bounds what is judged, in bytes: the work grows with the square of it, and
// what is longer is not guessed.
const maxJudged = 100

// guessable says why a passphrase is easily guessed, or "". known are words that anyone
// who meets the file would try first.
func guessable(phrase string, known ...string) string {
	words := []string{"janustat", "keyring"}
	for _, k := range known {
		words = append(append(words, k), strings.Fields(strings.ToLower(k))...)
	}
	switch {
	case strings.TrimSpace(phrase) == "":
		return "it is empty"
	case len(phrase) > maxJudged:
		phrase = phrase[:maxJudged]
	}
	if !slices.ContainsFunc(strings.Fields(strings.ToLower(phrase)), func(w string) bool { return !slices.Contains(words, w) }) {
		return "it is made of the names that anybody would try first"
	}
	if zxcvbn.PasswordStrength(phrase, words).Score < leastScore {
		return "it is easily guessed"
	}
	return ""
}
