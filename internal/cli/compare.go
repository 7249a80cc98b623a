package cli

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"janustat/internal/handover"
	"janustat/internal/job"
)

func (a *App) compareCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "compare EARLIER LATER",
		Short: "Show what changed between two handover records",
		Long: `Lists what changed between two records: packs (their folders, or register.json, .csv or
.xlsx), or jobs. Devices are matched by MAC; one that was replaced keeps its tag.`,
		Example: "  janustat compare ../2025/handover .\n  janustat compare old/register.json new/register.json --json",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 2 {
				return usagef("compare takes two records")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			var r [2]handover.Record
			for i, path := range args {
				var err error
				if r[i], err = a.recordAt(c, path); err != nil {
					return usageError{err}
				}
			}
			return a.printDifferences(handover.Compare(r[0], r[1]))
		},
	}
}

// recordAt gives the record of a job's folder as it stands, or that of a pack.
func (a *App) recordAt(c *cobra.Command, path string) (handover.Record, error) {
	if _, err := os.Stat(filepath.Join(path, job.RegisterFile)); err != nil {
		return handover.Read(path)
	}
	j, err := job.Open(c.Context(), path)
	if err != nil {
		return handover.Record{}, err
	}
	defer j.Close()
	devices, err := j.Register.Devices(c.Context())
	if err != nil {
		return handover.Record{}, err
	}
	return recordOf(c.Context(), j, devices, nil)
}

func (a *App) printDifferences(list []handover.Difference) error {
	if a.json {
		return a.emit(compareJSON{orEmpty(list)})
	}
	if len(list) == 0 {
		fmt.Fprintln(a.Out, "No differences.")
		return nil
	}
	l := &listing{columns: []column{{head: "TAG"}, {head: "WHAT"}, {head: "WAS"}, {head: "IS"}}}
	for _, d := range list {
		l.add(plain(d.Tag), plain(d.What), plain(d.From), plain(d.To))
	}
	a.write(a.Out, l)
	fmt.Fprintf(a.Out, "\n%s\n", plural(len(list), "difference"))
	return nil
}
