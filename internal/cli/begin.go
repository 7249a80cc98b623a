package cli

import (
	"errors"
	"fmt"
	"net/netip"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/ground"
	"janustat/internal/job"
)

func (a *App) beginCommand() *cobra.Command {
	var name, subnet, gateway string
	c := &cobra.Command{
		Use:     "begin DIR",
		Short:   "Make a new job folder",
		Long:    "Makes a folder with a commented job sheet, the one file to edit by hand, and an empty register.",
		Example: "  janustat begin quillmere --name \"Quillmere Ferry Terminal\"\n  janustat begin depot --subnet 10.61.8.0/23 --gateway 10.61.8.1",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usagef("begin takes one folder: janustat begin DIR")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			dir := args[0]
			if name == "" {
				name = filepath.Base(filepath.Clean(dir))
			}
			if err := checkGround(subnet, gateway); err != nil {
				return err
			}
			err := job.Begin(c.Context(), dir, job.NewSheet(name, subnet, gateway, time.Now()))
			if errors.Is(err, job.ErrSheetKept) {
				return a.report(fmt.Sprintf("made an empty register in %s; %s. Next: janustat survey", dir, err))
			}
			if err != nil {
				return err
			}
			if a.json {
				return a.emit(map[string]string{"job": dir, "name": name})
			}
			fmt.Fprintf(a.Out, "Began %s in %s\nNext: cd %s, look through %s, then janustat survey\n", name, dir, dir, job.SheetFile)
			return nil
		},
	}
	c.Flags().StringVar(&name, "name", "", "the site's name; the folder's if left out")
	c.Flags().StringVar(&subnet, "subnet", "", "the site subnet, as `CIDR`")
	c.Flags().StringVar(&gateway, "gateway", "", "the site's gateway `address`")
	return c
}

// checkGround checks the flags together: the gateway must be in the subnet.
func checkGround(subnet, gateway string) error {
	var claim ground.Claim
	var err error
	if subnet != "" {
		if claim.Subnet, err = ground.ParseSubnet(subnet); err != nil {
			return usagef("--subnet: %w", err)
		}
	}
	if gateway != "" {
		if claim.Gateway, err = netip.ParseAddr(gateway); err != nil {
			return usagef("--gateway %s: write it as 10.61.8.1", gateway)
		}
	}
	if subnet == "" {
		return nil
	}
	claim.Source = "--subnet"
	if _, err := ground.Resolve([]ground.Claim{claim}, false); err != nil {
		return usageError{err}
	}
	return nil
}
