package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"janustat/core/checks"
	"janustat/core/device"
	"janustat/core/proving"
	"janustat/core/text"
	"janustat/internal/keyring"
	"janustat/internal/reach"
	"janustat/internal/work"
)

func (a *App) proveCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "prove [SELECTOR …]",
		Short: "Test every device: read it back and compare it with the register",
		Long: `Tests every device that was set up. Writes to no device. It checks that each device
  - answers at its address, and no other device does
  - opens with its own password, and with no old, factory or empty one
  - has exactly the users of the job sheet, each with its password
  - is the same unit, with the same firmware and certificate
  - has the right address, mask, gateway, DNS, NTP, name and clock
and that recorder channels, streams, intercom pairs and reporting work.

Old, factory and additional passwords are tried a few at a time, within the limit of tries
per hour; until then they count as untested. A device that was set up by hand, or accepts
only DHCP, is checked for its address alone. A device whose identity changed is sent no
password. With selectors, only those devices of the job are tested. Exit code 1 if anything
differs, or could not be tested yet.`,
		Example: "  janustat prove --wire eth0\n  janustat prove kind=camera\n  janustat prove --json",
		RunE: func(c *cobra.Command, args []string) error {
			return a.withJob(c.Context(), "prove", func(d *work.Desk) error {
				only, err := d.Select(args)
				if err != nil {
					return err
				}
				return a.prove(c.Context(), d, only)
			})
		},
	}
}

func (a *App) prove(ctx context.Context, d *work.Desk, only work.Selection) error {
	n, waiting, err := d.Ready(only)
	if err != nil {
		return err
	}
	unlocked := a.unlocking(ctx, d.Job, false)
	return a.withNet(ctx, d, shortPatience, func(ctx context.Context, net *reach.Net) error {
		d.Warm(ctx, net, only)
		keys, err := unlocked()
		if errors.Is(err, keyring.ErrNoKeyring) {
			// Then no device has a key: each is told to have none.
			keys, err = keyring.New("", ""), nil
		}
		if err != nil {
			return err
		}
		a.say("proving %s …", plural(n, "device"))
		count := a.counting("proved", n)
		p, err := d.Prove(ctx, net, keys, only, func(p *proving.Proof) {
			count.one()
			if ok := p.OK(); a.lined {
				_ = a.line(lineJSON{Event: "proved", Tag: p.Device.Tag, MAC: &p.Device.MAC, OK: &ok}) // as when nobody reads
			}
		})
		count.end()
		if errors.Is(err, work.ErrInterrupted) && len(p.Proofs) > 0 && !a.json {
			return errors.Join(a.printProofs(p), err)
		}
		if err != nil {
			return err
		}
		if err := a.printProofs(p); err != nil {
			return err
		}
		switch {
		case len(waiting) > 0:
			return needsError{fmt.Sprintf("%s no address allotted, so there is nothing to prove: `janustat allot`, then `janustat commission`", text.Have(waiting))}
		case p.Failed > 0 || slices.ContainsFunc(p.Proofs, unchecked):
			return needsError{}
		}
		return nil
	})
}

// unchecked reports whether a check is left for later, by the budget of tries.
func unchecked(p proving.Proof) bool {
	return slices.ContainsFunc(p.Checks, func(c proving.Check) bool { return c.Left > 0 })
}

type proofJSON struct {
	Tag     string          `json:"tag"`
	MAC     device.MAC      `json:"mac"`
	Address string          `json:"address"`
	OK      bool            `json:"ok"`
	InClear bool            `json:"password_in_clear"` // was set without encryption
	Checks  []proving.Check `json:"checks"`
	News    []string        `json:"news,omitempty"` // worth knowing, and no fault of the work
}

func (a *App) printProofs(p work.Proving) error {
	proofs, failed, inClear := p.Proofs, p.Failed, p.InClear
	if a.json {
		out := make([]proofJSON, len(proofs))
		for i := range proofs {
			d := &proofs[i].Device
			out[i] = proofJSON{d.Tag, d.MAC, d.Allotted.Address.String(), proofs[i].OK(), inClear[d.ID], orEmpty(proofs[i].Checks), proofs[i].News}
		}
		return a.emit(proveJSON{out, failed})
	}
	l := &listing{columns: []column{{head: "TAG"}, {head: "AT"}}}
	// What no device was asked has no column.
	var asked []string
	for i := range proofs {
		for _, c := range proofs[i].Checks {
			if !slices.Contains(asked, c.Name) {
				asked = append(asked, c.Name)
			}
		}
	}
	slices.SortStableFunc(asked, func(a, b string) int { return checks.Order(a) - checks.Order(b) })
	heads, under := columnsOf(asked)
	for n, h := range heads {
		spare := 1 + n // where the terminal is narrow, what is right everywhere need not be seen
		if slices.ContainsFunc(proofs, func(p proving.Proof) bool { return noteworthy(p.Checks, under[h]) }) {
			spare = 0
		}
		l.columns = append(l.columns, column{head: strings.ToUpper(h), spare: spare})
	}
	for i := range proofs {
		row := []cell{plain(proofs[i].Device.Tag), plain(proofs[i].Device.Allotted.Address.String())}
		for _, h := range heads {
			row = append(row, checkCell(proofs[i].Checks, under[h]))
		}
		l.add(row...)
	}
	if left := a.write(a.Out, l); len(left) > 0 {
		fmt.Fprintln(a.Out, a.wrap(a.Out, 2, "All ok, and not shown for want of room: "+strings.Join(left, ", ")))
	}
	fmt.Fprintln(a.Out)
	for i := range proofs {
		for _, c := range proofs[i].Checks {
			if c.Refused {
				fmt.Fprintf(a.Out, "%s %s: the device does not accept %s, and has %s: set it on its web page\n", proofs[i].Device.Tag, a.paint(a.Out, workStyle, c.Name), c.Want, cmp.Or(c.Got, "none"))
			}
			if !c.OK {
				fmt.Fprintf(a.Out, "%s %s: should be %s, is: %s\n", proofs[i].Device.Tag, a.paint(a.Out, badStyle, c.Name), c.Want, c.Got)
			}
		}
	}
	for i := range proofs {
		for _, news := range proofs[i].News {
			fmt.Fprintln(a.Out, a.wrap(a.Out, 2, fmt.Sprintf("Note: %s: %s.", proofs[i].Device.Tag, news)))
		}
	}
	a.printTyped(proofs)
	held := "every check passed"
	if slices.ContainsFunc(proofs, func(p proving.Proof) bool {
		return slices.ContainsFunc(p.Checks, func(c proving.Check) bool { return c.Refused })
	}) {
		held += ", except what devices refuse"
	}
	if n := a.printLeft(proofs); n > 0 {
		held += fmt.Sprintf(" so far; %s untested", plural(n, "password"))
	}
	if n := countInClear(proofs, inClear); n > 0 {
		fmt.Fprintf(a.Out, "Password sent unencrypted (HTTP): %s of %d. `janustat log DEVICE` shows when.\n", plural(n, "device"), len(proofs))
	}
	if len(proofs) < p.Of {
		fmt.Fprintf(a.Out, "%d of %d devices looked at.\n", len(proofs), p.Of)
		return nil
	}
	if failed > 0 {
		fmt.Fprintf(a.Out, "%d of %d devices proved, %d not.\n", len(proofs)-failed, len(proofs), failed)
		a.printMends(proofs)
		return nil
	}
	fmt.Fprintf(a.Out, "%s: %s. Next: `janustat handover`\n", a.paint(a.Out, goodStyle, fmt.Sprintf("%d of %d devices proved", len(proofs), len(proofs))), held)
	return nil
}

// printMends says what to do, each once for all the devices that it is for: as in the list of what is
// open. Of a device with several faults it is the first, and of one that is not set up yet, that.
func (a *App) printMends(proofs []proving.Proof) {
	var advised []string
	of := map[string][]string{} // tags, by what is to be done for any device
	for i := range proofs {
		p := &proofs[i]
		at := slices.IndexFunc(p.Checks, func(c proving.Check) bool { return !c.OK })
		if p.OK() || at < 0 {
			continue
		}
		check := p.Checks[at].Name
		if !p.Device.Commissioned() {
			check = ""
		}
		what := checks.Mend(check, "")
		key := what.Text(command)
		if of[key] == nil {
			advised = append(advised, check)
		}
		of[key] = append(of[key], p.Device.Tag)
	}
	for _, check := range advised {
		tags := of[checks.Mend(check, "").Text(command)]
		fmt.Fprintln(a.Out, a.wrap(a.Out, 2, fmt.Sprintf("%s: %s", text.List(tags), checks.Mend(check, tags[0]).Text(command))))
	}
}

// printTyped says how far what was typed in by hand can be proved.
func (a *App) printTyped(proofs []proving.Proof) {
	for i := range proofs {
		if n := proofs[i].Typed(); n > 0 {
			fmt.Fprintln(a.Out, a.wrap(a.Out, 2, fmt.Sprintf("%s cannot be asked for its channels over the LAN (%d, as in `janustat channels %[1]s`): each camera's own stream was looked at instead.", proofs[i].Device.Tag, n)))
		}
	}
}

func countInClear(proofs []proving.Proof, inClear map[int64]bool) (n int) {
	for i := range proofs {
		if inClear[proofs[i].Device.ID] {
			n++
		}
	}
	return n
}

// printLeft tells where the budget of tries kept passwords from being offered.
func (a *App) printLeft(proofs []proving.Proof) (left int) {
	var tags []string
	for i := range proofs {
		for _, c := range proofs[i].Checks {
			if tag := proofs[i].Device.Tag; c.Left > 0 {
				if !slices.Contains(tags, tag) {
					tags = append(tags, tag)
				}
				left += c.Left
			}
		}
	}
	if left > 0 {
		fmt.Fprintln(a.Out, a.wrap(a.Out, 2, fmt.Sprintf("Untested yet, for the limit of tries per hour: %d old, factory or additional users' passwords, on %s. Run `janustat prove` again in an hour.", left, strings.Join(tags, " "))))
	}
	return left
}

// columnsOf gives the heads of the columns for checks, and the checks under each.
func columnsOf(names []string) (heads []string, under map[string][]string) {
	under = map[string][]string{}
	for _, name := range names {
		c, _ := checks.Of(name)
		head := cmp.Or(c.Head, name)
		if under[head] == nil {
			heads = append(heads, head)
		}
		under[head] = append(under[head], name)
	}
	return heads, under
}

// noteworthy reports whether any of some checks says more than that it holds.
func noteworthy(all []proving.Check, names []string) bool {
	return slices.ContainsFunc(all, func(c proving.Check) bool {
		return slices.Contains(names, c.Name) && (!c.OK || c.Refused || c.Left > 0)
	})
}

// checkCell shows checks in words, so that they read without colour too: the first that
// failed, or else the first.
func checkCell(checks []proving.Check, names []string) cell {
	at := slices.IndexFunc(checks, func(c proving.Check) bool { return slices.Contains(names, c.Name) && !c.OK })
	if at < 0 {
		at = slices.IndexFunc(checks, func(c proving.Check) bool { return slices.Contains(names, c.Name) })
	}
	switch {
	case at < 0:
		return cell{text: "–", style: &faintStyle}
	case checks[at].Refused:
		return cell{text: "refused", style: &workStyle}
	case checks[at].Left > 0:
		return cell{text: fmt.Sprintf("%d untested", checks[at].Left), style: &workStyle}
	case checks[at].OK:
		return cell{text: "ok", style: &goodStyle}
	default:
		return cell{text: "FAIL", style: &badStyle}
	}
}
