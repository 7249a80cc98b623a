package cli

import (
	"errors"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"janustat/core/text"
)

// flagError tells what is wrong with an option, and which one may have been meant.
func flagError(c *cobra.Command, err error) error {
	typed, ok := strings.CutPrefix(err.Error(), "unknown flag: --")
	var said usageError
	if errors.As(err, &said) {
		return err
	}
	if !ok {
		return usagef("%w; `%s --help` shows what it takes", err, c.CommandPath())
	}
	var names []string // as they are typed
	for _, set := range []*pflag.FlagSet{c.Flags(), c.InheritedFlags()} {
		set.VisitAll(func(f *pflag.Flag) { names = append(names, "--"+f.Name) })
	}
	return usagef("`%[2]s` has no option --%[1]s%[3]s; `%[2]s --help` lists them", typed, c.CommandPath(), text.Meant("--"+typed, names))
}
