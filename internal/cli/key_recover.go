package cli

import (
	"github.com/spf13/cobra"

	"janustat/internal/job"
	"janustat/internal/keyring"
	"janustat/internal/work"
)

func (a *App) keyRecoverCommand() *cobra.Command {
	var identity string
	var check bool
	c := &cobra.Command{
		Use:   "recover --identity FILE",
		Short: "Open the keyring by a recovery key, and give it another passphrase",
		Long: `For whoever has forgotten the passphrase of the keyring, or took the job over without it.
With public keys in the job sheet, under password.recovery, every change of the keyring is
written to keyring-recovery.age too, which the private keys of those open. The keyring is
written again from that, under a passphrase that is asked for twice. --check makes sure that
the key opens it, and changes nothing: do that once while the passphrase is still known.`,
		Example: "  janustat key recover --identity firm.key --check\n  janustat key recover --identity firm.key",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if identity == "" {
				return usagef("name the file of the private key: --identity FILE")
			}
			return a.withJob(c.Context(), "key recover", func(d *work.Desk) error {
				who, err := a.identities(c.Context(), identity)
				if err != nil {
					return err
				}
				keys, err := keyring.Recover(d.Job.Path(job.KeyringFile), who)
				if err != nil {
					return needsError{err.Error()}
				}
				n := 0
				for i := range d.Devices {
					if _, _, ok := keys.For(d.Devices[i].MAC); ok {
						n++
					}
				}
				if check {
					return a.report("this key opens the keyring: passwords of " + plural(n, "device"))
				}
				phrase, err := a.newSecret(c.Context(), "new passphrase of the job's keyring")
				if err != nil {
					return err
				}
				if err := a.sound(phrase, d.Job.Sheet.Name); err != nil {
					return err
				}
				keys.SetPassphrase(phrase)
				keys.SetWork(a.KeyWork)
				if err := keys.SetRecovery(d.Job.Sheet.Password.Recovery); err != nil {
					return usageError{err}
				}
				if err := keys.Save(); err != nil {
					return err
				}
				a.keepPassphrase(phrase)
				return a.report("the keyring opens by the new passphrase: passwords of " + plural(n, "device"))
			})
		},
	}
	c.Flags().StringVar(&identity, "identity", "", "the `FILE` of the private key, as age-keygen writes it")
	c.Flags().BoolVar(&check, "check", false, "make sure that the key opens the keyring, and change nothing")
	return c
}
