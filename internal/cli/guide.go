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
	"sync"

	"github.com/spf13/cobra"

	"janustat/core/advice"
	"janustat/core/device"
	"janustat/core/lan"
	"janustat/internal/wire"
	"janustat/internal/work"
)

func (a *App) goCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "go",
		Short: "Be guided through the whole job, step by step",
		Long: `Goes through the job in the order of the work, by the single commands, each of which it
shows: wire, survey, take, key set, allot, commission, prove, handover. It asks for what
only a person knows: whether all is there, the recorder's password, names. Nothing is
written to any device before you have seen the allotment and typed the number of devices;
a device that somebody set up before is part of it only if you say so.

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
	wired, counted, named, joined bool
	asked                         map[device.MAC]bool
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
		return a.report("Stopped here. To continue: `janustat go`.")
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
	if at.New > 0 && at.Taken > 0 && !g.counted { // it came since
		return g.take(ctx, at, devices)
	}
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
	if a.lastJob != "" && !a.yes {
		answer, err := g.ask(ctx, fmt.Sprintf("No job in this folder. Continue the last one, in %s? (Enter: yes · n: start a new one here · q: stop here)", a.lastJob))
		if err != nil {
			return err
		}
		if answer == "" {
			a.jobDir = a.lastJob
			return nil
		}
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

var notInFolders = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`[^\pL\pN]+`) })

// folderOf makes the name of a folder out of a site's.
func folderOf(name string) string {
	if s := strings.Trim(notInFolders().ReplaceAllString(strings.ToLower(name), "-"), "-"); s != "" {
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
			answer, err := g.ask(ctx, "Which network adapter is connected to the site? (number)")
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

// take has the count confirmed, and then puts everything into the job that is as its factory
// left it.
func (g *guide) take(ctx context.Context, at work.Standing, devices []device.Device) error {
	if !g.counted {
		answer, err := g.ask(ctx, fmt.Sprintf("%s. Is that every device you installed? (Enter: yes, add them to the job · number: wait until that many are found · s: search again · q: stop here)", countByKind(forWork(devices))))
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
	if at.Configurable == 0 && len(work.SetApart(devices)) == 0 {
		return needsError{"no device found that Janustat can set up. `janustat list --all` shows everything that answered; `janustat wire` finds network faults"}
	}
	if at.New > 0 {
		if err := g.must(ctx, "", "take", "all", "--yes"); err != nil {
			return err
		}
	}
	if err := g.opened(ctx); err != nil {
		return err
	}
	if again, _, err := g.stand(ctx); err != nil || again.Taken > 0 {
		return err
	}
	return needsError{"nothing was taken. `janustat list --all` shows everything that answered; `janustat wire` finds faults of the network"}
}

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
	if err := g.join(ctx); err != nil {
		return err
	}
	if again, _, err := g.stand(ctx); err != nil || again.Next.Act != advice.Commission {
		return err // what was opened just now has no address yet
	}
	if yes, err := g.counts(ctx, at.Taken-at.Commissioned, "as allotted above (a: show it again · q: stop here)", "a", "allot"); !yes || err != nil {
		return err
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
		case g.app.yes:
			return g.prove(ctx)
		}
		again, _, err := g.stand(ctx)
		if err != nil {
			return err
		}
		open := max(again.Taken-again.Commissioned, 1)
		answer, err := g.ask(ctx, fmt.Sprintf("Not every device is done: do what is said above, then type %d to go on with %s · p: go on to prove · q: stop here", open, plural(open, "device")))
		switch {
		case err != nil:
			return err
		case answer == "p":
			return g.prove(ctx)
		case answer != strconv.Itoa(open):
			return nil // asked again
		}
	}
}

// counts has the number of devices typed that something is to be written to; a key shows by a
// command what would be done.
func (g *guide) counts(ctx context.Context, n int, what, key, shows string) (bool, error) {
	if g.app.yes {
		return true, ctx.Err()
	}
	for {
		answer, err := g.ask(ctx, fmt.Sprintf("Type %d to set up %s %s", n, plural(n, "device"), what))
		switch {
		case err != nil:
			return false, err
		case answer == strconv.Itoa(n):
			return true, nil
		case answer == key:
			if err := g.must(ctx, "", shows); err != nil {
				return false, err
			}
		}
	}
}
