package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"golang.org/x/term"

	"janustat/core/secret"
	"janustat/internal/guess"
	"janustat/internal/job"
	"janustat/internal/keeper"
	"janustat/internal/keyring"
)

// lineReader reads lines of one stream for all prompts of a command, so that none takes
// what was meant for the next.
type lineReader struct{ in *bufio.Reader }

// maxLine bounds a line that is typed, in bytes.
const maxLine = 64 << 10

// typedLine reads the next line, without its end, until ctx ends. A line that a person did
// not end with Enter is no answer; one at the end of a file is.
func (a *App) typedLine(ctx context.Context) (string, error) {
	var text string
	var err error
	f, tty := terminal(a.In)
	for burst := false; ; {
		in := a.reader().in
		text, err = await(ctx, func() (string, error) { return in.ReadString('\n') })
		if err != nil || !tty || strings.TrimSpace(text) != "" {
			break
		}
		// Enters that follow on one another at once are a hand that leans on the key, and no answer.
		more := in.Buffered() > 0 || ahead(int(f.Fd()))
		if !more && !burst {
			break
		}
		burst = more
	}
	switch {
	case len(text) > maxLine:
		return "", usagef("a line on standard input is longer than %d bytes", maxLine)
	case errors.Is(err, io.EOF) && (tty || text == ""):
		return "", io.EOF
	case err != nil && !errors.Is(err, io.EOF):
		return "", err
	}
	return strings.TrimRight(text, "\r\n"), nil
}

// reader gives the one reader of lines of this stream.
func (a *App) reader() *lineReader {
	if a.lines == nil {
		a.lines = &lineReader{bufio.NewReader(io.LimitReader(a.In, 16*maxLine))}
	}
	return a.lines
}

// fresh makes sure that what is typed from now on is the answer to the next question: what was
// typed before it could be read is nobody's answer.
func (a *App) fresh() {
	f, tty := terminal(a.In)
	if !tty {
		return // what is piped in was meant in this order
	}
	drain(int(f.Fd()))
	in := a.reader().in
	_, _ = in.Discard(in.Buffered())
}

// await runs a read that nothing can interrupt, and does not wait for it once ctx ends.
func await(ctx context.Context, read func() (string, error)) (string, error) {
	type answer struct {
		text string
		err  error
	}
	got := make(chan answer, 1)
	go func() {
		text, err := read()
		got <- answer{text, err}
	}()
	select {
	case a := <-got:
		if ctx.Err() != nil { // typed into a question that was taken back
			return "", errInterrupted
		}
		return a.text, a.err
	case <-ctx.Done():
		return "", errInterrupted
	}
}

// confirm asks yes or no; --yes answers it. Without a terminal to ask on it is
// wrong usage, never a guess.
func (a *App) confirm(ctx context.Context, question string) error {
	if a.yes {
		return ctx.Err()
	}
	if _, ok := terminal(a.In); !ok {
		return usagef("%s There is no terminal to ask on: give --yes to go ahead", question)
	}
	return a.ask(ctx, question)
}

// ask asks yes or no on a terminal, --yes or not.
func (a *App) ask(ctx context.Context, question string) error {
	answer, err := a.answer(ctx, question+" [y/N] ")
	if err != nil {
		return err
	}
	if answer = strings.ToLower(answer); answer != "y" && answer != "yes" {
		return cancelled
	}
	return nil
}

// cancelled is that a person has not said yes.
var cancelled = needsError{"cancelled: nothing was changed"}

// answer asks on a terminal, and gives what is typed from then on; one that is gone cancels.
func (a *App) answer(ctx context.Context, question string) (string, error) {
	a.fresh()
	fmt.Fprint(a.Err, question)
	answer, err := a.typedLine(ctx)
	if errors.Is(err, io.EOF) {
		fmt.Fprintln(a.Err)
		return "", cancelled
	}
	return strings.TrimSpace(answer), err
}

// confirmCount asks for the number of devices that something is to be written to: whoever types
// it has read it. --yes answers it.
func (a *App) confirmCount(ctx context.Context, question string, n int) error {
	if a.yes {
		return ctx.Err()
	}
	if _, ok := terminal(a.In); !ok {
		return usagef("%s There is no terminal to ask on: give --yes to go ahead", question)
	}
	answer, err := a.answer(ctx, fmt.Sprintf("%s Type %d to go ahead: ", question, n))
	if err != nil {
		return err
	}
	if answer != strconv.Itoa(n) {
		return cancelled
	}
	return nil
}

// confirmTag asks for the tag of the device that something is done to which cannot be taken back,
// --yes or not. Without a terminal it is read from standard input.
func (a *App) confirmTag(ctx context.Context, verb, question, tag string) error {
	a.fresh()
	fmt.Fprintf(a.Err, "%s Type its tag to go ahead: ", question)
	line, err := a.typedLine(ctx)
	typed := strings.TrimSpace(line)
	switch {
	case errors.Is(err, errInterrupted):
		return err
	case err != nil && typed == "":
		return usagef("%s wants the tag typed on standard input", verb)
	case typed != tag:
		return needsError{"that is not its tag: nothing was changed"}
	}
	return nil
}

// secretLine reads a line that is not echoed, or the next line of a pipe.
func (a *App) secretLine(ctx context.Context, prompt string) (string, error) {
	f, ok := terminal(a.In)
	if !ok {
		line, err := a.typedLine(ctx)
		if errors.Is(err, io.EOF) || err == nil && line == "" {
			return "", usagef("%s: nothing on standard input", prompt)
		}
		a.veil.Add(secret.New(line))
		return line, err
	}
	fd := int(f.Fd())
	was, err := term.GetState(fd)
	if err != nil {
		return "", err
	}
	a.fresh()
	fmt.Fprintf(a.Err, "%s: ", prompt)
	text, err := await(ctx, func() (string, error) {
		b, err := term.ReadPassword(fd)
		return string(b), err
	})
	fmt.Fprintln(a.Err)
	if errors.Is(err, errInterrupted) {
		restoreEcho(fd, was)
	}
	if errors.Is(err, io.EOF) || err == nil && text == "" {
		return "", nothingTyped{gone: err != nil}
	}
	if text != later {
		a.veil.Add(secret.New(text))
	}
	return text, err
}

// nothingTyped is a bare Enter in the place of a secret, or a terminal that is gone.
type nothingTyped struct{ gone bool }

func (nothingTyped) Error() string { return "nothing was typed: nothing was changed" }

func (e nothingTyped) Unwrap() error { return needsError{e.Error()} }

// restoreEcho gives a terminal its echo back when a reading without echo was interrupted. The
// reading goes on, and may take the echo away only now: that is waited for, or it would be
// gone for good.
func restoreEcho(fd int, was *term.State) {
	const patience, every = 200 * time.Millisecond, time.Millisecond
	for late := time.Now().Add(patience); time.Now().Before(late); time.Sleep(every) {
		if now, err := term.GetState(fd); err != nil || *now != *was {
			break
		}
	}
	_ = term.Restore(fd, was) // a terminal that is gone needs none
}

// newSecret reads a line twice on a terminal, so that a slip is caught.
func (a *App) newSecret(ctx context.Context, prompt string) (string, error) {
	for slips := 0; ; slips++ {
		first, err := a.secretLine(ctx, prompt)
		if _, tty := terminal(a.In); err != nil || !tty {
			return first, err
		}
		again, err := a.secretLine(ctx, "once more")
		switch {
		case err != nil:
			return "", err
		case first == again:
			return first, nil
		case slips > 0:
			return "", usagef("the two differ: nothing was changed")
		}
		a.say("the two differ: type both again")
	}
}

// sound refuses a passphrase that is easily guessed.
func (a *App) sound(phrase string, known ...string) error {
	if why := guess.Why(phrase, known...); why != "" {
		return usagef("this passphrase will not do: %s. Take four or more words that have nothing to do with each other", why)
	}
	return nil
}

// origin is where a passphrase comes from.
type origin int

const (
	given origin = iota // by a file or the environment
	kept                // by the system, from an earlier command
	typed               // just now
)

// passphraseKnown reports whether nobody has to be asked for the passphrase.
func (a *App) passphraseKnown() bool {
	if a.passphraseFile != "" || a.Getenv("JANUSTAT_PASSPHRASE") != "" {
		return true
	}
	_, ok := keeper.Get(a.keptName())
	return ok && a.keepTime() > 0
}

// passphrase gets the keyring's passphrase from the file, the environment, the system's
// keeper or a prompt.
func (a *App) passphrase(ctx context.Context, isNew bool) (string, origin, error) {
	if a.passphraseFile != "" {
		phrase, err := firstLine(a.passphraseFile)
		return phrase, given, err
	}
	if p := a.Getenv("JANUSTAT_PASSPHRASE"); p != "" {
		return p, given, nil
	}
	if a.keepTime() > 0 && !isNew {
		if p, ok := keeper.Get(a.keptName()); ok {
			return p, kept, nil
		}
	}
	if _, tty := terminal(a.In); !tty {
		return "", given, usagef("the keyring needs its passphrase: set JANUSTAT_PASSPHRASE or give --passphrase-file")
	}
	if isNew {
		phrase, err := a.newSecret(ctx, "choose a passphrase for the job's keyring")
		return phrase, typed, err
	}
	phrase, err := a.secretLine(ctx, "passphrase of the job's keyring")
	return phrase, typed, err
}

func firstLine(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", fmt.Errorf("passphrase: %w", err)
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, maxLine))
	if err != nil {
		return "", fmt.Errorf("passphrase: %w", err)
	}
	first, _, _ := strings.Cut(string(b), "\n")
	if first = strings.TrimRight(first, "\r"); first == "" {
		return "", usagef("the first line of %s is empty: it must be the passphrase", path)
	}
	return first, nil
}

// keyring opens the job's keyring, or makes an empty one when there is none
// and create is set. A slip in typing costs one more line.
func (a *App) keyring(ctx context.Context, j *job.Job, create bool) (*keyring.Keyring, error) {
	path := j.Path(job.KeyringFile)
	_, err := os.Stat(path)
	missing := errors.Is(err, os.ErrNotExist)
	if missing && !create {
		return nil, fmt.Errorf("%w: `janustat commission` or `janustat key set` makes one", keyring.ErrNoKeyring)
	}
	for slips := 0; ; slips++ {
		phrase, from, err := a.passphrase(ctx, missing)
		if err != nil {
			return nil, err
		}
		keys, err := a.openKeyring(path, phrase, missing, j.Sheet.Name)
		switch {
		case err == nil:
			if from == typed {
				a.keepPassphrase(phrase)
			}
			keys.SetWork(a.KeyWork)
			keys.Veil(&a.veil)
			if err := keys.SetRecovery(j.Sheet.Password.Recovery); err != nil {
				return nil, usageError{err}
			}
			return keys, nil
		case from == kept: // it was changed since
			if derr := keeper.Drop(a.keptName()); derr != nil {
				return nil, err
			}
		case from == given || slips > 0:
			return nil, err
		default:
			a.say("%s: once more", errorText(err))
		}
	}
}

// unlocking opens the keyring beside other work, where nobody has to be asked for its passphrase;
// else now. What it gives waits for it.
func (a *App) unlocking(ctx context.Context, j *job.Job, create bool) func() (*keyring.Keyring, error) {
	var keys *keyring.Keyring
	var err error
	if _, serr := os.Stat(j.Path(job.KeyringFile)); serr != nil || !a.passphraseKnown() {
		keys, err = a.keyring(ctx, j, create)
		return func() (*keyring.Keyring, error) { return keys, err }
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		keys, err = a.keyring(ctx, j, create)
	}()
	return func() (*keyring.Keyring, error) {
		<-done
		return keys, err
	}
}

func (a *App) openKeyring(path, phrase string, missing bool, site string) (*keyring.Keyring, error) {
	if !missing {
		return keyring.Open(path, phrase)
	}
	if err := a.sound(phrase, site); err != nil {
		return nil, err
	}
	return keyring.New(path, phrase), nil
}

// keepPassphrase has the system keep a passphrase that was typed for a while, where it does
// such a thing.
func (a *App) keepPassphrase(phrase string) {
	d := a.keepTime()
	if d <= 0 {
		return
	}
	if err := keeper.Keep(a.keptName(), phrase, d); err == nil {
		a.say("the passphrase is kept in the system's memory for %s (`janustat key lock` forgets it)", roundText(d))
	}
}
