package cli

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/internal/handover"
	"janustat/internal/job"
)

func (a *App) beginCommand() *cobra.Command {
	var name, subnet, gateway, record string
	c := &cobra.Command{
		Use:     "begin DIR",
		Short:   "Make a new job folder",
		Long:    "Makes a folder with a commented job sheet, the one file to edit by hand, and an empty\nregister; or, for a service visit, one that begins from the record of an earlier pack.",
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
			var from handover.Record
			if record != "" {
				var err error
				if from, err = handover.Read(record); err != nil {
					return usageError{err}
				}
				if g := from.Ground; subnet == "" && g.Subnet.IsValid() {
					subnet = g.Subnet.String()
					if gateway == "" && g.Gateway.IsValid() {
						gateway = g.Gateway.String()
					}
				}
				if !c.Flags().Changed("name") && from.Site != "" {
					name = from.Site
				}
			}
			err := job.Begin(c.Context(), dir, job.NewSheet(name, subnet, gateway, time.Now()))
			kept := errors.Is(err, job.ErrSheetKept)
			if err != nil && !kept {
				return err
			}
			if record != "" {
				if err := takeOver(c.Context(), dir, from); err != nil {
					return err
				}
				a.say("%s taken over from %s; their passwords are not in it: janustat key add, or key set", plural(len(from.Devices), "device"), record)
			}
			if kept {
				made := "an empty register"
				if record != "" {
					made = "a register"
				}
				return a.report(fmt.Sprintf("made %s in %s; %s. Next: janustat survey", made, dir, err))
			}
			if a.json {
				return a.emit(begunJSON{dir, name})
			}
			fmt.Fprintf(a.Out, "Began %s in %s\nNext: cd %s, look through %s, then janustat survey\n", name, dir, dir, job.SheetFile)
			return nil
		},
	}
	c.Flags().StringVar(&record, "from", "", "begin from the record of an earlier pack: its folder, or register.json, .csv or .xlsx, at `PATH`")
	c.Flags().StringVar(&name, "name", "", "the site's name; the folder's if left out")
	c.Flags().StringVar(&subnet, "subnet", "", "the site subnet, as `CIDR`")
	c.Flags().StringVar(&gateway, "gateway", "", "the site's gateway `address`")
	return c
}

// takeOver puts the devices of a record into a new job, with their tags, addresses, names
// and notes.
func takeOver(ctx context.Context, dir string, from handover.Record) error {
	j, err := job.Open(ctx, dir)
	if err != nil {
		return err
	}
	defer j.Close()
	devices := make([]device.Device, len(from.Devices))
	for i, e := range from.Devices {
		devices[i] = e.Device(time.Now())
	}
	names, sheet := map[string]string{}, j.Sheet.Among(devices)
	for i, e := range from.Devices {
		// A sheet that was there may have its own names, which stand.
		if e.Name != "" && !e.MAC.IsZero() && sheet.NamedBy(&devices[i]) == "" {
			names[e.MAC.String()] = e.Name
		}
	}
	if err := j.Register.Save(ctx, devices); err != nil {
		return err
	}
	notes := map[int64]job.Notes{}
	for i, e := range from.Devices {
		n := job.Notes{job.Place: e.Place, job.Port: e.Port, job.Remark: e.Remark}
		for field, value := range e.Own {
			if job.CheckField(field) == nil {
				n[field] = value
			}
		}
		notes[devices[i].ID] = n
	}
	if err := j.Register.SetNotes(ctx, notes); err != nil {
		return err
	}
	return job.AddNames(j.Path(job.SheetFile), names)
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
