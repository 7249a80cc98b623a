package text

import "strings"

// Nearest gives the word that somebody who typed another most likely meant: the one with
// the fewest slips between them (letters missing, doubled, changed or swapped), if these are
// at most a third of its letters; signs that look alike are half a slip. A word that what was typed begins is near as well. "" is
// none, or more than one that are equally near.
func Nearest(typed string, words []string) string {
	typed = strings.ToLower(typed)
	best, least, tie := "", 0, false
	for _, w := range words {
		low := strings.ToLower(w)
		d := slips(typed, low)
		if len(typed) > 1 && strings.HasPrefix(low, typed) {
			d = min(d, slip)
		}
		if d > slip*max(1, len(w)/3) || len(typed) == 0 {
			continue
		}
		switch {
		case best == "" || d < least:
			best, least, tie = w, d, false
		case d == least && !strings.EqualFold(w, best):
			tie = true
		}
	}
	if tie {
		return ""
	}
	return best
}

// Meant offers the nearest of some words for a mistyped one, in brackets after a space, or
// says nothing.
func Meant(typed string, words []string) string {
	near := Nearest(typed, words)
	if near == "" || strings.EqualFold(near, typed) {
		return ""
	}
	return " (did you mean " + near + "?)"
}

// slip is what one counts; alike is what one between signs that look alike does.
const (
	slip  = 2
	alike = 1
)

// looks are signs that look alike, by one that stands for all of them.
var looks = map[rune]rune{'l': '1', 'i': '1', 'o': '0', 's': '5', 'b': '8', 'z': '2'}

func look(r rune) rune {
	if as, ok := looks[r]; ok {
		return as
	}
	return r
}

// slips is the Damerau-Levenshtein distance of two words in its restricted form: no letter
// is changed twice.
func slips(a, b string) int {
	x, y := []rune(a), []rune(b)
	rows := make([][]int, len(x)+1)
	for i := range rows {
		rows[i] = make([]int, len(y)+1)
		rows[i][0] = slip * i
	}
	for j := range rows[0] {
		rows[0][j] = slip * j
	}
	for i := 1; i <= len(x); i++ {
		for j := 1; j <= len(y); j++ {
			cost := slip
			switch {
			case x[i-1] == y[j-1]:
				cost = 0
			case look(x[i-1]) == look(y[j-1]):
				cost = alike
			}
			rows[i][j] = min(rows[i-1][j]+slip, rows[i][j-1]+slip, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+slip)
			}
		}
	}
	return rows[len(x)][len(y)]
}
