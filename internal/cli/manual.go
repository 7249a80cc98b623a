package cli

import (
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
)

// manualCommand writes the manual pages, for those who package the program.
func (a *App) manualCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "manual DIR",
		Short:   "Write the manual pages of all commands into a folder",
		Long:    "Writes a manual page for each command (man, section 1) into a folder, which is made.",
		Example: "  janustat manual /usr/local/share/man/man1",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usagef("manual takes one folder: janustat manual DIR")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return usageError{err}
			}
			root := c.Root()
			root.DisableAutoGenTag = true
			// The same commit gives the same pages on any day. Each has its command as its title.
			date, err := time.Parse(time.DateOnly, Date)
			if err != nil {
				date = time.Unix(0, 0).UTC() // built from no commit
			}
			header := &doc.GenManHeader{Section: "1", Source: "Janustat", Manual: "Janustat", Date: &date}
			if err := doc.GenManTree(root, header, args[0]); err != nil {
				return fmt.Errorf("manual: %w", err)
			}
			return a.report("the manual pages are in " + args[0])
		},
	}
}
