package cli

import (
	"fmt"

	"janustat/core/text"
)

// didYouMean offers the nearest of some words for a mistyped one, or says nothing.
func didYouMean(word string, of []string) string {
	if near := text.Nearest(word, of); near != "" {
		return fmt.Sprintf(" (did you mean %s?)", near)
	}
	return ""
}
