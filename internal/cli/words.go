package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"janustat/core/text"
)

// didYouMean offers the nearest of some words for a mistyped one, or says nothing.
func didYouMean(word string, of []string) string {
	if near := text.Nearest(word, of); near != "" {
		return fmt.Sprintf(" (did you mean %s?)", near)
	}
	return ""
}

// flagError tells what is wrong with an option, and which one may have been meant.
func flagError(c *cobra.Command, err error) error {
	typed, ok := strings.CutPrefix(err.Error(), "unknown flag: --")
	if !ok {
		return usagef("%w; `%s --help` shows what it takes", err, c.CommandPath())
	}
	var names []string
	for _, set := range []*pflag.FlagSet{c.Flags(), c.InheritedFlags()} {
		set.VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
	}
	hint := ""
	if near := text.Nearest(typed, names); near != "" {
		hint = " (did you mean --" + near + "?)"
	}
	return usagef("--%s is no option of `%s`%s; `%[2]s --help` shows them", typed, c.CommandPath(), hint)
}
