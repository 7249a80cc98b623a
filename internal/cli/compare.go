package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"janustat/internal/handover"
	"janustat/internal/job"
	"janustat/internal/schedule"
	"janustat/internal/work"
)

func (a *App) compareCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "compare EARLIER LATER",
		Short: "Show what changed between two handover records",
		Long: `Lists what changed between two records: packs (their folders, or register.json, .csv or
.xlsx), or jobs; one of them may be a list of your own (.xlsx, .ods, .csv), as "schedule"
reads it, and then only what it says is compared. Devices are matched by MAC, those of a
list by serial number too; one that was replaced keeps its tag.`,
		Example: "  janustat compare ../2025/handover .\n  janustat compare old/register.json new/register.json --json\n  janustat compare planner.xlsx .",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 2 {
				return usagef("compare takes two records")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			var r [2]handover.Record
			list := -1 // which of them is somebody's own
			for i, path := range args {
				var err error
				r[i], err = a.recordAt(c, path)
				if errors.Is(err, handover.ErrNoRecord) && list < 0 && !isDir(path) {
					list = i
					continue
				}
				if err != nil {
					return usageError{err}
				}
			}
			if list >= 0 {
				rows, err := a.ownList(args[list])
				if err != nil {
					return usageError{err}
				}
				r[list] = handover.Listed(rows, r[1-list])
			}
			return a.printDifferences(handover.Compare(r[0], r[1]))
		},
	}
}

func isDir(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.IsDir()
}

// ownList reads a list that is no record of ours, by the names of a record's columns.
func (a *App) ownList(path string) (out []map[string]string, err error) {
	l, err := schedule.Read(path, schedule.Reading{Means: map[string]schedule.Column{}})
	if err != nil {
		return nil, err
	}
	for _, doubt := range l.Doubts {
		a.say("note: %s", doubt)
	}
	for i := range l.Rows {
		x := &l.Rows[i]
		row := map[string]string{"switch_port": x.SwitchPort()}
		for column, to := range map[schedule.Column]string{
			schedule.Tag: "tag", schedule.Kind: "kind", schedule.Name: "name", schedule.Place: "place", schedule.Serial: "serial", schedule.Remark: "remark",
		} {
			row[to] = x.Fields[column]
		}
		if !x.MAC.IsZero() {
			row["mac"] = x.MAC.String()
		}
		if x.At.IsValid() {
			row["address"] = x.At.String()
		}
		out = append(out, row)
	}
	return out, nil
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
	return work.RecordOf(c.Context(), j, devices, nil)
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
