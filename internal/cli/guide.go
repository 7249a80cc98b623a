package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
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

// opened asks whose the devices are that somebody has set up before, and for the passwords of
// those that are protected: the client's people know them.
func (g *guide) opened(ctx context.Context) error {
	if g.app.yes {
		return nil
	}
	_, devices, err := g.stand(ctx)
	if err != nil {
		return err
	}
	var others []device.Device
	for _, d := range work.Closed(devices) {
		switch {
		case g.asked[d.MAC]:
		case d.InJob == device.Taken || d.Kind == device.Recorder || d.Kind == device.Panel: // the others are matched to it
			if err := g.whose(ctx, &d); err != nil {
				return err
			}
		default:
			others = append(others, d)
		}
	}
	return g.which(ctx, others)
}

// setUpText names a device that somebody has set up, and by what that shows.
func setUpText(d *device.Device) string {
	what := text.Words(string(d.Kind), d.Make, d.Model, "at", addressText(d.Address()))
	return what + " (" + cmp.Or(d.SetUpBy, "protected") + ")"
}

// whose asks about one recorder or panel that somebody has set up. No Enter leaves it out.
func (g *guide) whose(ctx context.Context, d *device.Device) error {
	if d.Access == device.Sealed {
		g.asked[d.MAC] = true
		return g.open(ctx, d)
	}
	for {
		answer, err := g.ask(ctx, fmt.Sprintf("The %s was set up by somebody before. Is it the site's? (y: take it, it keeps its address · n: leave it alone · -: not decided now · q: stop here)", setUpText(d)))
		if err != nil {
			return err
		}
		switch answer {
		case "y":
			g.asked[d.MAC] = true
			return g.must(ctx, "", "take", refText(d), "--yes")
		case "n":
			g.asked[d.MAC] = true
			return g.must(ctx, "", "leave", refText(d), "--yes")
		case later:
			g.asked[d.MAC] = true
			return nil
		}
	}
}

// which asks which of the other devices that somebody has set up are the site's.
func (g *guide) which(ctx context.Context, others []device.Device) error {
	if len(others) == 0 {
		return nil
	}
	for i := range others {
		g.asked[others[i].MAC] = true
	}
	for {
		fmt.Fprintln(g.app.Err)
		for i := range others {
			fmt.Fprintln(g.app.Err, text.Words(strconv.Itoa(i+1)+".", setUpText(&others[i])+",", others[i].MAC.String()))
		}
		answer, err := g.ask(ctx, fmt.Sprintf("Somebody set up %s before. Which are the site's? (numbers · Enter: none, leave all of them out · -: not decided now · q: stop here)", plural(len(others), "device")))
		if err != nil || answer == later {
			return err
		}
		if answer == "" {
			refs := []string{"leave"}
			for i := range others {
				refs = append(refs, refText(&others[i]))
			}
			return g.must(ctx, "", append(refs, "--yes")...)
		}
		chosen, ok := numbers(answer, len(others))
		if !ok {
			continue
		}
		for _, n := range chosen {
			d := &others[n-1]
			if d.Access == device.Sealed {
				err = g.open(ctx, d)
			} else {
				err = g.must(ctx, "", "take", refText(d), "--yes")
			}
			if err != nil {
				return err
			}
		}
		return nil
	}
}

// numbers reads numbers from 1 to most, parted by spaces or commas.
func numbers(answer string, most int) (out []int, ok bool) {
	for _, w := range strings.FieldsFunc(answer, func(r rune) bool { return r == ' ' || r == ',' }) {
		n, err := strconv.Atoi(w)
		if err != nil || n < 1 || n > most {
			return nil, false
		}
		out = append(out, n)
	}
	return out, len(out) > 0
}

// forWork are the devices that are nobody else's.
func forWork(devices []device.Device) []device.Device {
	return slices.DeleteFunc(slices.Clone(devices), func(d device.Device) bool {
		return d.NotOurs || d.Kind == device.Other && d.InJob != device.Taken
	})
}

// open asks for one device's password; two tries are all that it is sent in an hour.
func (g *guide) open(ctx context.Context, d *device.Device) error {
	ref := refText(d)
	for tries := range 2 {
		password, err := g.askSecret(ctx, fmt.Sprintf("Password of the %s (%s: not now)", setUpText(d), later))
		if err != nil || password == later || password == "" {
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
	fmt.Fprintf(g.app.Err, "%s stays in the job, and its password is still missing. Later: `janustat key set %[1]s`. Not part of this job: `janustat leave %[1]s`\n", ref)
	return nil
}

// keyring makes sure that the passphrase is known, and has one chosen for a new keyring, which
// exists from then on.
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
	if a.yes {
		return nil // the command that needs one says so
	}
	phrase, err := g.newPassphrase(ctx, j.Sheet.Name)
	if err != nil {
		return err
	}
	keys := job.NewKeyring(j.Path(job.KeyringFile), phrase)
	keys.SetWork(a.KeyWork)
	if err := keys.Save(); err != nil {
		return err
	}
	g.phrase = phrase
	a.keepPassphrase(phrase)
	return nil
}

// newPassphrase shows a passphrase, and takes it, or one of the person's own, once its last word
// has been typed back: so that it was written down.
func (g *guide) newPassphrase(ctx context.Context, site string) (string, error) {
	a := g.app
	words, err := madeWords()
	if err != nil {
		return "", err
	}
	phrase := strings.Join(words, " ")
	a.veil.Add(secret.New(phrase))
	fmt.Fprintf(a.Err, "\nThe job's keyring will hold all passwords. It opens with this passphrase:\n\n    %s\n\nWrite this passphrase down now. Without it nobody can read the passwords of this job.\n", a.paint(a.Err, headStyle, phrase))
	for {
		typed, err := g.askSecret(ctx, "Type its last word, or a passphrase of your own")
		switch {
		case err != nil:
			return "", err
		case strings.EqualFold(strings.TrimSpace(typed), words[len(words)-1]) || typed == phrase:
			return phrase, nil
		case !strings.Contains(strings.TrimSpace(typed), " "):
			fmt.Fprintf(a.Err, "That is not the last word of: %s\n", phrase)
			continue
		}
		if err := a.sound(typed, site); err != nil {
			fmt.Fprintln(a.Err, errorText(err))
			continue
		}
		again, err := g.askSecret(ctx, "Your own passphrase once more")
		if err != nil {
			return "", err
		}
		if again == typed {
			return typed, nil
		}
		fmt.Fprintln(a.Err, "The two differ.")
	}
}

// madeWords makes a passphrase of five words of the long list, of which the last, which is typed
// back, is a short one: 61 bits.
func madeWords() ([]string, error) {
	const many, short = 5, 4
	for {
		words, err := diceware.Generate(many)
		if err != nil || len(words[many-1]) <= short {
			return words, err
		}
	}
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
		answer, err := g.ask(ctx, fmt.Sprintf("%d of %s have no name yet (Enter: name them later · l: name them on the ladder screen · or type the file name of the planner's list · q: stop here)", without, plural(len(all), "device")))
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

// join proposes which devices work together, shows that, and asks once.
func (g *guide) join(ctx context.Context) error {
	if g.joined || g.app.yes {
		return nil
	}
	g.joined = true
	for {
		j, devices, err := g.app.open(ctx)
		if err != nil {
			return err
		}
		p, path := work.Propose(j.Sheet, devices), j.Path(job.SheetFile)
		j.Close()
		if len(p.Lines) == 0 {
			return nil
		}
		fmt.Fprintln(g.app.Err, "\nWhat works with what, as far as can be guessed:")
		for _, line := range p.Lines {
			fmt.Fprintln(g.app.Err, g.app.wrap(g.app.Err, 4, "  "+line))
		}
		question := "Write that into the job sheet? (Enter: yes · n: no, I write it there myself · q: stop here)"
		if p.Panels > 0 {
			question = "Write that into the job sheet? (Enter: yes · ADDRESS:PORT: yes, and the panels report to that server · n: no, I write it there myself · q: stop here)"
		}
		answer, err := g.ask(ctx, question)
		if err != nil || answer == "n" {
			return err
		}
		if answer != "" {
			at, perr := netip.ParseAddrPort(answer)
			if perr != nil || p.Panels == 0 {
				continue
			}
			p.Sections["reporting"] = fmt.Sprintf("{server: %s, port: %d}", at.Addr(), at.Port())
		}
		if err := job.AddSections(path, p.Sections); err != nil {
			fmt.Fprintln(g.app.Err, errorText(err))
			continue
		}
		return nil
	}
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
	if g.app.yes {
		return g.handOver(ctx)
	}
	for {
		answer, err := g.ask(ctx, fmt.Sprintf("Not every check passed. (%d: set up %s again, then prove · h: write the handover pack with these open points · q: stop here)", at.Taken, plural(at.Taken, "device")))
		switch {
		case err != nil:
			return err
		case answer == "h":
			return g.handOver(ctx)
		case answer == strconv.Itoa(at.Taken):
			g.run(ctx, "", "commission", "--yes")
			return ctx.Err()
		}
	}
}

// handOver writes the record, and ends the walk.
func (g *guide) handOver(ctx context.Context) error {
	if err := g.must(ctx, "", "handover"); err != nil {
		return err
	}
	a := g.app
	j, devices, err := a.open(ctx)
	if err != nil {
		return err
	}
	defer j.Close()
	items, err := work.Open(ctx, j, devices, nil)
	if err != nil {
		return err
	}
	record := filepath.Join(a.jobDir, job.HandoverDir, "handover.pdf")
	if len(work.Pressing(items)) == 0 {
		fmt.Fprintf(a.Out, "\n%s\n", a.paint(a.Out, goodStyle, "Nothing is open. Done. The handover record: "+record))
		return errEnd
	}
	fmt.Fprintf(a.Out, "\n%s\n", a.paint(a.Out, workStyle, "The record is written, and not everything is done: "+record))
	for _, text := range a.openLines(work.Pressing(items)) {
		fmt.Fprintln(a.Out, a.wrap(a.Out, 4, "  "+text))
	}
	return errEnd
}

// errEnd is that the walk is through.
var errEnd = errors.New("through")
