package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/sethvargo/go-diceware/diceware"
	"github.com/spf13/cobra"

	"janustat/core/advice"
	"janustat/core/device"
	"janustat/core/lan"
	"janustat/core/secret"
	"janustat/core/text"
	"janustat/internal/job"
	"janustat/internal/wire"
	"janustat/internal/work"
)

func (a *App) goCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "go",
		Short: "Be guided through the whole job: Enter does the next thing",
		Long: `Goes through the job in the order of the work, by the single commands, each of which it
shows: wire, survey, take, key set, allot, commission, prove, handover. It asks for what
only a person knows: whether all is there, the recorder's password, names; Enter is always
the next sensible thing. Nothing is sent to any device before you have seen the allotment.

Stopped at any moment, it goes on from there the next time. With --yes it asks nothing and
goes as far as it can.`,
		Example: "  janustat go\n  janustat go --wire eth0\n  janustat go --yes --passphrase-file secret.txt",
		Args:    noArgs,
		RunE:    func(c *cobra.Command, _ []string) error { return a.guide(c.Context()) },
	}
}

// guide is one walk through a job.
type guide struct {
	app    *App
	phrase string // of the keyring, once it is known
	// What was asked in this walk, and is not asked again.
	wired, counted, named bool
	asked                 map[device.MAC]bool
}

// errLater is that the person stops here.
var errLater = errors.New("later")

func (a *App) guide(ctx context.Context) error {
	if a.json {
		return usagef("go talks with a person: scripts use the single commands, each with --json")
	}
	if _, tty := terminal(a.In); !tty && !a.yes {
		return usagef("go asks, and there is no terminal to ask on: give --yes, or use the single commands (`janustat --help`)")
	}
	g := &guide{app: a, asked: map[device.MAC]bool{}}
	err := g.walk(ctx)
	switch {
	case errors.Is(err, errEnd):
		return nil
	case errors.Is(err, errLater):
		return a.report("Stopped here. `janustat go` goes on from it.")
	case errors.Is(err, errInterrupted) || ctx.Err() != nil:
		return fmt.Errorf("%w: `janustat go` goes on from here", errInterrupted)
	}
	return err
}

func (g *guide) walk(ctx context.Context) error {
	if err := g.begin(ctx); err != nil {
		return err
	}
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		at, devices, err := g.stand(ctx)
		if err != nil {
			return err
		}
		if err := g.step(ctx, at, devices); err != nil {
			return err
		}
	}
}

// stand reads where the job stands.
func (g *guide) stand(ctx context.Context) (work.Standing, []device.Device, error) {
	j, devices, err := g.app.open(ctx)
	if err != nil {
		return work.Standing{}, nil, err
	}
	defer j.Close()
	last, err := j.Register.LastSurvey(ctx)
	return work.Stand(devices, !last.At.IsZero()), devices, err
}

// step does the next thing; errEnd is that nothing is left.
func (g *guide) step(ctx context.Context, at work.Standing, devices []device.Device) error {
	switch at.Next.Act {
	case advice.Survey:
		return g.survey(ctx)
	case advice.TakeAll:
		return g.take(ctx, at, devices)
	case advice.Allot:
		return g.must(ctx, "", "allot")
	case advice.Commission:
		return g.commission(ctx, at)
	case advice.Prove:
		return g.prove(ctx)
	case advice.Restore:
		return g.restore(ctx, at.Reset[0])
	}
	return g.handOver(ctx)
}

// restore brings a device back that was reset. Who answers is given a password, so the
// command asks for itself.
func (g *guide) restore(ctx context.Context, tag string) error {
	if err := g.wire(ctx); err != nil {
		return err
	}
	if err := g.keyring(ctx); err != nil {
		return err
	}
	if g.app.yes {
		return g.must(ctx, "", "restore", tag, "--yes")
	}
	return g.must(ctx, "", "restore", tag)
}

// begin makes a job where there is none.
func (g *guide) begin(ctx context.Context) error {
	a := g.app
	if isJob(a.jobDir) {
		return nil
	}
	name, err := g.ask(ctx, "No job here yet. What is the site called?")
	if err != nil {
		return err
	}
	if name = strings.TrimSpace(name); name == "" {
		return errLater
	}
	dir := filepath.Join(a.jobDir, folderOf(name))
	if err := g.must(ctx, "", "begin", dir, "--name", name); err != nil {
		return err
	}
	a.jobDir = dir
	return nil
}

var notInFolders = regexp.MustCompile(`[^\pL\pN]+`)

// folderOf makes the name of a folder out of a site's.
func folderOf(name string) string {
	if s := strings.Trim(notInFolders.ReplaceAllString(strings.ToLower(name), "-"), "-"); s != "" {
		return s
	}
	return "site"
}

// wire looks at what the laptop is plugged into, and has an adapter chosen.
func (g *guide) wire(ctx context.Context) error {
	if g.wired {
		return nil
	}
	g.wired = true
	a := g.app
	if a.wireSpec == "" {
		adapters, err := wire.Adapters()
		if err != nil {
			return err
		}
		up := slices.DeleteFunc(adapters, func(x lan.Adapter) bool { return !x.Up || !x.Link })
		for len(up) > 1 && a.wireSpec == "" {
			for i, x := range up {
				fmt.Fprintf(a.Err, "  %d  %s\n", i+1, x.Name)
			}
			answer, err := g.ask(ctx, "Which adapter is plugged into the site? (a number)")
			if err != nil {
				return err
			}
			if n, err := strconv.Atoi(answer); err == nil && n >= 1 && n <= len(up) {
				a.wireSpec = up[n-1].Name
			}
		}
	}
	for {
		code := g.run(ctx, "", "wire")
		if code == ExitDone || code == ExitNeeds {
			return ctx.Err()
		}
		if err := g.again(ctx, code, "wire"); err != nil {
			return err
		}
	}
}

// survey looks until the person says that all is there.
func (g *guide) survey(ctx context.Context) error {
	if err := g.wire(ctx); err != nil {
		return err
	}
	if code := g.run(ctx, "", "survey"); code != ExitDone && code != ExitNeeds {
		return g.again(ctx, code, "survey")
	}
	return ctx.Err()
}

// take has the count confirmed, and then puts everything that can be set up into the job.
func (g *guide) take(ctx context.Context, at work.Standing, devices []device.Device) error {
	if !g.counted {
		answer, err := g.ask(ctx, fmt.Sprintf("%s. Is that all that was hung? (Enter: yes, take them · a number: wait for so many · s: look again · q: stop here)", countByKind(forWork(devices))))
		if err != nil {
			return err
		}
		switch n, nerr := strconv.Atoi(answer); {
		case answer == "s":
			return g.survey(ctx)
		case nerr == nil && n > 0:
			g.run(ctx, "", "survey", "--expect", answer)
			return ctx.Err()
		case answer != "":
			return nil // asked again
		}
		g.counted = true
	}
	if at.Configurable == 0 {
		return needsError{"nothing there can be set up: `janustat list --all` shows what answered"}
	}
	if err := g.must(ctx, "", "take", "all", "--yes"); err != nil {
		return err
	}
	return g.opened(ctx)
}

// opened asks for the passwords of what is protected: the client's people know them.
func (g *guide) opened(ctx context.Context) error {
	_, devices, err := g.stand(ctx)
	if err != nil {
		return err
	}
	for i := range devices {
		d := &devices[i]
		if d.Access != device.Sealed || d.InJob != device.Undecided || d.NotOurs || g.asked[d.MAC] {
			continue
		}
		g.asked[d.MAC] = true
		if err := g.open(ctx, d); err != nil {
			return err
		}
	}
	return nil
}

// forWork are the devices that are nobody else's.
func forWork(devices []device.Device) []device.Device {
	return slices.DeleteFunc(slices.Clone(devices), func(d device.Device) bool {
		return d.NotOurs || d.Kind == device.Other && d.InJob != device.Taken
	})
}

// open asks for one device's password; two tries are all that it is offered in an hour.
func (g *guide) open(ctx context.Context, d *device.Device) error {
	what := text.Words(string(d.Kind), d.Make, d.Model, "at", addressText(d.Address()))
	ref := refText(d)
	for tries := range 2 {
		password, err := g.askSecret(ctx, fmt.Sprintf("The %s is protected. Its password (Enter: leave it alone)", what))
		if err != nil || password == "" {
			return err
		}
		if tries == 0 {
			if err := g.must(ctx, "", "take", ref, "--yes"); err != nil {
				return err
			}
			if err := g.keyring(ctx); err != nil {
				return err
			}
		}
		if g.run(ctx, password+"\n", "key", "set", ref) == ExitDone {
			return nil
		}
	}
	fmt.Fprintf(g.app.Err, "It stays in the job and closed: `janustat key set %s` another time, or `janustat leave %[1]s`.\n", ref)
	return nil
}

// keyring makes sure that the passphrase is known, and has one chosen for a new keyring.
func (g *guide) keyring(ctx context.Context) error {
	a := g.app
	if g.phrase != "" || a.passphraseKnown() {
		return nil
	}
	j, _, err := a.open(ctx)
	if err != nil {
		return err
	}
	defer j.Close()
	if keys, err := a.keyring(ctx, j, false); err == nil {
		g.phrase = keys.Passphrase()
		return nil
	} else if !errors.Is(err, job.ErrNoKeyring) {
		return err
	}
	for {
		phrase, err := g.askSecret(ctx, "A passphrase for the job's keyring, which holds all passwords (Enter: one is made)")
		if err != nil {
			return err
		}
		if phrase == "" {
			words, err := diceware.Generate(madeWords)
			if err != nil {
				return err
			}
			phrase = strings.Join(words, " ")
			a.veil.Add(secret.New(phrase))
			fmt.Fprintf(a.Err, "\n    %s\n\nWrite it down: without it no password of this job can be read.\n", a.paint(a.Err, headStyle, phrase))
		} else if err := a.sound(phrase, j.Sheet.Name); err != nil {
			fmt.Fprintln(a.Err, errorText(err))
			continue
		}
		g.phrase = phrase
		a.keepPassphrase(phrase)
		return nil
	}
}

// madeWords is how many words of the list a passphrase that is made has: 64 bits.
const madeWords = 5

// commission has names given, shows the allotment once more where it was not just made, and
// asks before anything is sent.
func (g *guide) commission(ctx context.Context, at work.Standing) error {
	if err := g.wire(ctx); err != nil {
		return err
	}
	if err := g.opened(ctx); err != nil {
		return err
	}
	if err := g.names(ctx); err != nil {
		return err
	}
	if again, _, err := g.stand(ctx); err != nil || again.Next.Act != advice.Commission {
		return err // what was opened just now has no address yet
	}
	answer, err := g.ask(ctx, fmt.Sprintf("Enter commissions %s as allotted above (a: show it again · q: stop here)", plural(at.Taken-at.Commissioned, "device")))
	if err != nil {
		return err
	}
	switch answer {
	case "a":
		return g.must(ctx, "", "allot")
	case "":
	default:
		return nil
	}
	if err := g.keyring(ctx); err != nil {
		return err
	}
	for {
		code := g.run(ctx, "", "commission", "--yes")
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case code == ExitDone:
			return nil
		case code != ExitNeeds:
			return g.again(ctx, code, "commission")
		}
		answer, err := g.ask(ctx, "Enter: once more, after you have done what it says · p: go on to prove · q: stop here")
		switch {
		case err != nil:
			return err
		case answer == "p" || g.app.yes:
			return g.prove(ctx)
		}
	}
}

// names has devices named, where any of the job has no name yet.
func (g *guide) names(ctx context.Context) error {
	for !g.named {
		j, devices, err := g.app.open(ctx)
		if err != nil {
			return err
		}
		among := j.Sheet.Among(devices)
		j.Close()
		without, all := 0, device.OfJob(devices)
		for i := range all {
			if among.NameFor(&all[i]) == "" {
				without++
			}
		}
		if without == 0 {
			break
		}
		answer, err := g.ask(ctx, fmt.Sprintf("%d of %s without a name in the job sheet (Enter: later · l: name them at the ladder · FILE: the planner's list · q: stop here)", without, plural(len(all), "device")))
		if err != nil {
			return err
		}
		switch answer {
		case "":
			g.named = true
		case "l":
			g.run(ctx, "", "ladder")
		default:
			g.run(ctx, "", "schedule", answer, "--yes")
		}
	}
	g.named = true
	return nil
}

func (g *guide) prove(ctx context.Context) error {
	if err := g.wire(ctx); err != nil {
		return err
	}
	if err := g.keyring(ctx); err != nil {
		return err
	}
	code := g.run(ctx, "", "prove")
	at, _, err := g.stand(ctx)
	switch {
	case err != nil:
		return err
	case code == ExitDone || code == ExitNeeds && at.Proved == at.Taken:
		return g.handOver(ctx)
	case code != ExitNeeds || ctx.Err() != nil:
		return g.again(ctx, code, "prove")
	}
	answer, err := g.ask(ctx, "Not everything held. (Enter: commission and prove once more · h: write the record as it is · q: stop here)")
	switch {
	case err != nil:
		return err
	case answer == "h" || g.app.yes:
		return g.handOver(ctx)
	}
	g.run(ctx, "", "commission", "--yes")
	return ctx.Err()
}

// handOver writes the record, and ends the walk.
func (g *guide) handOver(ctx context.Context) error {
	if err := g.must(ctx, "", "handover"); err != nil {
		return err
	}
	a := g.app
	fmt.Fprintf(a.Out, "\n%s\n", a.paint(a.Out, goodStyle, "That is the job. The record: "+filepath.Join(a.jobDir, job.HandoverDir, "handover.pdf")))
	return errEnd
}

// errEnd is that the walk is through.
var errEnd = errors.New("through")
