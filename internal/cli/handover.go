package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/ground"
	"janustat/internal/field"
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
			r, err := recordOf(c.Context(), j, devices, only)
			if err != nil {
				return err
			}
			if len(r.Devices) == 0 {
				return usagef("no device is taken, so there is nothing to hand over")
			}
			if since != "" {
				if o.Changes, err = changesSince(c.Context(), j, devices, only, since); err != nil {
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
				if o.Passwords, _, err = a.seal(c.Context(), j, chosenOf(devices, only), keys, to); err != nil {
					return err
				}
			} else if o.Passwords, err = a.standing(j, filepath.Join(dir, handover.PasswordsFile)); err != nil {
				return err
			}
			files, err := writePack(dir, r, o, signer)
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

// packOptions reads how the pack is to be made.
func packOptions(paper, labels string) (handover.Options, error) {
	o := handover.Options{Paper: handover.A4}
	switch strings.ToLower(paper) {
	case "a4":
	case "letter":
		o.Paper = handover.Letter
	default:
		return o, usagef("--paper %q: use a4 or letter", paper)
	}
	at := slices.IndexFunc(handover.LabelSheets, func(s handover.LabelSheet) bool { return s.Name == labels })
	if at < 0 {
		return o, usagef("--labels %q: use 24, 21, 40 or 30", labels)
	}
	o.Sheet = handover.LabelSheets[at]
	return o, nil
}

// changesSince tells what was done to the devices of the job since a day.
func changesSince(ctx context.Context, j *job.Job, devices []device.Device, only work.Selection, day string) ([]handover.Change, error) {
	from, err := time.Parse(time.DateOnly, day) // UTC, wherever the laptop is
	if err != nil {
		return nil, usagef("--since %q: write it as 2026-11-01", day)
	}
	out := []handover.Change{}
	for _, d := range device.OfJob(devices) {
		if !only.Has(d.ID) {
			continue
		}
		history, err := j.Register.History(ctx, d.ID)
		if err != nil {
			return nil, err
		}
		for _, e := range history {
			if e.Outcome == string(commission.OutcomeDone) && !e.Begun.Before(from) {
				out = append(out, handover.Change{Tag: d.Tag, Name: d.Name, At: e.Begun, What: commission.Told(commission.Step(e.Step), e.Intent)})
			}
		}
	}
	return out, nil
}

// chosenOf leaves the devices of the job that are meant, and everybody else.
func chosenOf(devices []device.Device, only work.Selection) []device.Device {
	return slices.DeleteFunc(slices.Clone(devices), func(d device.Device) bool {
		return (d.InJob == device.Taken || d.Commissioned()) && !only.Has(d.ID)
	})
}

// recordOf makes the record of a job, or of some of its devices, as it stands.
func recordOf(ctx context.Context, j *job.Job, all []device.Device, only work.Selection) (handover.Record, error) {
	device.Sort(all)
	devices := chosenOf(all, only)
	// A record is worth having before everything is known of the ground.
	g, err := field.Ground(ctx, j, all)
	if err != nil {
		g = ground.Ground{}
	}
	progress, err := j.Register.Progress(ctx)
	if err != nil {
		return handover.Record{}, err
	}
	f := handover.Facts{Site: j.Sheet.Name, Ground: g, InClear: map[int64]bool{}, Notes: map[int64]map[string]string{}}
	for id, p := range progress {
		f.InClear[id] = p.InClear
	}
	if f.Spans, err = addressPlan(ctx, j, all, g.Subnet); err != nil {
		return handover.Record{}, err
	}
	if f.Proofs, err = proofsOf(ctx, j); err != nil {
		return handover.Record{}, err
	}
	if f.Open, err = work.Open(ctx, j, all, nil); err != nil {
		return handover.Record{}, err
	}
	f.Accounts = accountsOf(j, all, progress)
	f.Plan = sitePlan(j.Sheet.Among(all), all)
	if only != nil {
		f.Part = len(device.OfJob(all))
	}
	notes, err := j.Register.Notes(ctx)
	if err != nil {
		return handover.Record{}, err
	}
	for id, n := range notes {
		f.Notes[id] = n
	}
	return handover.New(f, devices), nil
}

// sitePlan gives what the job sheet plans, devices by their tags.
func sitePlan(sheet job.Among, devices []device.Device) handover.Plan {
	p := handover.Plan{Zone: sheet.Timezone, Blocks: map[string]string{}}
	joined, _ := sheet.Joined(devices) // what is wrong of it is told by whoever reads the sheet for work
	for _, x := range joined.Pairs {
		p.Pairs = append(p.Pairs, handover.PlannedPair{Door: x.Door.Tag, Station: x.Station.Tag, Floor: x.Floor, Flat: x.Flat})
	}
	if r := sheet.Reporting; r.Server.IsValid() {
		p.Server = netip.AddrPortFrom(r.Server, r.Port).String()
	}
	for _, s := range sheet.Network.KeepClear {
		p.KeepClear = append(p.KeepClear, s.Text())
	}
	for _, s := range sheet.Network.DHCPPools {
		p.Pools = append(p.Pools, s.Text())
	}
	for kind, s := range sheet.Blocks {
		p.Blocks[kind] = s.Text()
	}
	for _, u := range sheet.Users {
		p.Users = append(p.Users, handover.PlannedUser{Name: u.Name, Role: u.Role, On: u.On})
	}
	return p
}

// accountsOf gives, by ID, the users that the job uses or has made, with their levels.
func accountsOf(j *job.Job, devices []device.Device, progress map[int64]job.Progress) map[int64][]string {
	out := map[int64][]string{}
	for i := range devices {
		d := &devices[i]
		if d.OpenedAt.IsZero() {
			continue
		}
		list := []string{j.Sheet.User() + " as administrator"}
		for intent := range progress[d.ID].Users {
			list = append(list, intent)
		}
		slices.Sort(list)
		out[d.ID] = list
	}
	return out
}

// proofsOf gives, by ID, the last proof of each device.
func proofsOf(ctx context.Context, j *job.Job) (map[int64]handover.Proof, error) {
	last, err := j.Register.LastProofs(ctx)
	if err != nil {
		return nil, err
	}
	out := map[int64]handover.Proof{}
	for id, p := range last {
		var checks []field.Check
		if err := json.Unmarshal(p.Checks, &checks); err != nil {
			return nil, fmt.Errorf("register: proof of %s: %w", p.At.Format(time.DateTime), err)
		}
		proof := handover.Proof{At: p.At}
		for _, c := range checks {
			x := handover.Checked{Check: c.Name, Result: "passed", Expected: c.Want, Found: work.WithoutCommands(c.Got)}
			switch {
			case c.OK && c.Left > 0:
				x.Result, x.Found = "untested", fmt.Sprintf("%d untested", c.Left)
			case c.OK:
			case c.Refused:
				x.Result = "refused"
			default:
				x.Result = "failed"
			}
			proof.Checks = append(proof.Checks, x)
		}
		out[id] = proof
	}
	return out, nil
}

// addressPlan is what the site's addresses are for beside the devices of the job.
func addressPlan(ctx context.Context, j *job.Job, devices []device.Device, site netip.Prefix) ([]handover.Span, error) {
	reserved, err := field.Reserved(ctx, j, devices)
	if err != nil {
		return nil, err
	}
	job := map[netip.Addr]bool{}
	for i := range devices {
		if devices[i].InJob == device.Taken {
			job[devices[i].Address()] = true
		}
	}
	var out []handover.Span
	for _, r := range reserved {
		if r.Range.From == r.Range.To && job[r.Range.From] || r.Passing || site.IsValid() && !site.Contains(r.Range.From) {
			continue
		}
		// Two reasons for one address are one line.
		if at := slices.IndexFunc(out, func(s handover.Span) bool { return s.From == r.Range.From && s.To == r.Range.To }); at >= 0 {
			out[at].Why += "; " + r.Why
			continue
		}
		out = append(out, handover.Span{From: r.Range.From, To: r.Range.To, Why: r.Why, Pool: strings.Contains(r.Why, "pool")})
	}
	return out, nil
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

func writePack(dir string, r handover.Record, o handover.Options, signer ssh.Signer) ([]string, error) {
	if err := job.OwnDir(dir); err != nil {
		return nil, fmt.Errorf("handover: %w", err)
	}
	docs, err := r.Pack(o)
	if err != nil {
		return nil, err
	}
	if signer != nil {
		sig, err := handover.Sign(docs[len(docs)-1].Data, signer)
		if err != nil {
			return nil, err
		}
		docs = append(docs, handover.Document{Name: handover.SignatureFile, Data: sig})
	}
	if err := clearStale(dir, docs); err != nil {
		return nil, err
	}
	var files []string
	for _, d := range docs {
		path := filepath.Join(dir, d.Name)
		mode := os.FileMode(0o644)
		if d.Name == handover.PasswordsFile {
			mode = 0o600
		}
		if err := job.WriteFile(path, d.Data, mode); err != nil {
			return nil, err
		}
		files = append(files, path)
	}
	return files, nil
}

// clearStale takes away what an earlier run was asked for and this one was not, and which
// does not fit the new pack: a table of changes, and a signature of another manifest.
func clearStale(dir string, docs []handover.Document) error {
	at := slices.IndexFunc(docs, func(d handover.Document) bool { return d.Name == handover.ManifestFile })
	was, err := os.ReadFile(filepath.Join(dir, handover.ManifestFile))
	if err != nil || bytes.Equal(was, docs[at].Data) {
		return nil // none, or all is as it was
	}
	for _, name := range []string{handover.ChangesFile, handover.SignatureFile} {
		if slices.ContainsFunc(docs, func(d handover.Document) bool { return d.Name == name }) {
			continue
		}
		if err := os.Remove(filepath.Join(dir, name)); err != nil && !errors.Is(err, os.ErrNotExist) {
			return fmt.Errorf("handover: %w", err)
		}
	}
	return nil
}
