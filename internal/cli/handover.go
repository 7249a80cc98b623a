package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/internal/field"
	"janustat/internal/handover"
	"janustat/internal/job"
)

func (a *App) handoverCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "handover",
		Short:   "Write the record the client keeps",
		Long:    "Writes handover/register.csv, handover/register.json and handover/handover.pdf. None of them holds a password.",
		Example: "  janustat handover",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			j, devices, err := a.open(c.Context())
			if err != nil {
				return err
			}
			defer j.Close()
			device.Sort(devices)
			// A record is worth having before everything is known of the ground.
			g, err := field.Ground(c.Context(), j, devices)
			if err != nil {
				g = ground.Ground{}
			}
			progress, err := j.Register.Progress(c.Context())
			if err != nil {
				return err
			}
			inClear := map[int64]bool{}
			for id, p := range progress {
				inClear[id] = p.InClear
			}
			r := handover.New(j.Sheet.Name, g, devices, inClear, time.Now())
			r.Open = append(r.Open, passedBy(devices, g.Subnet)...)
			if len(r.Devices) == 0 {
				return usagef("no device is taken, so there is nothing to hand over")
			}
			files, err := writeRecord(j, r)
			if err != nil {
				return err
			}
			if a.json {
				return a.emit(map[string]any{"files": files, "devices": len(r.Devices), "still_open": r.Open})
			}
			for _, f := range files {
				fmt.Fprintf(a.Out, "wrote %s\n", f)
			}
			fmt.Fprintf(a.Out, "%s on record\n", plural(len(r.Devices), "device"))
			for _, o := range r.Open {
				fmt.Fprintf(a.Out, "still open: %s\n", o)
			}
			return nil
		},
	}
}

func writeRecord(j *job.Job, r handover.Record) ([]string, error) {
	if err := job.OwnDir(j.Path(job.HandoverDir)); err != nil {
		return nil, fmt.Errorf("handover: %w", err)
	}
	var files []string
	for _, doc := range []struct {
		name string
		make func() ([]byte, error)
	}{{"register.csv", r.CSV}, {"register.json", r.JSON}, {"handover.pdf", r.PDF}} {
		data, err := doc.make()
		if err != nil {
			return nil, err
		}
		path := j.Path(job.HandoverDir, doc.name)
		if err := job.WriteFile(path, data, 0o644); err != nil {
			return nil, err
		}
		files = append(files, path)
	}
	return files, nil
}
