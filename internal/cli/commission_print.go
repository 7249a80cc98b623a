package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
)

// resultJSON is one device in the --json document of commission.
type resultJSON struct {
	Tag     string            `json:"tag"`
	MAC     device.MAC        `json:"mac"`
	Address string            `json:"address"`
	Status  commission.Status `json:"status"`
	Reason  string            `json:"reason,omitempty"`
	Next    string            `json:"next,omitempty"`
	Writes  []commission.Step `json:"writes"`
	Manner  commission.Manner `json:"manner,omitempty"`
	Notes   []string          `json:"notes,omitempty"`
	Alarm   string            `json:"alarm,omitempty"`
	SpentMS map[string]int64  `json:"spent_ms"`
	TookMS  int64             `json:"took_ms"`
}

func (a *App) summary(ctx context.Context, results []commission.Result, took time.Duration) error {
	count := map[commission.Status]int{}
	writes := 0
	for _, r := range results {
		count[r.Status]++
		writes += len(r.Writes)
	}
	if a.json {
		out := make([]resultJSON, len(results))
		for i, r := range results {
			spent := map[string]int64{}
			for s, d := range r.Spent {
				spent[string(s)] = d.Milliseconds()
			}
			out[i] = resultJSON{r.Plan.Tag, r.Plan.MAC, addressText(r.Plan.Target.Address), r.Status, r.Reason, r.Next.Text(command), orEmpty(r.Writes), mannerOf(r), r.Notes, r.Alarm, spent, r.Took.Milliseconds()}
		}
		if err := a.emit(commissionJSON{out, writes, took.Milliseconds()}); err != nil {
			return err
		}
	} else {
		a.printSummary(results, count, writes, took)
	}
	switch {
	case ctx.Err() != nil && !a.json:
		return errInterrupted
	case count[commission.Done] != len(results):
		return needsError{}
	}
	return nil
}

func (a *App) printSummary(results []commission.Result, count map[commission.Status]int, writes int, took time.Duration) {
	for _, status := range []commission.Status{commission.NeedsYou, commission.NotTried} {
		if count[status] == 0 {
			continue
		}
		fmt.Fprintf(a.Out, "%s:\n", a.paint(a.Out, badStyle, string(status)))
		for _, r := range results {
			if r.Status == status {
				alarm := ""
				if r.Alarm != "" {
					alarm = a.paint(a.Out, badStyle, "ALARM") + " "
				}
				fmt.Fprintf(a.Out, "  %s%s (%s) %s\n    next: %s\n", alarm, r.Plan.Tag, r.Plan.MAC, a.wrap(a.Out, 4, r.Reason), a.wrap(a.Out, 10, r.Next.Text(command)))
			}
		}
	}
	fmt.Fprintf(a.Out, "%s, %s, %d not tried; %s in %.1f s\n",
		a.paint(a.Out, goodStyle, fmt.Sprintf("%d done", count[commission.Done])), needYou(count[commission.NeedsYou]), count[commission.NotTried], plural(writes, "write"), took.Seconds())
	fmt.Fprintln(a.Out, a.wrap(a.Out, 2, "Slowest device: "+whereTimeWent(results)))
	var reserved []commission.Plan
	for _, r := range results {
		if mannerOf(r) == commission.ByReservation {
			reserved = append(reserved, r.Plan)
		}
	}
	a.printReservations(reserved)
	a.printNotes(results)
	if count[commission.Done] == len(results) {
		fmt.Fprintln(a.Out, "Next: janustat prove")
	}
}

// printNotes tells what is worth knowing, once for all devices that it is true of.
func (a *App) printNotes(results []commission.Result) {
	var order []string
	whose := map[string][]string{}
	for _, r := range results {
		for _, n := range r.Notes {
			if whose[n] == nil {
				order = append(order, n)
			}
			whose[n] = append(whose[n], r.Plan.Tag)
		}
	}
	for _, n := range order {
		fmt.Fprintln(a.Out, a.wrap(a.Out, 2, "Note: "+strings.Join(whose[n], " ")+": "+n))
	}
}

func mannerOf(r commission.Result) commission.Manner {
	if r.Reserved || r.Plan.Target.DHCP {
		return commission.ByReservation
	}
	return r.Plan.Manner
}

// whereTimeWent breaks down the slowest device, which is what the run waited for. The
// parts add up to the whole: what belongs to no step is told as such.
func whereTimeWent(results []commission.Result) string {
	var slowest commission.Result
	for _, r := range results {
		if r.Took > slowest.Took {
			slowest = r
		}
	}
	rest := slowest.Took
	var parts []string
	tell := func(words string, d time.Duration) {
		if d >= 50*time.Millisecond {
			parts = append(parts, fmt.Sprintf("%s %.1f s", words, d.Seconds()))
		}
	}
	for _, a := range commission.Activities(slowest.Spent) {
		rest -= a.Took
		tell(a.While, a.Took)
	}
	tell("between steps", rest)
	return fmt.Sprintf("%s: %.1f s: %s", slowest.Plan.Tag, slowest.Took.Seconds(), strings.Join(parts, ", "))
}
