package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/sethvargo/go-diceware/diceware"

	"janustat/core/device"
	"janustat/core/secret"
	"janustat/core/text"
	"janustat/internal/job"
	"janustat/internal/keyring"
	"janustat/internal/work"
)

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
	} else if !errors.Is(err, keyring.ErrNoKeyring) {
		return err
	}
	if a.yes {
		return nil // the command that needs one says so
	}
	phrase, err := g.newPassphrase(ctx, j.Sheet.Name)
	if err != nil {
		return err
	}
	keys := keyring.New(j.Path(job.KeyringFile), phrase)
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
