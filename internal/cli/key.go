package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/evidence"
	"janustat/core/policy"
	"janustat/core/secret"
	"janustat/core/sheet"
	"janustat/internal/job"
	"janustat/internal/keyring"
	"janustat/internal/work"
)

func (a *App) keyCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "key",
		Short: "Set, generate, show, try, change and pass on passwords",
		Long: `The keyring holds the job's passwords, encrypted to a passphrase. Passwords are
never given on the command line: they are asked for, or read from standard input.
How many a job has is said in the job sheet under password.style: shared (one),
by_kind, or each (one a device, which is the best).`,
		Example: "  janustat key set R01 --wire eth0\n  janustat key show C01",
		Args:    noArgs,
		RunE:    func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	c.AddCommand(a.keySetCommand(), a.keyGenerateCommand(), a.keyShowCommand(), a.keyListCommand(), a.keyAddCommand(),
		a.keyTryCommand(), a.keyAgainCommand(), a.keyChangeCommand(), a.keyShareCommand(), a.keyRecoverCommand(), a.keyPassphraseCommand(), a.keyLockCommand())
	return c
}

func (a *App) keySetCommand() *cobra.Command {
	var user string
	c := &cobra.Command{
		Use:   "set [DEVICE]",
		Short: "Enter a password you already know (does not change the device)",
		Long: `Without DEVICE: you enter the site password, which new devices get when they are
commissioned. With DEVICE: you enter the password that it has now. It is tried once (a wrong
one counts towards lock-out) and saved if it works; then the device's settings are read. To
give a device a new password use "key change".`,
		Example: "  janustat key set\n  janustat key set R01 --wire eth0",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usagef("key set takes one device, and asks for the password that it has now. To give a device a new password: `janustat key change DEVICE`")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			return a.withJob(c.Context(), "key set", func(d *work.Desk) error {
				if len(args) == 0 {
					return a.keySetSite(c.Context(), d.Job, d.Devices)
				}
				return a.keySetDevice(c.Context(), d, args[0], user)
			})
		},
	}
	c.Flags().StringVar(&user, "user", "", "the administrator's `name` on the device; the job sheet's if left out")
	return c
}

func (a *App) keySetSite(ctx context.Context, j *job.Job, devices []device.Device) error {
	keys, err := a.keyring(ctx, j, true)
	if err != nil {
		return err
	}
	plain, err := a.newSecret(ctx, "site password")
	if err != nil {
		return err
	}
	p := secret.New(plain)
	if err := judge(j, devices, p); err != nil {
		return err
	}
	if j.Sheet.Style() == sheet.Each {
		return needsError{"no device would get it: the job sheet's style is each, so every device is given its own. Say `style: shared` or `by_kind` under password to have one for several"}
	}
	old := keys.Site()
	keys.SetSite(p)
	if err := keys.Save(); err != nil {
		return err
	}
	return a.report("the site password is on the keyring; devices commissioned from now on get it" + becomesOf(devices, keys, old))
}

// becomesOf says what becomes of a site password that another has taken the place of.
func becomesOf(devices []device.Device, keys *keyring.Keyring, old secret.Password) string {
	if old.IsZero() {
		return ""
	}
	var have []string
	for _, d := range withKeys(devices) {
		if _, p, ok := keys.For(d.MAC); ok && p == old && !d.OpenedAt.IsZero() {
			have = append(have, d.Label())
		}
	}
	if len(have) == 0 {
		return ". The one before was on no device yet, and is forgotten"
	}
	return fmt.Sprintf(". The one before stays on the keyring for %s, which still have it: `janustat key change all` gives them another", strings.Join(have, " "))
}

// judge holds a given password against the sane rules, the sheet's, and those
// of every taken device.
func judge(j *job.Job, devices []device.Device, p secret.Password) error {
	rules, err := secret.Sane.And(j.Sheet.Rules())
	if err != nil {
		return usageError{err}
	}
	if err := rules.Judge(p, j.Sheet.User()); err != nil {
		return usagef("this password will not do: %w", err)
	}
	for _, f := range j.Sheet.Factory() {
		if strings.EqualFold(f.Password.Reveal(), p.Reveal()) {
			return usagef("this password will not do: it is among the factory passwords of the job sheet, which everybody knows")
		}
	}
	for i := range devices {
		d := &devices[i]
		if d.InJob == device.Taken && d.Rules != nil && d.Access == device.Fresh {
			if err := d.Rules.Judge(p, j.Sheet.User()); err != nil {
				return usagef("%s (%s %s) will not take this password: %w", d.Tag, d.Make, d.Model, err)
			}
		}
	}
	return nil
}

func (a *App) keySetDevice(ctx context.Context, d *work.Desk, ref, user string) error {
	x, err := d.InJob(ref)
	if err != nil {
		return err
	}
	keys, err := a.keyring(ctx, d.Job, true)
	if err != nil {
		return err
	}
	plain, err := a.secretLine(ctx, "password of "+x.Label())
	if err != nil {
		return err
	}
	k := commission.Credential{User: cmp.Or(user, d.Job.Sheet.User()), Password: secret.New(plain)}
	return a.offer(ctx, d, x, k, func(opened bool, _ evidence.Witness) error {
		if !opened {
			return nil
		}
		_, was, had := keys.For(x.MAC)
		keys.Opened(x.MAC, k, time.Now())
		if err := keys.Save(); err != nil {
			return err
		}
		if had && was != k.Password {
			a.say("the password that %s had on the keyring before stays there, among its earlier ones", x.Label())
		}
		return nil
	})
}

func (a *App) keyGenerateCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "generate",
		Short:   "Make a new site password that every taken device accepts",
		Long:    "Makes a strong site password without signs that look alike, by the strictest of the rules met. Devices that have a password keep theirs.",
		Example: "  janustat key generate",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.withJob(c.Context(), "key generate", func(d *work.Desk) error {
				j, devices := d.Job, d.Devices
				keys, err := a.keyring(c.Context(), j, true)
				if err != nil {
					return err
				}
				if j.Sheet.Style() == sheet.Each {
					return needsError{"nothing to make: the job sheet's style is each, so `janustat commission` makes every device its own"}
				}
				old := keys.Site()
				p, err := policy.SitePassword(j.Sheet, devices, rand.Reader)
				if err != nil {
					return err
				}
				keys.SetSite(p)
				if err := keys.Save(); err != nil {
					return err
				}
				return a.report("a new site password is on the keyring; `janustat key show` prints it once a device has it" + becomesOf(devices, keys, old))
			})
		},
	}
}

func (a *App) keyShowCommand() *cobra.Command {
	var user string
	c := &cobra.Command{
		Use:     "show [DEVICE]",
		Short:   "Print the site password, or that of one device",
		Long:    "Prints one password, and nothing else, on standard output. It has no --json form.",
		Example: "  janustat key show\n  janustat key show R01\n  janustat key show R01 --user viewer",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usagef("key show prints one password at a time")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			if a.json {
				return usagef("passwords are never written as JSON")
			}
			return a.withKeys(c.Context(), func(j *job.Job, devices []device.Device, keys *keyring.Keyring) error {
				var p secret.Password
				var err error
				switch {
				case len(args) == 1:
					p, err = keyOf(devices, keys, args[0], user)
				case user != "":
					return usagef("--user %s: on which device?", user)
				default:
					p, err = siteKey(j, devices, keys)
				}
				if err != nil {
					return err
				}
				_, err = fmt.Fprintln(a.Out, p.Reveal())
				return err
			})
		},
	}
	c.Flags().StringVar(&user, "user", "", "that of a further user of the device, by its `name`")
	return c
}

// keyOf gives the password that a device has, or that of a further user on it. One that
// was made for a device and never sent is nobody's password.
func keyOf(devices []device.Device, keys *keyring.Keyring, ref, user string) (secret.Password, error) {
	d, err := device.Find(devices, ref)
	if err != nil {
		return secret.Password{}, err
	}
	_, p, _ := keys.For(d.MAC)
	whose := d.Label()
	if user != "" {
		p, whose = keys.UserFor(d.MAC, user), fmt.Sprintf("the user %s on %s", user, d.Label())
	}
	switch {
	case p.IsZero():
		return p, needsError{whose + " has no password on the keyring"}
	case d.OpenedAt.IsZero():
		return secret.Password{}, needsError{fmt.Sprintf("%s has no password yet: the one that is kept for it is given to it by `janustat commission`", whose)}
	}
	return p, nil
}

// siteKey gives the password that devices share.
func siteKey(j *job.Job, devices []device.Device, keys *keyring.Keyring) (secret.Password, error) {
	p := keys.Site()
	switch {
	case j.Sheet.Style() == sheet.Each:
		return p, needsError{"each device has its own password: `janustat key show C01` prints one, `janustat key list` shows whose there are"}
	case p.IsZero():
		return p, needsError{"there is no site password yet: `janustat commission` makes one, `janustat key set` gives one"}
	}
	for i := range devices {
		if _, own, _ := keys.For(devices[i].MAC); own == p && !devices[i].OpenedAt.IsZero() {
			return p, nil
		}
	}
	return secret.Password{}, needsError{"no device has the site password yet: `janustat commission` gives it to them"}
}

// report ends a command that has one thing to say.
func (a *App) report(text string) error {
	if a.json {
		return a.emit(doneJSON{text})
	}
	_, err := fmt.Fprintln(a.Out, text)
	return err
}
