// Package guess judges how easily a passphrase is guessed.
package guess

import (
	"math"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn/scoring"

	"janustat/internal/guess/matching"
)

// least is how many guesses a passphrase must stand at least: what is found out by fewer gives way
// where somebody can only try it at a service that counts.
const least = 1e6

// leeway is what a passphrase is to have beyond that before it counts.
const leeway = 5

// maxJudged bounds what is judged, in bytes: the work grows with the square of it, and
// what is longer is not guessed.
const maxJudged = 100

// Why says why a passphrase is easily guessed, or "". known are words that anyone
// who meets the file would try first.
func Why(phrase string, known ...string) string {
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
	if guesses(phrase, words) < least+leeway {
		return "it is easily guessed"
	}
	return ""
}

// guesses estimates how many it takes to find a phrase out, given words that are tried first.
func guesses(phrase string, words []string) float64 {
	if !utf8.ValidString(phrase) {
		return math.Inf(-1)
	}
	return scoring.MostGuessableMatchSequence(phrase, matching.Omnimatch(phrase, words), false).Guesses
}
