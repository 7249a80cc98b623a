package cli

import (
	"errors"
	"fmt"
	"net/netip"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/ground"
	"janustat/core/sheet"
	"janustat/internal/handover"
	"janustat/internal/job"
	"janustat/internal/sheetfile"
	"janustat/internal/work"
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
			var keys []work.SharedKey
			if passwords != "" {
				if record == "" {
					return usagef("--passwords goes with --from: they are those of its devices")
				}
				var err error
				if keys, err = a.readShared(c.Context(), passwords, identity); err != nil {
					return err
				}
			}
			err := job.Begin(c.Context(), dir, sheetfile.NewWith(name, networkOf(subnet, gateway, from), time.Now()))
			kept := errors.Is(err, job.ErrSheetKept)
			if err != nil && !kept {
				return err
			}
			if record != "" {
				if err := work.TakeOver(c.Context(), dir, from, keys, kept); err != nil {
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
func networkOf(subnet, gateway string, from handover.Record) sheet.Network {
	n := sheet.Network{Subnet: subnet, Gateway: gateway, DNS: from.Ground.DNS, NTP: from.Ground.NTP}
	spans := func(list []string) (out []sheet.Span) {
		for _, text := range list {
			var s sheet.Span
			if s.UnmarshalText([]byte(text)) == nil { // one that is none is nobody's plan
				out = append(out, s)
			}
		}
		return out
	}
	n.KeepClear, n.DHCPPools = spans(from.Plan.KeepClear), spans(from.Plan.Pools)
	return n
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
