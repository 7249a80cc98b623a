package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/internal/keyring"
	"janustat/internal/work"
)

func (a *App) winkCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "wink DEVICE",
		Short: "Make a device flash or sound so that you can find it",
		Long: `Has a device of the job show itself for a moment by the means it has, so that the row in
the list and the thing on the wall meet. It is left as it was.`,
		Example: "  janustat wink C03 --wire eth0",
		Args:    oneDevice("wink"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.withJob(c.Context(), "wink", func(d *work.Desk) error {
				x, err := d.InJob(args[0])
				if err != nil {
					return err
				}
				keys, err := a.keyring(c.Context(), d.Job, false)
				if errors.Is(err, keyring.ErrNoKeyring) {
					keys, err = keyring.New("", ""), nil // one without a password shows itself all the same
				}
				if err != nil {
					return err
				}
				planner, err := d.Planner(c.Context(), keys)
				if err != nil {
					return err
				}
				return a.do(c.Context(), d, planner, []*device.Device{x}, commission.Worker.Wink, func(tags []string) string { return tags[0] + " has shown itself" })
			})
		},
	}
}
