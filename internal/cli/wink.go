package cli

import (
	"github.com/spf13/cobra"

	"janustat/core/commission"
)

func (a *App) winkCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "wink DEVICE",
		Short: "Have a device show itself: by its light, its sound, or its lamp",
		Long: `Has a device of the job show itself for a moment by the means it has, so that the row in
the list and the thing on the wall meet. It is left as it was.`,
		Example: "  janustat wink C03 --wire eth0",
		Args:    oneDevice("wink"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.withDevice(c.Context(), "wink", args[0], func(w worked) error {
				return a.do(c.Context(), w, commission.Worker.Wink, "has shown itself")
			})
		},
	}
}
