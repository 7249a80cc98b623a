package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"janustat/internal/handover"
	"janustat/internal/intake"
	"janustat/internal/job"
	"janustat/internal/work"
)

func (a *App) handoverCommand() *cobra.Command {
	var paper, labels, since, sign, into string
	var to []string
	c := &cobra.Command{
		Use:   "handover [SELECTOR …]",
		Short: "Write the record the client keeps",
		Long: `Writes the pack into handover/: handover.pdf and handover.html to read, register.xlsx,
register.csv and register.json to work with, labels.pdf for stickers with a QR code of
each device's page, reservations.csv and .txt for the site's DHCP server, hosts, a list
of targets for monitoring, and manifest.json with the hash of each. None of them holds a
password, but for passwords.age, which is encrypted and made on request. The same state of a job gives the same bytes.

With selectors, the pack is of those devices of the job alone, and goes into
handover-part/ beside the whole one, or into the folder that --into names.`,
		Example: "  janustat handover\n  janustat handover --paper letter --labels 30\n  janustat handover kind=camera --into cameras",
		RunE: func(c *cobra.Command, args []string) error {
			j, devices, err := a.open(c.Context())
			if err != nil {
				return err
			}
			defer j.Close()
			o, err := packOptions(paper, labels)
			if err != nil {
				return err
			}
			if o.Stills, err = work.Stills(j); err != nil {
				return err
			}
			only, err := (&work.Desk{Job: j, Devices: devices}).Select(args)
			if err != nil {
				return err
			}
			dir := j.Path(job.HandoverDir)
			switch {
			case into != "":
				dir = into
			case only != nil:
				dir = j.Path(job.HandoverDir + "-part")
			}
			r, err := work.RecordOf(c.Context(), j, devices, only)
			if err != nil {
				return err
			}
			if len(r.Devices) == 0 {
				return usagef("no device is taken, so there is nothing to hand over")
			}
			if since != "" {
				from, perr := time.Parse(time.DateOnly, since) // UTC, wherever the laptop is
				if perr != nil {
					return usagef("--since %q: write it as 2026-11-01", since)
				}
				if o.Changes, err = work.ChangesSince(c.Context(), j, devices, only, from); err != nil {
					return err
				}
			}
			var signer ssh.Signer
			if sign != "" {
				if signer, err = a.signingKey(c.Context(), sign); err != nil {
					return err
				}
			}
			if len(to) > 0 {
				keys, err := a.keyring(c.Context(), j, false)
				if err != nil {
					return err
				}
				if o.Passwords, _, err = a.seal(c.Context(), j, work.ChosenOf(devices, only), keys, to); err != nil {
					return err
				}
			} else if o.Passwords, err = a.standing(j, filepath.Join(dir, handover.PasswordsFile)); err != nil {
				return err
			}
			if o.Root, err = work.RootPEM(j); err != nil {
				return err
			}
			files, err := work.WritePack(dir, r, o, signer)
			if err != nil {
				return err
			}
			if a.json {
				return a.emit(handoverJSON{files, len(r.Devices), orEmpty(r.Open)})
			}
			for _, f := range files {
				fmt.Fprintf(a.Out, "wrote %s\n", f)
			}
			fmt.Fprintf(a.Out, "%s on record\n", plural(len(r.Devices), "device"))
			if since != "" {
				fmt.Fprintf(a.Out, "%s since %s\n", plural(len(o.Changes), "change"), since)
			}
			fmt.Fprintln(a.Out, a.wrap(a.Out, 0, r.Verdict.Words))
			for _, line := range grouped(r.Items) {
				fmt.Fprintln(a.Out, a.wrap(a.Out, 2, "open: "+line))
			}
			return nil
		},
	}
	c.Flags().StringVar(&into, "into", "", "write the pack into this `FOLDER`")
	c.Flags().StringVar(&paper, "paper", "a4", "what it is printed on: a4 or letter")
	c.Flags().StringVar(&since, "since", "", "with changes.csv, of what was done since this `DATE` in UTC (2026-11-01)")
	c.Flags().StringVar(&sign, "sign", "", "sign the manifest with your own SSH key, in this `FILE`")
	c.Flags().StringSliceVar(&to, "passwords-to", nil, "with passwords.age, encrypted to this public `KEY`, age1…")
	c.Flags().StringVar(&labels, "labels", "24", "stickers on a sheet: 24, 21 or 40 on A4, 30 on Letter")
	return c
}

// grouped tells what is open, one line for all devices of which the same is so.
func grouped(items []handover.OpenItem) (out []string) {
	var order []string
	of := map[string][]string{}
	for _, i := range items {
		if of[i.Text] == nil {
			order = append(order, i.Text)
		}
		of[i.Text] = append(of[i.Text], i.Device)
	}
	for _, t := range order {
		who := of[t]
		line := strings.Join(who[:min(len(who), manyOpen)], " ")
		if n := len(who) - manyOpen; n > 0 {
			line += fmt.Sprintf(" and %d more", n)
		}
		out = append(out, strings.TrimSpace(line+"  "+t))
	}
	return out
}

// maxSealed is how long a file of passwords may be: hundreds of bytes for each of thousands.
const maxSealed = 16 << 20

// standing gives the file of passwords that an earlier pack was made with. One that is older
// than the keyring is taken out of the pack: what it has may open nothing any more.
func (a *App) standing(j *job.Job, file string) ([]byte, error) {
	made, err := os.Stat(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	keys, kerr := os.Stat(j.Path(job.KeyringFile))
	if kerr != nil || !keys.ModTime().After(made.ModTime()) {
		return intake.Read(file, maxSealed)
	}
	a.say("note: %s was older than the keyring and was removed from the pack: --passwords-to writes it again", file)
	return nil, os.Remove(file)
}

// signingKey reads a person's own SSH key; its passphrase is asked for where it has one.
func (a *App) signingKey(ctx context.Context, file string) (ssh.Signer, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, usageError{err}
	}
	key, err := ssh.ParsePrivateKey(data)
	var missing *ssh.PassphraseMissingError
	if errors.As(err, &missing) {
		phrase, perr := a.secretLine(ctx, "passphrase of "+file)
		if perr != nil {
			return nil, perr
		}
		key, err = ssh.ParsePrivateKeyWithPassphrase(data, []byte(phrase))
	}
	if err != nil {
		return nil, usagef("--sign %s: %w", file, err)
	}
	return key, nil
}
