package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// ask asks a person; q, or no answer, stops the walk. With --yes nobody is asked.
func (g *guide) ask(ctx context.Context, question string) (string, error) {
	a := g.app
	if a.yes {
		return "", ctx.Err()
	}
	a.fresh()
	fmt.Fprintf(a.Err, "\n%s ", a.paint(a.Err, workStyle, "? ")+a.wrap(a.Err, 2, question))
	answer, err := a.typedLine(ctx)
	if errors.Is(err, io.EOF) {
		return "", errLater
	}
	if answer = strings.TrimSpace(answer); answer == "q" {
		return "", errLater
	}
	return answer, err
}

// later is what is typed in the place of a secret that is not there now. No password is that
// short: nothing that a device takes is lost by it.
const later = "-"

// askSecret asks for what is not echoed, until something is typed: a bare Enter is no answer.
// Where nobody is asked the answer is empty.
func (g *guide) askSecret(ctx context.Context, question string) (string, error) {
	a := g.app
	if a.yes {
		return "", ctx.Err()
	}
	for {
		fmt.Fprintf(a.Err, "\n%s", a.paint(a.Err, workStyle, "? "))
		answer, err := a.secretLine(ctx, question)
		var nothing nothingTyped
		switch {
		case !errors.As(err, &nothing):
			return answer, err
		case nothing.gone:
			return "", errLater
		}
	}
}

// again says that a command could not be carried out, and asks whether to try once more.
func (g *guide) again(ctx context.Context, code int, command string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if g.app.yes {
		return quietly{fmt.Errorf("janustat %s ended with code %d", command, code)}
	}
	_, err := g.ask(ctx, "Enter: try again · q: stop here")
	return err
}

// must runs one of the program's commands that has to succeed.
func (g *guide) must(ctx context.Context, stdin string, args ...string) error {
	if code := g.run(ctx, stdin, args...); code != ExitDone {
		if err := ctx.Err(); err != nil {
			return err
		}
		return needsError{"that step failed, see above. To continue from here: `janustat go`"}
	}
	return nil
}

// run carries out one of the program's own commands, shown as it would be typed.
func (g *guide) run(ctx context.Context, stdin string, args ...string) int {
	a := g.app
	fmt.Fprintf(a.Out, "\n%s\n", a.paint(a.Out, headStyle, strings.TrimSpace("$ janustat "+shellWords(args))))
	inner := App{In: a.In, Out: a.Out, Err: a.Err, Journal: a.Journal, Pace: a.Pace, KeyWork: a.KeyWork, lines: a.reader(), Getenv: func(key string) string {
		if key == "JANUSTAT_PASSPHRASE" && g.phrase != "" {
			return g.phrase
		}
		return a.Getenv(key)
	}}
	if stdin != "" {
		inner.In, inner.lines = strings.NewReader(stdin), nil
	}
	if len(args) == 0 || args[0] != "begin" {
		args = append(slices.Clone(args), "--job", a.jobDir)
	}
	for flag, value := range map[string]string{"--wire": a.wireSpec, "--passphrase-file": a.passphraseFile, "--capture": a.capture, "--log-level": a.logLevel} {
		if value != "" {
			args = append(args, flag, value)
		}
	}
	if a.quiet {
		args = append(args, "--quiet")
	}
	return inner.Run(ctx, args)
}

// shellWords writes arguments as they would be typed.
func shellWords(args []string) string {
	out := make([]string, len(args))
	for i, w := range args {
		if out[i] = w; strings.ContainsAny(w, " '\"$\\*?") || w == "" {
			out[i] = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
	}
	return strings.Join(out, " ")
}
