package cli

import (
	"fmt"
	"strings"

	"janustat/core/device"
	"janustat/internal/work"
)

func (a *App) printExpected(e work.Expected, devices []device.Device, missing, notThere []string) {
	if len(notThere) > 0 {
		fmt.Fprintf(a.Out, "%s %s\n", a.paint(a.Out, badStyle, "not there:"), a.wrap(a.Out, 2, strings.Join(notThere, " ")))
	}
	switch {
	case e.None():
	case len(missing) == 0:
		fmt.Fprintf(a.Out, "%s: everything expected is there\n", a.paint(a.Out, goodStyle, "complete"))
	default:
		fmt.Fprintf(a.Out, "%s %s\n", a.paint(a.Out, badStyle, "missing:"), strings.Join(missing, ", "))
		var gone []string
		for i := range devices {
			if d := &devices[i]; d.InJob == device.Taken && work.Counts(d) {
				gone = append(gone, d.Tag)
			}
		}
		if len(gone) > 0 {
			fmt.Fprintf(a.Out, "  there: %s\n", strings.Join(gone, " "))
		}
		fmt.Fprintln(a.Out, "  Look at the switch's port lights, power the missing ones off and on, and watch them come: janustat survey --watch")
	}
}
