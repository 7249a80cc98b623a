package cli

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/internal/field"
	"janustat/internal/job"
	"janustat/internal/reach"
	"janustat/internal/speak/arp"
)

func (a *App) surveyCommand() *cobra.Command {
	listen := field.DefaultListen
	c := &cobra.Command{
		Use:   "survey",
		Short: "Find the devices on the LAN and update the register",
		Long: `Finds devices by sweeping with ARP probes, by listening, and by discovery from a
visitor address in every subnet where something answers; then reads what each
device tells without a password. Nothing is written to any device.`,
		Example: "  janustat survey --wire eth0\n  janustat survey --for 20s --json",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if listen < time.Second || listen > time.Hour {
				return usagef("--for %s: use 1s to 1h", listen)
			}
			return a.withJob(c.Context(), "survey", func(j *job.Job, known []device.Device) error {
				return a.withNet(func(n *reach.Net) error { return a.survey(c.Context(), j, known, n, listen) })
			})
		},
	}
	c.Flags().DurationVar(&listen, "for", listen, "listen at least this long")
	return c
}

// surveyJSON is the --json document of survey.
type surveyJSON struct {
	Devices []deviceJSON    `json:"devices"`
	Changes []device.Change `json:"changes"`
	Offers  []job.Offer     `json:"dhcp_offers"`
	TookMS  int64           `json:"took_ms"`
}

func (a *App) survey(ctx context.Context, j *job.Job, known []device.Device, n *reach.Net, listen time.Duration) error {
	log, err := a.logger()
	if err != nil {
		return err
	}
	begun := time.Now()
	subnets, avoid, err := a.lay(ctx, j, known, n)
	if err != nil {
		return err
	}
	a.say("listening on %s …", n.Facts().Name)
	for _, p := range subnets.Wide() {
		a.say("note: %s is too wide to sweep; devices there are found by discovery", p)
	}
	rate := j.Sheet.Survey.Rate
	if rate == 0 {
		rate = arp.DefaultRate
	}
	found, err := field.Survey{
		Net: n, Subnets: subnets, Listen: listen, Rate: rate, Avoid: avoid, Log: log,
		Tell: func(text string) { a.say("  found %s", text) },
	}.Run(ctx)
	if err != nil {
		return err
	}
	last, err := j.Register.LastSurvey(ctx)
	if err != nil {
		return err
	}
	devices, changes := device.Reconcile(known, withKinds(device.Merge(found.Sightings)), last.At)
	record := job.SurveyRecord{At: begun, Took: time.Since(begun), Found: len(devices), Laptop: n.Facts().Addresses, Offers: found.Offers}
	if err := j.Register.AddSurvey(ctx, record); err != nil {
		return err
	}
	if g, err := field.Ground(ctx, j, devices); err == nil {
		field.Judge(j.Sheet, devices, g.Subnet)
	} else {
		field.Judge(j.Sheet, devices, netip.Prefix{})
	}
	if err := j.Register.Save(ctx, devices); err != nil {
		return err
	}
	devices = slices.DeleteFunc(devices, func(d device.Device) bool { return d.SeenAt.Before(begun) })
	sortForPeople(devices)
	if a.json {
		return a.emit(surveyJSON{allJSON(devices), orEmpty(changes), orEmpty(found.Offers), record.Took.Milliseconds()})
	}
	a.printSurvey(devices, changes, found, record.Took)
	return nil
}

// withKinds makes bystanders of devices that nothing more is known of.
func withKinds(devices []device.Device) []device.Device {
	for i := range devices {
		if devices[i].Kind == "" {
			devices[i].Kind = device.Other
		}
		if devices[i].Access == "" {
			devices[i].Access = device.Unmanaged
		}
	}
	return devices
}

// lay gives the subnets to work in and the addresses that visitors must not borrow.
func (a *App) lay(ctx context.Context, j *job.Job, devices []device.Device, n *reach.Net) (*field.Subnets, func(netip.Addr) bool, error) {
	var site netip.Prefix
	if g, err := field.Ground(ctx, j, devices); err == nil {
		site = g.Subnet
	}
	reserved, err := field.Reserved(ctx, j, devices)
	if err != nil {
		return nil, nil, err
	}
	var blocks []ground.Block
	if site.IsValid() {
		blocks = j.Sheet.BlocksIn(site)
	}
	given := map[netip.Addr]bool{}
	for i := range devices {
		if devices[i].Allotted != nil {
			given[devices[i].Allotted.Address] = true
		}
		for _, x := range devices[i].Addresses {
			given[x] = true
		}
	}
	avoid := func(x netip.Addr) bool {
		return given[x] ||
			slices.ContainsFunc(reserved, func(r ground.Reserved) bool { return r.Range.Contains(x) }) ||
			site.Bits() <= 24 && slices.ContainsFunc(blocks, func(b ground.Block) bool { return b.Range.Contains(x) })
	}
	return field.NewSubnets(n.Facts().Addresses, site, j.Sheet.Survey.FactorySubnets, j.Sheet.Network.NotOurs), avoid, nil
}

// sortForPeople puts tagged devices first, then by kind and address.
func sortForPeople(devices []device.Device) {
	slices.SortStableFunc(devices, func(x, y device.Device) int {
		if (x.Tag == "") != (y.Tag == "") {
			if x.Tag == "" {
				return 1
			}
			return -1
		}
		if c := x.Kind.Order() - y.Kind.Order(); c != 0 {
			return c
		}
		if c := strings.Compare(x.Tag, y.Tag); c != 0 {
			return c
		}
		if c := x.Address().Compare(y.Address()); c != 0 {
			return c
		}
		return slices.Compare(x.MAC[:], y.MAC[:])
	})
}

func (a *App) printSurvey(devices []device.Device, changes []device.Change, found *field.Findings, took time.Duration) {
	w := a.Out
	if len(devices) == 0 {
		fmt.Fprintln(w, "Nothing answered. Check the cable and the adapter, or listen longer: janustat survey --for 30s")
		return
	}
	a.write(w, deviceListing(devices))
	fmt.Fprintf(w, "\n%s, in %.1f s\n", countByKind(devices), took.Seconds())
	for _, o := range found.Offers {
		fmt.Fprintf(w, "DHCP server %s offers %s, gateway %s\n", o.Server, o.Subnet, addressText(o.Gateway))
	}
	subnets := make([]netip.Prefix, 0, len(found.Unvisited))
	for p := range found.Unvisited {
		subnets = append(subnets, p)
	}
	slices.SortFunc(subnets, func(x, y netip.Prefix) int { return x.Addr().Compare(y.Addr()) })
	for _, p := range subnets {
		fmt.Fprintf(w, "%s could not be visited: %s\n", p, found.Unvisited[p])
	}
	a.printChanges(changes)
	open := 0
	for i := range devices {
		if devices[i].Configurable() && devices[i].InJob == device.Undecided {
			open++
		}
	}
	if open > 0 {
		fmt.Fprintf(w, "Next: janustat take all   (%s ready to be taken)\n", plural(open, "device"))
	}
}

// manyChanges is how many changes are printed before they are only counted:
// on a first survey everything is new and stands in the list above already.
const manyChanges = 12

func (a *App) printChanges(changes []device.Change) {
	counts := map[string]int{}
	for _, c := range changes {
		counts[c.What]++
	}
	if len(changes) == 0 {
		fmt.Fprintln(a.Out, "Nothing new, gone or changed since the last survey.")
		return
	}
	fmt.Fprintf(a.Out, "Since the last survey: %d new, %d gone, %d back, %d changed\n", counts["new"], counts["gone"], counts["back"], counts["changed"])
	for _, c := range changes {
		if c.What == "new" && counts["new"] > manyChanges {
			continue
		}
		fmt.Fprintf(a.Out, "  %-8s %s  %s\n", c.What, c.Label, c.Text)
	}
}

func orEmpty[T any](s []T) []T {
	if s == nil {
		return []T{}
	}
	return s
}
