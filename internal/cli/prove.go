package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/secret"
	"janustat/internal/field"
	"janustat/internal/job"
	"janustat/internal/reach"
)

func (a *App) proveCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "prove",
		Short: "Read everything back and compare it with the register",
		Long: `Visits every commissioned device and checks that it answers at its address, alone,
with its password and not without one nor with an old or a factory one, that it has
the users it is to have, each with its password, and no others, that it is the same
device with the same firmware and certificate, and that its address, mask, gateway,
DNS, NTP, name and clock are right. Old, factory and further users' passwords are
offered within the budget of tries, a few at each proving, and old and factory ones
that were refused are not offered again. Of a device set up by hand, or one that takes
nothing but a lease, only the first two can be seen. A device that is not what it was
is offered nothing. Nothing is written to any device. Exit code 1 on any difference.`,
		Example: "  janustat prove --wire eth0\n  janustat prove --json",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.withJob(c.Context(), "prove", func(j *job.Job, devices []device.Device) error {
				if _, err := ready(devices); err != nil {
					return err
				}
				keys, err := a.keyring(c.Context(), j, false)
				if errors.Is(err, job.ErrNoKeyring) {
					// Then no device has a key: each is told to have none.
					keys, err = job.NewKeyring("", ""), nil
				}
				if err != nil {
					return err
				}
				return a.withNet(c.Context(), shortPatience, func(ctx context.Context, n *reach.Net) error {
					return a.prove(ctx, j, devices, keys, n)
				})
			})
		},
	}
}

func (a *App) prove(ctx context.Context, j *job.Job, devices []device.Device, keys *job.Keyring, n *reach.Net) error {
	subnets, avoid, err := a.lay(ctx, j, devices, n)
	if err != nil {
		return err
	}
	// Proving plans nothing new: what planning makes up for devices and users without
	// a key is neither offered nor kept.
	draft, err := keys.Draft()
	if err != nil {
		return err
	}
	planner, err := a.plannerWith(ctx, j, devices, draft)
	if err != nil {
		return err
	}
	planner.AdmitNewcomers = true // nothing is given to them
	plans := planner.Plans(devices)
	for i := range plans {
		if _, _, ok := keys.For(plans[i].MAC); !ok {
			plans[i].Password = secret.Password{}
		}
	}
	attempts, done, err := a.attempts(ctx, j, n)
	if err != nil {
		return err
	}
	defer done()
	prover := field.Prover{Site: a.site(n, subnets, avoid), Attempts: attempts}
	prover.Old = func(mac device.MAC) []commission.Credential {
		_, own, _ := keys.For(mac)
		old := slices.Concat(keys.Past(mac), j.Sheet.Factory())
		old = slices.DeleteFunc(old, func(k commission.Credential) bool { return k.Password == own })
		return keys.NotRefused(mac, old)
	}
	a.say("proving %s …", plural(len(plans), "device"))
	proofs := a.proveAll(ctx, prover, devices, plans)
	if context.Cause(ctx) != nil && errors.Is(context.Cause(ctx), context.Canceled) {
		return fmt.Errorf("%w: nothing is recorded as proved", errInterrupted)
	} else if err := context.Cause(ctx); err != nil {
		return err
	}
	now := time.Now()
	failed := 0
	noted := false
	records := map[int64]job.ProofRecord{}
	for i := range proofs {
		checks, err := json.Marshal(proofs[i].Checks)
		if err != nil {
			return err
		}
		records[proofs[i].Device.ID] = job.ProofRecord{At: now, OK: proofs[i].OK(), Checks: checks}
		d := deviceByID(devices, proofs[i].Device.ID)
		if !proofs[i].OK() {
			failed++
		}
		noted = keys.NoteRefused(d.MAC, proofs[i].Refused) || noted
		d.Apply(proofs[i].Events(now)...)
	}
	field.Judge(j.Sheet, devices, field.SiteSubnet(ctx, j, devices))
	if err := j.Register.Save(ctx, devices); err != nil {
		return err
	}
	if err := j.Register.AddProofs(ctx, records); err != nil {
		return err
	}
	// Marks of what was refused are kept, so that it is not offered again.
	if noted {
		if err := keys.Save(); err != nil {
			return err
		}
	}
	if err := a.printProofs(proofs, failed, planner.Progress); err != nil {
		return err
	}
	if failed > 0 {
		return needsError{}
	}
	return nil
}

// proveAll proves side by side, a few at a time, and keeps the order.
func (a *App) proveAll(ctx context.Context, p field.Prover, devices []device.Device, plans []commission.Plan) []field.Proof {
	proofs := make([]field.Proof, len(plans))
	done := make(chan struct{})
	for i, plan := range plans {
		d := *deviceByID(devices, plan.ID)
		go func() {
			proofs[i] = p.Prove(ctx, d, plan)
			done <- struct{}{}
		}()
	}
	for range plans {
		<-done
	}
	return proofs
}

func deviceByID(devices []device.Device, id int64) *device.Device {
	return &devices[slices.IndexFunc(devices, func(d device.Device) bool { return d.ID == id })]
}

type proofJSON struct {
	Tag     string        `json:"tag"`
	MAC     device.MAC    `json:"mac"`
	Address string        `json:"address"`
	OK      bool          `json:"ok"`
	InClear bool          `json:"password_in_clear"` // was set without encryption
	Checks  []field.Check `json:"checks"`
}

func (a *App) printProofs(proofs []field.Proof, failed int, progress map[int64]job.Progress) error {
	if a.json {
		out := make([]proofJSON, len(proofs))
		for i := range proofs {
			d := &proofs[i].Device
			out[i] = proofJSON{d.Tag, d.MAC, d.Allotted.Address.String(), proofs[i].OK(), progress[d.ID].InClear, proofs[i].Checks}
		}
		return a.emit(struct {
			Devices []proofJSON `json:"devices"`
			Failed  int         `json:"failed"`
		}{out, failed})
	}
	l := &listing{columns: []column{{"TAG", 0}, {"AT", 0}}}
	// What no device was asked has no column.
	asked := slices.DeleteFunc(slices.Clone(field.Checks), func(name string) bool {
		return !slices.ContainsFunc(proofs, func(p field.Proof) bool {
			return slices.ContainsFunc(p.Checks, func(c field.Check) bool { return c.Name == name })
		})
	})
	for _, name := range asked {
		l.columns = append(l.columns, column{head: strings.ToUpper(cmp.Or(checkHeads[name], name))})
	}
	for i := range proofs {
		row := []cell{plain(proofs[i].Device.Tag), plain(proofs[i].Device.Allotted.Address.String())}
		for _, name := range asked {
			row = append(row, checkCell(proofs[i].Checks, name))
		}
		l.add(row...)
	}
	a.write(a.Out, l)
	fmt.Fprintln(a.Out)
	for i := range proofs {
		for _, c := range proofs[i].Checks {
			if !c.OK {
				fmt.Fprintf(a.Out, "%s %s: should be %s, is: %s\n", proofs[i].Device.Tag, a.paint(a.Out, badStyle, c.Name), c.Want, c.Got)
			}
		}
	}
	held := "every check held"
	if a.printLeft(proofs) {
		held += " so far"
	}
	if n := countInClear(proofs, progress); n > 0 {
		fmt.Fprintf(a.Out, "Password set without encryption: %s of %d (`janustat log DEVICE` tells when).\n", plural(n, "device"), len(proofs))
	}
	if failed > 0 {
		fmt.Fprintf(a.Out, "%d of %d devices proved, %d not. Mend with `janustat commission`, then prove again.\n", len(proofs)-failed, len(proofs), failed)
		return nil
	}
	fmt.Fprintf(a.Out, "%s: %s. Next: janustat handover\n", a.paint(a.Out, goodStyle, fmt.Sprintf("%d of %d devices proved", len(proofs), len(proofs))), held)
	return nil
}

func countInClear(proofs []field.Proof, progress map[int64]job.Progress) (n int) {
	for i := range proofs {
		if progress[proofs[i].Device.ID].InClear {
			n++
		}
	}
	return n
}

// printLeft tells where the budget of tries kept passwords from being offered.
func (a *App) printLeft(proofs []field.Proof) (some bool) {
	var tags []string
	left := 0
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
		fmt.Fprintln(a.Out, a.wrap(a.Out, 2, fmt.Sprintf("Old, factory and further users' passwords not offered yet, for the budget of tries: %d, on %s. `janustat prove` goes on with them in an hour.", left, strings.Join(tags, " "))))
	}
	return left > 0
}

// checkHeads shorten the names of some checks, so that all fit on a screen.
var checkHeads = map[string]string{field.CheckPassword: "key", field.CheckOldKeys: "old", field.CheckFirmware: "fw", field.CheckIdentity: "same", field.CheckCert: "cert", field.CheckAnswers: "up"}

// checkCell shows a check in words, so that it reads without colour too.
func checkCell(checks []field.Check, name string) cell {
	at := slices.IndexFunc(checks, func(c field.Check) bool { return c.Name == name })
	switch {
	case at < 0:
		return cell{text: "–", style: &faintStyle}
	case checks[at].Left > 0:
		return cell{text: fmt.Sprintf("%d left", checks[at].Left), style: &workStyle}
	case checks[at].OK:
		return cell{text: "ok", style: &goodStyle}
	default:
		return cell{text: "NO", style: &badStyle}
	}
}
