package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/term"

	"janustat/internal/job"
)

// confirm asks yes or no; --yes answers it. Without a terminal to ask on it is
// wrong usage, never a guess.
func (a *App) confirm(question string) error {
	if a.yes {
		return nil
	}
	if _, ok := terminal(a.In); !ok {
		return usagef("%s There is no terminal to ask on: give --yes to go ahead", question)
	}
	fmt.Fprintf(a.Err, "%s [y/N] ", question)
	line, err := bufio.NewReader(a.In).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	if answer := strings.ToLower(strings.TrimSpace(line)); answer != "y" && answer != "yes" {
		return needsError{"nothing was done"}
	}
	return nil
}

// secretLine reads a line that is not echoed, or the first line of a pipe.
func (a *App) secretLine(prompt string) (string, error) {
	f, ok := terminal(a.In)
	if !ok {
		line, err := bufio.NewReader(a.In).ReadString('\n')
		if line = strings.TrimRight(line, "\r\n"); line == "" {
			if err == nil || errors.Is(err, io.EOF) {
				err = usagef("%s: nothing on standard input", prompt)
			}
			return "", err
		}
		return line, nil
	}
	fmt.Fprintf(a.Err, "%s: ", prompt)
	b, err := term.ReadPassword(int(f.Fd()))
	fmt.Fprintln(a.Err)
	return string(b), err
}

// newSecret reads a line twice on a terminal, so that a slip is caught.
func (a *App) newSecret(prompt string) (string, error) {
	first, err := a.secretLine(prompt)
	if _, tty := terminal(a.In); err != nil || !tty {
		return first, err
	}
	again, err := a.secretLine("once more")
	if err != nil {
		return "", err
	}
	if first != again {
		return "", usagef("the two differ: nothing was changed")
	}
	return first, nil
}

// passphrase gets the keyring's passphrase from the file, the environment or a prompt.
func (a *App) passphrase(isNew bool) (string, error) {
	if a.passphraseFile != "" {
		b, err := os.ReadFile(a.passphraseFile)
		if err != nil {
			return "", fmt.Errorf("passphrase: %w", err)
		}
		first, _, _ := strings.Cut(string(b), "\n")
		if first = strings.TrimRight(first, "\r"); first == "" {
			return "", usagef("%s holds no passphrase on its first line", a.passphraseFile)
		}
		return first, nil
	}
	if p := a.Getenv("JANUSTAT_PASSPHRASE"); p != "" {
		return p, nil
	}
	if _, tty := terminal(a.In); !tty {
		return "", usagef("the keyring needs its passphrase: set JANUSTAT_PASSPHRASE or give --passphrase-file")
	}
	if isNew {
		return a.newSecret("choose a passphrase for the job's keyring")
	}
	return a.secretLine("passphrase of the job's keyring")
}

// keyring opens the job's keyring, or makes an empty one when there is none
// and create is set.
func (a *App) keyring(j *job.Job, create bool) (*job.Keyring, error) {
	path := j.Path(job.KeyringFile)
	_, err := os.Stat(path)
	missing := errors.Is(err, os.ErrNotExist)
	if missing && !create {
		return nil, fmt.Errorf("%w: `janustat commission` or `janustat key set` makes one", job.ErrNoKeyring)
	}
	phrase, err := a.passphrase(missing)
	if err != nil {
		return nil, err
	}
	var keys *job.Keyring
	if missing {
		keys = job.NewKeyring(path, phrase)
	} else if keys, err = job.OpenKeyring(path, phrase); err != nil {
		return nil, err
	}
	keys.SetWork(a.KeyWork)
	return keys, nil
}
