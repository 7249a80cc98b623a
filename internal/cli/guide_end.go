package cli

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"path/filepath"
	"strconv"

	"janustat/core/device"
	"janustat/internal/job"
	"janustat/internal/sheetfile"
	"janustat/internal/work"
)

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
		if err := sheetfile.AddSections(path, p.Sections); err != nil {
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
