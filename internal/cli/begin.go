package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/ground"
	"janustat/internal/handover"
	"janustat/internal/job"
)

func (a *App) beginCommand() *cobra.Command {
	var name, subnet, gateway, record, passwords, identity string
	c := &cobra.Command{
		Use:     "begin DIR",
		Short:   "Make a new job folder",
		Long:    "Makes a folder with a commented job sheet, the one file to edit by hand, and an empty\nregister; or, for a service visit, one that begins from the record of an earlier pack.\nThat takes over everything in the record as planned: addresses, names, notes,\nchannels, pairs, pools, users; and with --passwords the keys, from a passwords.age or\nkeys.age of the pack.",
		Example: "  janustat begin quillmere --name \"Quillmere Ferry Terminal\"\n  janustat begin depot --subnet 10.61.8.0/23 --gateway 10.61.8.1\n  janustat begin visit --from ../2025/handover --passwords ../2025/handover/passwords.age --identity me.key",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usagef("begin takes one folder: janustat begin DIR")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			dir := args[0]
			if name == "" {
				name = filepath.Base(filepath.Clean(dir))
			}
			if err := checkGround(subnet, gateway); err != nil {
				return err
			}
			var from handover.Record
			if record != "" {
				var err error
				if from, err = handover.Read(record); err != nil {
					return usageError{err}
				}
				if g := from.Ground; subnet == "" && g.Subnet.IsValid() {
					subnet = g.Subnet.String()
					if gateway == "" && g.Gateway.IsValid() {
						gateway = g.Gateway.String()
					}
				}
				if !c.Flags().Changed("name") && from.Site != "" {
					name = from.Site
				}
			}
			var keys []sharedKey
			if passwords != "" {
				if record == "" {
					return usagef("--passwords goes with --from: they are those of its devices")
				}
				var err error
				if keys, err = a.readShared(c.Context(), passwords, identity); err != nil {
					return err
				}
			}
			err := job.Begin(c.Context(), dir, job.NewSheetWith(name, networkOf(subnet, gateway, from), time.Now()))
			kept := errors.Is(err, job.ErrSheetKept)
			if err != nil && !kept {
				return err
			}
			if record != "" {
				if err := takeOver(c.Context(), dir, from, keys, kept); err != nil {
					return err
				}
				if len(keys) == 0 {
					a.say("%s taken over from %s; their passwords are not in it: janustat key add, or key set", plural(len(from.Devices), "device"), record)
				} else if err := a.takeKeys(c.Context(), dir, keys); err != nil {
					return err
				}
			}
			if kept {
				made := "an empty register"
				if record != "" {
					made = "a register"
				}
				return a.report(fmt.Sprintf("made %s in %s; %s. Next: janustat survey", made, dir, err))
			}
			if a.json {
				return a.emit(begunJSON{dir, name})
			}
			fmt.Fprintf(a.Out, "Began %s in %s\nNext: cd %s, look through %s, then janustat survey\n", name, dir, dir, job.SheetFile)
			return nil
		},
	}
	c.Flags().StringVar(&record, "from", "", "begin from the record of an earlier pack: its folder, or register.json, .csv or .xlsx, at `PATH`")
	c.Flags().StringVar(&passwords, "passwords", "", "with the keys of the pack, from this encrypted `FILE` (passwords.age, keys.age)")
	c.Flags().StringVar(&identity, "identity", "", "your private age key, in this `FILE`; left out, the file's passphrase is asked for")
	c.Flags().StringVar(&name, "name", "", "the site's name; the folder's if left out")
	c.Flags().StringVar(&subnet, "subnet", "", "the site subnet, as `CIDR`")
	c.Flags().StringVar(&gateway, "gateway", "", "the site's gateway `address`")
	return c
}

// networkOf is the network of a new job sheet: as said, and else as a record has it.
func networkOf(subnet, gateway string, from handover.Record) job.Network {
	n := job.Network{Subnet: subnet, Gateway: gateway, DNS: from.Ground.DNS, NTP: from.Ground.NTP}
	spans := func(list []string) (out []job.Span) {
		for _, text := range list {
			var s job.Span
			if s.UnmarshalText([]byte(text)) == nil { // one that is none is nobody's plan
				out = append(out, s)
			}
		}
		return out
	}
	n.KeepClear, n.DHCPPools = spans(from.Plan.KeepClear), spans(from.Plan.Pools)
	return n
}

// takeOver puts the devices of a record into a new job, with their tags, addresses, names and
// notes, and what the record plans into its sheet, unless that was there already.
func takeOver(ctx context.Context, dir string, from handover.Record, keys []sharedKey, kept bool) error {
	j, err := job.Open(ctx, dir)
	if err != nil {
		return err
	}
	defer j.Close()
	devices := make([]device.Device, len(from.Devices))
	links := map[string][]device.Link{}
	for _, c := range from.Channels {
		if c.Recorder != "" && c.Camera != "" {
			links[c.Recorder] = append(links[c.Recorder], device.Link{Kind: string(commission.StepChannel), Peer: c.Camera, Number: c.Number, State: c.State})
		}
	}
	for i, e := range from.Devices {
		devices[i] = e.Device(time.Now(), links[e.Tag])
	}
	names, sheet := map[string]string{}, j.Sheet.Among(devices)
	for i, e := range from.Devices {
		// A sheet that was there may have its own names, which stand.
		if e.Name != "" && !e.MAC.IsZero() && sheet.NamedBy(&devices[i]) == "" {
			names[e.MAC.String()] = e.Name
		}
	}
	if err := j.Register.Save(ctx, devices); err != nil {
		return err
	}
	notes := map[int64]job.Notes{}
	for i, e := range from.Devices {
		n := job.Notes{job.Place: e.Place, job.Port: e.Port, job.Remark: e.Remark}
		for field, value := range e.Own {
			if job.CheckField(field) == nil {
				n[field] = value
			}
		}
		notes[devices[i].ID] = n
		if e.InClear && slices.ContainsFunc(keys, func(k sharedKey) bool { return k.mac == e.MAC }) {
			if err := taken(ctx, j, devices[i], commission.Write{Step: commission.StepKey, Intent: "administrator, by an earlier job", InClear: true}); err != nil {
				return err
			}
		}
		if err := usersTakenOver(ctx, j, devices[i], keys, from.Plan); err != nil {
			return err
		}
	}
	if err := j.Register.SetNotes(ctx, notes); err != nil {
		return err
	}
	path := j.Path(job.SheetFile)
	if err := job.AddNames(path, names); err != nil || kept {
		return err
	}
	return job.AddSections(path, sectionsOf(from))
}

// usersTakenOver journals the further users whose passwords are taken over: they are made.
func usersTakenOver(ctx context.Context, j *job.Job, d device.Device, keys []sharedKey, plan handover.Plan) error {
	for _, k := range keys {
		if k.mac != d.MAC || !k.further || !k.pair.IsZero() {
			continue
		}
		level := commission.Viewer // as recorders are
		if at := slices.IndexFunc(plan.Users, func(u handover.PlannedUser) bool { return u.Name == k.user }); at >= 0 {
			level = job.LevelOf(plan.Users[at].Role)
		}
		if err := taken(ctx, j, d, commission.Write{Step: commission.StepUser, Intent: commission.UserIntent(commission.Account{Name: k.user, Level: level})}); err != nil {
			return err
		}
	}
	return nil
}

// taken journals what an earlier job has written to a device.
func taken(ctx context.Context, j *job.Job, d device.Device, w commission.Write) error {
	id, err := j.Register.Begin(ctx, commission.Plan{ID: d.ID}, w)
	if err != nil {
		return err
	}
	return j.Register.End(ctx, id, string(commission.OutcomeDone), "as in the record that the job began from")
}

// sectionsOf writes what a record plans as sections of a job sheet.
func sectionsOf(r handover.Record) map[string]string {
	out := map[string]string{}
	byRecorder := map[string][]string{}
	var recorders []string
	for _, c := range r.Channels {
		if c.Number == 0 || c.Camera == "" {
			continue
		}
		if byRecorder[c.Recorder] == nil {
			recorders = append(recorders, c.Recorder)
		}
		byRecorder[c.Recorder] = append(byRecorder[c.Recorder], fmt.Sprintf("%d: %s", c.Number, c.Camera))
	}
	flow := func(parts []string) string { return "{" + strings.Join(parts, ", ") + "}" }
	var channels []string
	for _, rec := range recorders {
		channels = append(channels, rec+": "+flow(byRecorder[rec]))
	}
	if len(channels) > 0 {
		out["channels"] = flow(channels)
	}
	var doors []string
	stations := map[string][]string{}
	for _, p := range r.Plan.Pairs {
		if stations[p.Door] == nil {
			doors = append(doors, p.Door)
		}
		stations[p.Door] = append(stations[p.Door], fmt.Sprintf("%s: {floor: %d, flat: %q}", p.Station, p.Floor, p.Flat))
	}
	var pairs []string
	for _, d := range doors {
		pairs = append(pairs, d+": "+flow(stations[d]))
	}
	if len(pairs) > 0 {
		out["intercoms"] = flow(pairs)
	}
	if at, err := netip.ParseAddrPort(r.Plan.Server); err == nil {
		out["reporting"] = fmt.Sprintf("{server: %s, port: %d}", at.Addr(), at.Port())
	}
	if r.Plan.Zone != "" {
		out["timezone"] = strconv.Quote(r.Plan.Zone)
	}
	var blocks, users []string
	for _, kind := range slices.Sorted(maps.Keys(r.Plan.Blocks)) {
		blocks = append(blocks, kind+": "+r.Plan.Blocks[kind])
	}
	if len(blocks) > 0 {
		out["blocks"] = flow(blocks)
	}
	for _, u := range r.Plan.Users {
		on := ""
		if len(u.On) > 0 {
			quoted := make([]string, len(u.On))
			for i, x := range u.On {
				quoted[i] = strconv.Quote(x)
			}
			on = ", on: [" + strings.Join(quoted, ", ") + "]"
		}
		users = append(users, fmt.Sprintf("{name: %q, role: %s%s}", u.Name, u.Role, on))
	}
	if len(users) > 0 {
		out["users"] = "[" + strings.Join(users, ", ") + "]"
	}
	return out
}

// checkGround checks the flags together: the gateway must be in the subnet.
func checkGround(subnet, gateway string) error {
	var claim ground.Claim
	var err error
	if subnet != "" {
		if claim.Subnet, err = ground.ParseSubnet(subnet); err != nil {
			return usagef("--subnet: %w", err)
		}
	}
	if gateway != "" {
		if claim.Gateway, err = netip.ParseAddr(gateway); err != nil {
			return usagef("--gateway %s: write it as 10.61.8.1", gateway)
		}
	}
	if subnet == "" {
		return nil
	}
	claim.Source = "--subnet"
	if _, err := ground.Resolve([]ground.Claim{claim}, false); err != nil {
		return usageError{err}
	}
	return nil
}
