package guess

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/trustelem/zxcvbn"
)

// What is found here is what the library finds that the matching is of.
func TestGuessesAreThoseOfTheLibrary(t *testing.T) {
	words := []string{"janustat", "Quillmere Ferry Terminal", "quillmere"}
	phrases := []string{
		"password", "p4ssw0rd!", "qwertyuiop", "1qaz2wsx", "abcdefgh", "aaaaaaaa", "abcabcabcabc", "13.05.1987", "20150604", "drowssap",
		"quillmere", "Quillmere1", "correct horse battery staple", "zxcvbnm,./", "tr0ub4dor&3", "Grüße aus Überlingen", "ferry at quillmere", "x", "12",
	}
	r := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		var b strings.Builder
		for range 1 + r.IntN(14) {
			b.WriteByte(byte(33 + r.IntN(94)))
		}
		phrases = append(phrases, b.String(), phrases[r.IntN(19)]+b.String())
	}
	for _, p := range phrases {
		assert.InEpsilon(t, zxcvbn.PasswordStrength(p, words).Guesses, guesses(p, words), 1e-9, p)
	}
}

func TestWhatIsEasilyGuessedIsTold(t *testing.T) {
	for phrase, why := range map[string]string{
		"":                             "it is empty",
		" \t":                          "it is empty",
		"Janustat keyring":             "it is made of the names that anybody would try first",
		"quillmere ferry":              "it is made of the names that anybody would try first",
		"123456":                       "it is easily guessed",
		"passw0rd":                     "it is easily guessed",
		"aaaaaaaaaaaaaa":               "it is easily guessed",
		"broken \xff utf-8 of a paste": "it is easily guessed",
		"ferry at quillmere":           "",
		"correct horse battery staple": "",
		strings.Repeat("lantern ", 99): "",
		"Anker-Molen-Kajuit-7":         "",
	} {
		assert.Equal(t, why, Why(phrase, "Quillmere Ferry Terminal"), phrase)
	}
}
