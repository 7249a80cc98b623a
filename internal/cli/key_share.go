package cli

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"maps"
	"slices"
	"strings"

	"filippo.io/age"
	"filippo.io/age/armor"
	"github.com/spf13/cobra"

	"janustat/core/device"
	"janustat/core/secret"
	"janustat/core/text"
	"janustat/internal/disk"
	"janustat/internal/job"
	"janustat/internal/keeper"
	"janustat/internal/keyring"
	"janustat/internal/work"
)

func (a *App) keyLockCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "lock",
		Short: "Ask for the passphrase again next time",
		Long: `Has the system forget the passphrase of the job's keyring, which it keeps in its memory
for an hour after it was typed (JANUSTAT_KEEP says for how long: 30m, or 0 for not at
all). It is asked for again then.`,
		Example: "  janustat key lock",
		Args:    noArgs,
		RunE: func(*cobra.Command, []string) error {
			if err := keeper.Drop(a.keptName()); err != nil {
				return err
			}
			return a.report("the passphrase is forgotten")
		},
	}
}

func (a *App) keyPassphraseCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "passphrase",
		Short: "Change the keyring's passphrase",
		Long: `Encrypts the keyring to another passphrase, which is asked for twice, or read from
standard input. The old one no longer opens it; copies made before still open by it.`,
		Example: "  janustat key passphrase",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.withJob(c.Context(), "key passphrase", func(d *work.Desk) error {
				keys, err := a.keyring(c.Context(), d.Job, false)
				if err != nil {
					return err
				}
				phrase, err := a.newSecret(c.Context(), "new passphrase of the job's keyring")
				if err != nil {
					return err
				}
				if err := a.sound(phrase, d.Job.Sheet.Name); err != nil {
					return err
				}
				keys.SetPassphrase(phrase)
				if err := keys.Save(); err != nil {
					return err
				}
				_ = keeper.Drop(a.keptName()) // the old one; what stays is told by not fitting
				return a.report("the keyring has the new passphrase")
			})
		},
	}
}

func (a *App) keyShareCommand() *cobra.Command {
	var to []string
	var out string
	c := &cobra.Command{
		Use:   "share",
		Short: "Write the passwords for the client, encrypted",
		Long: `Writes the passwords of the job's devices as a table (CSV), encrypted with age: to
the client's own public key (--to age1…, several if need be), or to a passphrase that
is asked for. The client opens it with any program that reads age files. Nothing is
written unencrypted.`,
		Example: "  janustat key share --to age1… --out quillmere-keys.age\n  janustat key share --out quillmere-keys.age",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.withKeys(c.Context(), func(j *job.Job, devices []device.Device, keys *keyring.Keyring) error {
				return a.share(c.Context(), j, devices, keys, to, out)
			})
		},
	}
	c.Flags().StringSliceVar(&to, "to", nil, "the client's public `KEY`, age1…; a passphrase is asked for if left out")
	c.Flags().StringVar(&out, "out", "", "the `FILE` to write; handover/keys.age in the job if left out")
	return c
}

func (a *App) share(ctx context.Context, j *job.Job, devices []device.Device, keys *keyring.Keyring, to []string, out string) error {
	if out == "" {
		if err := disk.OwnDir(j.Path(job.HandoverDir)); err != nil {
			return err
		}
		out = j.Path(job.HandoverDir, "keys.age")
	}
	sealed, n, err := a.seal(ctx, j, devices, keys, to)
	if err != nil {
		return err
	}
	if err := disk.WriteFile(out, sealed, 0o600); err != nil {
		return err
	}
	return a.report(fmt.Sprintf("the keys of %s are in %s, encrypted", plural(n, "device"), out))
}

// seal gives the passwords of the job's devices, encrypted, and counts the devices.
func (a *App) seal(ctx context.Context, j *job.Job, devices []device.Device, keys *keyring.Keyring, to []string) ([]byte, int, error) {
	recipients, err := a.recipients(ctx, j, to)
	if err != nil {
		return nil, 0, err
	}
	table, n, err := keyTable(devices, keys)
	if err != nil {
		return nil, 0, err
	}
	if n == 0 {
		return nil, 0, needsError{"no device of the job has a key on the keyring"}
	}
	var sealed bytes.Buffer
	armored := armor.NewWriter(&sealed)
	w, err := age.Encrypt(armored, recipients...)
	if err != nil {
		return nil, 0, fmt.Errorf("share: %w", err)
	}
	if _, err := w.Write(table); err != nil {
		return nil, 0, fmt.Errorf("share: %w", err)
	}
	if err := w.Close(); err != nil {
		return nil, 0, fmt.Errorf("share: %w", err)
	}
	if err := armored.Close(); err != nil {
		return nil, 0, fmt.Errorf("share: %w", err)
	}
	return sealed.Bytes(), n, nil
}

func (a *App) recipients(ctx context.Context, j *job.Job, to []string) ([]age.Recipient, error) {
	var out []age.Recipient
	for _, text := range to {
		r, err := age.ParseX25519Recipient(strings.TrimSpace(text))
		if err != nil {
			return nil, usagef("--to %s: this is no age public key (they begin with age1)", text)
		}
		out = append(out, r)
	}
	if len(out) > 0 {
		return out, nil
	}
	phrase, err := a.newSecret(ctx, "passphrase for the client")
	if err != nil {
		return nil, err
	}
	if err := a.sound(phrase, j.Sheet.Name); err != nil {
		return nil, err
	}
	r, err := age.NewScryptRecipient(phrase)
	if err != nil {
		return nil, usageError{err}
	}
	return []age.Recipient{r}, nil
}

// keyTable is what the client reads: one row a device and user (RFC 4180). What a
// spreadsheet would run has an apostrophe before it; where that is before a password,
// the note says so.
func keyTable(devices []device.Device, keys *keyring.Keyring) ([]byte, int, error) {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.UseCRLF = true
	rows, n := [][]string{{"tag", "name", "make", "model", "serial", "mac", "address", "user", "password", "note"}}, 0
	add := func(d *device.Device, user string, password secret.Password) {
		row := []string{d.Tag, d.Name, d.Make, d.Model, d.Serial, d.MAC.String(), addressText(d.Address()), user, password.Reveal(), ""}
		for i := range row {
			cell, marked := text.Inert(row[i])
			row[i] = cell
			if marked && i == len(row)-2 {
				row[len(row)-1] = "the apostrophe at the beginning of the password is not part of it"
			}
		}
		rows = append(rows, row)
	}
	for _, d := range withKeys(devices) {
		user, password, ok := keys.For(d.MAC)
		if !ok {
			continue
		}
		n++
		add(&d, user, password)
		for _, name := range keys.UserNames(d.MAC) {
			add(&d, name, keys.UserFor(d.MAC, name))
		}
		pairs := keys.PairsOf(d.MAC)
		for _, station := range slices.SortedFunc(maps.Keys(pairs), func(a, b device.MAC) int { return slices.Compare(a[:], b[:]) }) {
			add(&d, pairWith+station.String(), pairs[station])
			rows[len(rows)-1][len(rows[0])-1] = strings.TrimSpace("used between the two stations, and by nobody else. " + rows[len(rows)-1][len(rows[0])-1])
		}
	}
	if err := w.WriteAll(rows); err != nil {
		return nil, 0, err
	}
	return b.Bytes(), n, nil
}

// pairWith is, before a MAC, what stands for the user of a pair of stations.
const pairWith = "pair with "

// withKeys gives the devices whose keys are the job's to keep: those in it, and those
// that were left out after they had been set up.
func withKeys(devices []device.Device) []device.Device {
	out := slices.DeleteFunc(slices.Clone(devices), func(d device.Device) bool {
		return d.InJob != device.Taken && (d.InJob != device.Left || !d.Commissioned())
	})
	device.Sort(out)
	return out
}
