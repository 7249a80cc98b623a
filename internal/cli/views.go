package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"janustat/internal/reach"
	"janustat/internal/views"
	"janustat/internal/work"
)

func (a *App) viewsCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "views",
		Short: "A still from every camera, on one sheet",
		Long: `Fetches one picture from every camera of the job, with its password, and keeps it in views/
with a contact sheet (views.png, views.html) that shows tag, name and time. It reports
pictures that are black, frozen or the same as another camera's, and cameras that have
none. The handover pack includes the pictures. Writes to no device.`,
		Example: "  janustat views --wire eth0",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.withJob(c.Context(), "views", func(d *work.Desk) error {
				keys, err := a.keyring(c.Context(), d.Job, false)
				if err != nil {
					return err
				}
				return a.withNet(c.Context(), d, shortPatience, func(ctx context.Context, n *reach.Net) error {
					shots, files, err := d.Views(ctx, n, keys)
					if err != nil {
						return err
					}
					return a.printViews(shots, files)
				})
			})
		},
	}
}

func (a *App) printViews(shots []views.Shot, files []string) error {
	rows := []viewJSON{}
	var flawed []string
	for _, s := range shots {
		rows = append(rows, viewJSON{s.Tag, s.Name, s.Flaw})
		if s.Flaw != "" {
			flawed = append(flawed, s.Tag)
		}
	}
	if a.json {
		if err := a.emit(viewsJSON{rows, orEmpty(files)}); err != nil {
			return err
		}
	} else {
		for _, r := range rows {
			if r.Flaw != "" {
				fmt.Fprintf(a.Out, "%s %s: %s\n", r.Tag, r.Name, a.paint(a.Out, badStyle, r.Flaw))
			}
		}
		fmt.Fprintf(a.Out, "%s of %s; the sheet: %s\n", plural(len(shots)-len(flawed), "good picture"), plural(len(shots), "camera"), strings.Join(files[max(0, len(files)-2):], ", "))
	}
	if len(flawed) > 0 {
		return needsError{}
	}
	return nil
}
