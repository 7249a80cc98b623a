package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"janustat/core/device"
	"janustat/internal/job"
	"janustat/internal/work"
)

func (a *App) nameCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "name DEVICE TEXT",
		Short: "Name a device, in the job sheet",
		Long: `Writes the name of a device into the job sheet, whose comments stay; the next commission
gives it to the device, and to its picture. Nothing is sent to any device.`,
		Example: "  janustat name C01 \"Ticket hall east\"",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 2 || args[1] == "" {
				return usagef("name takes a device and its name: janustat name C01 \"Ticket hall east\"")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			return a.withJob(c.Context(), "name", func(d *work.Desk) error {
				x, err := device.Find(d.Devices, args[0])
				if err != nil {
					return err
				}
				if err := d.Name(c.Context(), x, args[1]); err != nil {
					return err
				}
				return a.report(fmt.Sprintf("%s is called %q in %s; commission gives it the name", x.Label(), args[1], job.SheetFile))
			})
		},
	}
}
