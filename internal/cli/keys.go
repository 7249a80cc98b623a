package cli

import (
	"context"
	"errors"
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
	"janustat/core/text"
	"janustat/internal/job"
	"janustat/internal/keyring"
	"janustat/internal/reach"
	"janustat/internal/work"
)

func (a *App) keyListCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List which devices have a key, without the keys",
		Long:    "Lists the devices of the job and where the key of each comes from. No password is shown.",
		Example: "  janustat key list",
		Args:    noArgs,
		RunE:    func(c *cobra.Command, _ []string) error { return a.withKeys(c.Context(), a.listKeys) },
	}
}

// withKeys runs f on the job and its keyring, for looking only.
func (a *App) withKeys(ctx context.Context, f func(*job.Job, []device.Device, *keyring.Keyring) error) error {
	j, devices, err := a.open(ctx)
	if err != nil {
		return err
	}
	defer j.Close()
	keys, err := a.keyring(ctx, j, false)
	if err != nil {
		return err
	}
	return f(j, devices, keys)
}

// keyJSON is one device in `key list --json`.
type keyJSON struct {
	Tag    string        `json:"tag"`
	MAC    device.MAC    `json:"mac"`
	User   string        `json:"user,omitempty"`
	Key    string        `json:"key"` // own, earlier, changed, changing, kept for it (and not given yet), or none
	Past   int           `json:"past"`
	Users  []string      `json:"users,omitempty"` // further ones
	Access device.Access `json:"access"`
}

func (a *App) listKeys(j *job.Job, devices []device.Device, keys *keyring.Keyring) error {
	var rows []keyJSON
	for _, d := range withKeys(devices) {
		if policy.MannerOf(&d) != commission.ByService {
			continue
		}
		user, _, ok := keys.For(d.MAC)
		row := keyJSON{Tag: d.Tag, MAC: d.MAC, User: user, Key: "none", Past: len(keys.Past(d.MAC)), Users: keys.UserNames(d.MAC), Access: d.Access}
		if ok {
			row.Key = map[commission.Origin]string{commission.FromKeyring: "own", commission.FromEarlier: "earlier", commission.FromChange: "changed"}[keys.Origin(d.MAC)]
		}
		if _, changing := keys.Next(d.MAC); changing && (ok || !d.OpenedAt.IsZero()) {
			row.Key = "changing"
		}
		if ok && d.OpenedAt.IsZero() && row.Key == "own" {
			row.Key = "kept for it"
		}
		rows = append(rows, row)
	}
	if a.json {
		return a.emit(orEmpty(rows))
	}
	l := &listing{columns: []column{{head: "TAG"}, {head: "MAC", spare: 1}, {head: "USER"}, {head: "KEY"}, {head: "EARLIER ONES", spare: 2}, {head: "FURTHER USERS", spare: 3}, {head: "ACCESS"}}}
	for _, r := range rows {
		style := &goodStyle
		if r.Key == "none" || r.Key == "changing" || r.Key == "kept for it" {
			style = &badStyle
		}
		l.add(plain(r.Tag), plain(r.MAC.String()), plain(r.User), styled(r.Key, style), plain(fmt.Sprint(r.Past)), plain(strings.Join(r.Users, " ")), accessCell(r.Access))
	}
	a.write(a.Out, l)
	fmt.Fprintf(a.Out, "\nstyle %s; keys of earlier work to try on sealed devices: %d\n", j.Sheet.Style(), keys.Earliers())
	return nil
}

func (a *App) keyAddCommand() *cobra.Command {
	var user string
	c := &cobra.Command{
		Use:   "add",
		Short: "Add a password of earlier work, to try on sealed devices",
		Long: `Puts a password of earlier work on the keyring. It is tried on devices of the job that have
an unknown password, when they are commissioned or by "key try", within the limit of tries
per hour. The keyring remembers which password opened which device; one that a device
refused is not tried on it again.`,
		Example: "  janustat key add\n  janustat key add --user operator < old-password.txt",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.withJob(c.Context(), "key add", func(d *work.Desk) error {
				keys, err := a.keyring(c.Context(), d.Job, true)
				if err != nil {
					return err
				}
				text, err := a.secretLine(c.Context(), "password of earlier work")
				if err != nil {
					return err
				}
				if user == "" {
					user = d.Job.Sheet.User()
				}
				if !keys.AddEarlier(user, secret.New(text)) {
					return a.report("it was on the keyring already")
				}
				if err := keys.Save(); err != nil {
					return err
				}
				return a.report(fmt.Sprintf("added; %s of earlier work on the keyring", plural(keys.Earliers(), "key")))
			})
		},
	}
	c.Flags().StringVar(&user, "user", "", "the administrator's `name`; the job sheet's if left out")
	return c
}

func (a *App) keyTryCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "try DEVICE",
		Short:   "Try the next older password on a device (uses one try)",
		Long:    "Tries the next password of earlier work that the device has not refused. It uses one of\nthe tries that a device is given an hour. Too many wrong tries lock the device.",
		Example: "  janustat key try C07 --wire eth0",
		Args:    oneDevice("key try"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.withJob(c.Context(), "key try", func(d *work.Desk) error { return a.keyTry(c.Context(), d, args[0]) })
		},
	}
}

func (a *App) keyAgainCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "again DEVICE",
		Short: "Forget what was noted against a device's keys, so that they are offered again",
		Long: `Forgets that a device reported a lock-out, and which passwords it refused: "key try" and
"commission" try them again. Tries of the last hour count as before, so nothing here can
lock a device.`,
		Example: "  janustat key again C07",
		Args:    oneDevice("key again"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.withDevice(c.Context(), "key again", args[0], func(w worked) error {
				unlocked, forgot, err := w.Again(c.Context(), w.device, w.planner.Keyring)
				if err != nil {
					return err
				}
				var what []string
				if unlocked {
					what = append(what, "that it was locked")
				}
				if forgot {
					what = append(what, "which keys it has refused")
				}
				if len(what) == 0 {
					return a.report(fmt.Sprintf("nothing was noted against the keys of %s", w.device.Label()))
				}
				return a.report(fmt.Sprintf("forgotten of %s: %s", w.device.Label(), text.List(what)))
			})
		},
	}
}

func (a *App) keyTry(ctx context.Context, d *work.Desk, ref string) error {
	x, err := d.InJob(ref)
	if err != nil {
		return err
	}
	planner, err := a.planner(ctx, d, false)
	if err != nil {
		return err
	}
	all := planner.Keyring.Earlier(x.MAC)
	if len(all) == 0 {
		return needsError{fmt.Sprintf("no key of earlier work is left to try on %s: `janustat key add` puts one on the keyring", x.Label())}
	}
	k := all[0]
	a.say("%d more to try after this one", len(all)-1)
	return a.offer(ctx, d, x, k, func(opened bool, by evidence.Witness) error {
		refused, proven := evidence.Prove(by, k)
		switch {
		case opened:
			planner.Keyring.Opened(x.MAC, k, time.Now())
		case proven:
			planner.Keyring.NoteRefused(x.MAC, []evidence.Proven[commission.Credential]{refused})
		default:
			planner.Keyring.NoteDoubted(x.MAC, []commission.Credential{k})
		}
		return planner.Keyring.Save()
	})
}

// offer offers a device one key, and tells what it says once it is open.
func (a *App) offer(ctx context.Context, d *work.Desk, x *device.Device, k commission.Credential, keep func(opened bool, by evidence.Witness) error) error {
	return a.withNet(ctx, d, shortPatience, func(ctx context.Context, n *reach.Net) error {
		a.say("offering it to %s at %s …", x.Label(), addressText(x.Address()))
		if err := d.Offer(ctx, n, x, k, keep); err != nil {
			return err
		}
		return a.report(fmt.Sprintf("%s is open: %s; its password is on the keyring", x.Label(), settingsText(x.Settings)))
	})
}

func (a *App) keyChangeCommand() *cobra.Command {
	var user string
	c := &cobra.Command{
		Use:   "change SELECTOR …",
		Short: "Give devices new passwords",
		Long: `Makes new passwords for the chosen devices, by the job's style, and gives each its
own over the old one. The new ones are on the keyring before anything is sent, and
the old ones stay there, so that there is no moment at which a device has a password
that is not on it. Run again after an interruption, it finds out which one holds.
With --user it changes those of a further user of the job sheet instead. The user
"recorder" of cameras is changed on both sides: their recorders pause, and then
get the new one.` + "\n" + selectorHelp,
		Example: "  janustat key change all --wire eth0\n  janustat key change kind=camera --wire eth0\n  janustat key change kind=recorder --user viewer --wire eth0",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usagef("key change of which devices? Name them, or use all")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			s, err := device.ParseSelector(args)
			if err != nil {
				return usageError{err}
			}
			return a.withJob(c.Context(), "key change", func(d *work.Desk) error { return a.keyChange(c.Context(), d, s, user) })
		},
	}
	c.Flags().StringVar(&user, "user", "", "those of this further user of the job sheet, by its `name`")
	return c
}

func (a *App) keyChange(ctx context.Context, d *work.Desk, s device.Selector, user string) error {
	chosen, err := s.Choose(d.Devices)
	if err != nil {
		return err
	}
	planner, err := a.planner(ctx, d, false)
	if err != nil {
		return err
	}
	change, err := d.PlanChange(planner, chosen, user)
	if err != nil {
		return err
	}
	if err := a.confirmCount(ctx, fmt.Sprintf("Change the password of %s?", plural(len(change.Plans), "device")), len(change.Plans)); err != nil {
		return err
	}
	if err := change.Keep(); err != nil {
		return err
	}
	return a.withNet(ctx, d, longPatience, func(ctx context.Context, n *reach.Net) error {
		if user == sheet.RecorderUser {
			return a.changeOnBothSides(ctx, d, n, planner, change)
		}
		begun := time.Now()
		view := a.startView(change.Plans, 0)
		results, err := change.Carry(ctx, n, work.View{Step: view.step, Result: view.result})
		view.stop()
		if err != nil {
			return err
		}
		return a.summary(ctx, results, time.Since(begun))
	})
}

// changeOnBothSides gives the recorder's user on cameras a new password, and tells it to their
// recorders, which rest meanwhile.
func (a *App) changeOnBothSides(ctx context.Context, d *work.Desk, n *reach.Net, planner *work.Planner, change *work.KeyChange) error {
	var tags []string
	for _, p := range change.Plans {
		tags = append(tags, p.Tag)
	}
	partners := d.Partners(tags)
	if err := a.park(ctx, d, n, planner, partners, tags); err != nil {
		return err
	}
	begun := time.Now()
	view := a.startView(change.Plans, 0)
	results, err := change.Carry(ctx, n, work.View{Step: view.step, Result: view.result})
	view.stop()
	if len(partners) > 0 && err == nil && ctx.Err() == nil {
		var rejoined []commission.Result
		rejoined, err = a.rejoin(ctx, d, n, planner, partners, tags)
		results = append(results, rejoined...)
	}
	if err != nil || ctx.Err() != nil {
		a.resting(partners, tags)
	}
	if err != nil {
		return errors.Join(a.summary(ctx, results, time.Since(begun)), err)
	}
	return a.summary(ctx, results, time.Since(begun))
}

// rejoin joins recorders up anew with cameras that have new passwords.
func (a *App) rejoin(ctx context.Context, d *work.Desk, n *reach.Net, planner *work.Planner, partners []*device.Device, tags []string) ([]commission.Result, error) {
	planner, err := d.Planner(ctx, planner.Keyring)
	if err != nil {
		return nil, err
	}
	plans, err := d.Rejoin(planner, partners, tags)
	if err != nil {
		return nil, err
	}
	view := a.startView(plans, d.Usual(ctx))
	defer view.stop()
	return d.Commission(ctx, n, planner, plans, work.Crew{Hands: commission.DefaultHandLimit}, work.View{Step: view.step, Result: view.result})
}
