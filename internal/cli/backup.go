package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"janustat/core/device"
	"janustat/core/text"
	"janustat/internal/disk"
	"janustat/internal/job"
	"janustat/internal/keyring"
	"janustat/internal/reach"
	"janustat/internal/work"
)

func (a *App) backupCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "backup [SELECTOR …]",
		Short: "Keep each device's own backup of its settings, encrypted",
		Long: `Fetches the backup that each device makes of its own settings, and keeps it in the job's
folder, in backups/, by device and moment. Such a file can have passwords in it: it is
encrypted to a key on the keyring, and to the recovery keys of the job sheet. Its SHA-256
is in the record. Devices that give none are listed. Writes to no device.`,
		Example: "  janustat backup --wire eth0\n  janustat backup R01 R02\n  janustat backup open backups/C01-02e442001001/20261130T172500Z.tar.age --out c01.tar",
		RunE: func(c *cobra.Command, args []string) error {
			return a.withJob(c.Context(), "backup", func(d *work.Desk) error {
				only, err := d.Select(args)
				if err != nil {
					return err
				}
				unlocked := a.unlocking(c.Context(), d.Job, false)
				return a.withNet(c.Context(), d, shortPatience, func(ctx context.Context, n *reach.Net) error {
					keys, err := unlocked()
					if err != nil {
						return err
					}
					all, err := d.Backup(ctx, n, keys, only)
					if err != nil {
						return err
					}
					return a.printBackups(all)
				})
			})
		},
	}
	c.AddCommand(a.backupOpenCommand())
	return c
}

func (a *App) printBackups(all []work.BackedUp) error {
	rows := []backupJSON{}
	var none, failed []string
	kept := 0
	for _, b := range all {
		row := backupJSON{Tag: b.Device.Tag, Name: b.Device.Name, MAC: b.Device.MAC, Why: b.Why}
		switch {
		case b.Kept != nil:
			kept++
			row.File, row.SHA256, row.Bytes = b.Kept.File, b.Kept.SHA256, b.Kept.Bytes
		case b.None:
			none = append(none, b.Device.Tag)
		default:
			failed = append(failed, b.Device.Tag)
		}
		rows = append(rows, row)
	}
	if a.json {
		if err := a.emit(rows); err != nil {
			return err
		}
	} else {
		for _, r := range rows {
			switch {
			case r.File != "":
				fmt.Fprintf(a.Out, "%s %s: %s (%d kB)\n", r.Tag, r.Name, r.File, (r.Bytes+1023)/1024)
			case r.Why != "" && !slices.Contains(none, r.Tag):
				fmt.Fprintf(a.Out, "%s %s: %s\n", r.Tag, r.Name, a.paint(a.Out, badStyle, r.Why))
			}
		}
		fmt.Fprintf(a.Out, "%s of %s\n", plural(kept, "backup"), plural(len(rows), "device"))
		if len(none) > 0 {
			fmt.Fprintf(a.Out, "%s no backup to give\n", text.Have(none))
		}
		if len(failed) > 0 {
			fmt.Fprintf(a.Out, "Next: janustat backup %s\n", strings.Join(failed, " "))
		}
	}
	if len(failed) > 0 {
		return needsError{}
	}
	return nil
}

func (a *App) backupOpenCommand() *cobra.Command {
	var out string
	c := &cobra.Command{
		Use:   "open FILE --out FILE",
		Short: "Decrypt a backup that was kept",
		Long: `Writes what is in a backup as a tar file: the device's own files, and backup.json, which says
whose they are. Passwords can be in there: keep it no longer than you need it.`,
		Example: "  janustat backup open backups/C01-02e442001001/20261130T172500Z.tar.age --out c01.tar",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usagef("backup open takes one file")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			if out == "" {
				return usagef("name the file to write: --out FILE")
			}
			if _, err := os.Lstat(out); err == nil {
				return usagef("%s is there already: take another name", out)
			}
			return a.withKeys(c.Context(), func(_ *job.Job, _ []device.Device, keys *keyring.Keyring) error {
				data, err := work.OpenBackup(args[0], keys)
				if err != nil {
					return err
				}
				if err := disk.WriteFile(out, data, 0o600); err != nil {
					return err
				}
				return a.report("decrypted: " + out)
			})
		},
	}
	c.Flags().StringVar(&out, "out", "", "the tar `FILE` to write")
	return c
}
