package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"janustat/internal/handover"
	"janustat/internal/schedule"
	"janustat/internal/work"
)

func (a *App) scheduleCommand() *cobra.Command {
	var inOrder bool
	var sheet string
	var meanings []string
	c := &cobra.Command{
		Use:   "schedule FILE",
		Short: "Read the planner's list of devices: names, addresses, places, ports",
		Long: `Reads a planner's spreadsheet (.xlsx, .ods) or table (.csv), or a register of an earlier
pack. Headings are understood by their meaning, in English, German, French and Spanish:
tag, kind, name, place, address, MAC or its last digits, serial, recorder channel, switch,
port, remarks; --map says it of others. Any other column is kept as a field of its own.

Rows are matched with devices by MAC, serial, the end of the MAC, or tag; --in-order
matches what is left of each kind in the order of both. It shows how everything was
understood, what contradicts itself and which addresses cannot be given, and asks first.
Names and addresses go into the job sheet, where it has none; everything else into the
notes. Sends nothing to devices.`,
		Example: "  janustat schedule plan.xlsx\n  janustat schedule plan.csv --in-order --yes\n  janustat schedule liste.ods --sheet Kameras --map \"Dosennr.=port\"",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usagef("schedule takes one file")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			return a.withJob(c.Context(), "schedule", func(d *work.Desk) error {
				how := schedule.Reading{Sheet: sheet, Means: map[string]schedule.Column{}}
				for _, said := range meanings {
					head, means, ok := strings.Cut(said, "=")
					if !ok || !slices.Contains(schedule.Columns, schedule.Column(means)) {
						return usagef("--map %q: write HEADING=COLUMN; the columns are %s", said, columnNames())
					}
					how.Means[strings.ToLower(strings.TrimSpace(head))] = schedule.Column(means)
				}
				l, err := schedule.Read(args[0], how)
				if err != nil {
					return usageError{err}
				}
				m := schedule.Meet(l, d.Devices, inOrder)
				misplaced, err := d.Misplaced(c.Context(), &m)
				if err != nil {
					return err
				}
				for _, text := range misplaced {
					m.Doubts = append(m.Doubts, text+": not taken in")
				}
				if !a.json {
					a.printMatched(l, m)
				}
				if len(m.Matches) == 0 {
					return needsError{"no row means a device of the register: survey first, or correct the list"}
				}
				if err := a.confirm(c.Context(), fmt.Sprintf("Take %s in?", plural(len(m.Matches), "row"))); err != nil {
					return err
				}
				names, kept, err := d.Merge(c.Context(), m, handover.Taken)
				if err != nil {
					return err
				}
				return a.tellMerged(l, m, names, kept)
			})
		},
	}
	c.Flags().StringVar(&sheet, "sheet", "", "the one sheet of a workbook to read, by its `NAME`; every sheet with headings if left out")
	c.Flags().StringArrayVar(&meanings, "map", nil, "what a heading means, as `HEADING=COLUMN`; may be given several times")
	c.Flags().BoolVar(&inOrder, "in-order", false, "match what is left of each kind in the order of both")
	return c
}

func columnNames() string {
	out := make([]string, len(schedule.Columns))
	for i, c := range schedule.Columns {
		out[i] = string(c)
	}
	return strings.Join(out, ", ")
}

func (a *App) printMatched(l schedule.List, m schedule.Matched) {
	var understood, own []string
	for _, h := range l.Headings {
		switch {
		case h.Means != "":
			understood = append(understood, fmt.Sprintf("%s as %s", h.Text, h.Means))
		case h.Text != "":
			own = append(own, h.Text)
		}
	}
	fmt.Fprintln(a.Out, a.wrap(a.Out, 2, "Headings: "+strings.Join(understood, ", ")))
	if len(own) > 0 {
		fmt.Fprintln(a.Out, a.wrap(a.Out, 2, "Kept as fields of their own: "+strings.Join(own, ", ")))
	}
	t := &listing{columns: []column{{head: "LINE"}, {head: "DEVICE"}, {head: "BY"}, {head: "NAME"}, {head: "ADDRESS"}, {head: "PLACE"}, {head: "PORT"}}}
	for _, x := range m.Matches {
		f := x.Row.Fields
		t.add(plain(fmt.Sprint(x.Row.Line)), plain(x.Device.Label()), plain(x.By), plain(f[schedule.Name]), plain(addressText(x.Row.At)), plain(f[schedule.Place]), plain(strings.Trim(f[schedule.Switch]+"/"+f[schedule.Port], "/")))
	}
	a.write(a.Out, t)
	for _, r := range m.Rows {
		fmt.Fprintf(a.Out, "%s means no device: %s\n", r.Where(), strings.Join(strings.Fields(strings.Join([]string{r.Fields[schedule.Tag], r.Fields[schedule.Name], r.Fields[schedule.MAC], r.Fields[schedule.Serial]}, " ")), " "))
	}
	for _, d := range m.Devices {
		fmt.Fprintf(a.Out, "%s stands in no row (%s, serial %s)\n", d.Label(), d.MAC, d.Serial)
	}
	for _, doubt := range m.Doubts {
		fmt.Fprintln(a.Out, a.paint(a.Out, workStyle, doubt))
	}
}

func (a *App) tellMerged(l schedule.List, m schedule.Matched, names int, kept []string) error {
	if a.json {
		rows := []matchedJSON{}
		for _, x := range m.Matches {
			rows = append(rows, matchedJSON{x.Row.Line, x.Device.Label(), x.By})
		}
		return a.emit(scheduleJSON{rows, len(m.Rows), len(m.Devices), orEmpty(m.Doubts), names, orEmpty(kept)})
	}
	fmt.Fprintf(a.Out, "%s taken in; %s written into the job sheet\n", plural(len(m.Matches), "row"), plural(names, "name"))
	if len(kept) > 0 {
		fmt.Fprintf(a.Out, "The job sheet has other names already, which stand: %s\n", strings.Join(kept, " "))
	}
	if len(m.Rows)+len(m.Devices)+len(m.Doubts) > 0 {
		return needsError{}
	}
	return nil
}
