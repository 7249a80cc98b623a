package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"janustat/core/device"
	"janustat/internal/handover"
	"janustat/internal/store"
	"janustat/internal/work"
)

func (a *App) noteCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "note DEVICE [FIELD=TEXT …]",
		Short: "Record where a device is: place, switch port, remark",
		Long: `Notes fields of a device, or shows them. place, port (of the switch) and remark have
their places in the documents; any other field is your own, and is kept through every
one. An empty text takes a field away. Nothing is sent to any device.`,
		Example: "  janustat note C03 place=\"ticket hall, east wall\" port=\"SW2/14\"\n  janustat note C03 cable=blue remark=",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usagef("note wants a device")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			return a.withJob(c.Context(), "note", func(d *work.Desk) error {
				x, err := device.Find(d.Devices, args[0])
				if err != nil {
					return err
				}
				fields, err := noteFields(args[1:])
				if err != nil {
					return err
				}
				if len(fields) > 0 {
					err := d.Decide(c.Context(), "note of "+x.Label(), []int64{x.ID}, func() error {
						return d.Job.Register.SetNotes(c.Context(), map[int64]store.Notes{x.ID: fields})
					})
					if err != nil {
						return err
					}
				}
				all, err := d.Job.Register.Notes(c.Context())
				if err != nil {
					return err
				}
				return a.printNotesOf(x, all[x.ID])
			})
		},
	}
}

// noteFields reads FIELD=TEXT.
func noteFields(args []string) (store.Notes, error) {
	out := store.Notes{}
	for _, arg := range args {
		field, value, ok := strings.Cut(arg, "=")
		field = strings.ToLower(strings.TrimSpace(field))
		if !ok {
			return nil, usagef("%q: write FIELD=TEXT, as place=\"ticket hall\"", arg)
		}
		if err := store.CheckField(field); err != nil {
			return nil, usageError{err}
		}
		if handover.Taken(field) {
			return nil, usagef("%q is a field of the record itself: give yours another name", field)
		}
		if len([]rune(value)) > maxNote {
			return nil, usagef("%s: longer than %d characters", field, maxNote)
		}
		out[field] = value
	}
	return out, nil
}

// maxNote is what is kept of one field, in characters.
const maxNote = 120

func (a *App) printNotesOf(d *device.Device, notes store.Notes) error {
	if a.json {
		if notes == nil {
			notes = store.Notes{}
		}
		return a.emit(noteJSON{d.Tag, d.MAC, notes})
	}
	if len(notes) == 0 {
		fmt.Fprintf(a.Out, "Nothing is noted of %s.\n", d.Label())
		return nil
	}
	fields := make([]string, 0, len(notes))
	for f := range notes {
		fields = append(fields, f)
	}
	slices.Sort(fields)
	for _, f := range fields {
		fmt.Fprintf(a.Out, "%-8s %s: %s\n", d.Label(), f, notes[f])
	}
	return nil
}
