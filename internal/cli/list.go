package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/settings"
	"janustat/internal/store"
)

// listOptions are what is listed, and how.
type listOptions struct {
	everything, csv bool
	columns, find   []string
	sort            string
}

func (a *App) listCommand() *cobra.Command {
	var o listOptions
	c := &cobra.Command{
		Use:   "list [SELECTOR …]",
		Short: "List the register",
		Long: "Lists the devices in the register: those that can be configured or belong to the job, or all.\n" + selectorHelp + `

Columns: ` + strings.Join(columnKeys(), ", ") + `,
and every field that was noted. NEWS shows "new" for what the last survey saw for the
first time, and "no answer" for what did not answer it. Exit code 1 where nothing fits what was asked for.`,
		Example: "  janustat list\n  janustat list kind=camera condition=stray\n  janustat list --columns tag,name,place,port --sort place\n" +
			"  janustat list --find ramp\n  janustat list --csv > devices.csv\n  janustat list --all --json",
		RunE: func(c *cobra.Command, args []string) error { return a.list(c.Context(), args, o) },
	}
	f := c.Flags()
	f.BoolVar(&o.everything, "all", false, "other devices on the LAN too")
	f.StringSliceVar(&o.columns, "columns", nil, "these `COLUMNS` instead of the usual ones, in this order")
	f.StringVar(&o.sort, "sort", "", "by this `COLUMN`; -COLUMN turns it round")
	f.StringSliceVar(&o.find, "find", nil, "only those with this `TEXT` anywhere; several narrow each other")
	f.BoolVar(&o.csv, "csv", false, "comma-separated values, with every row in full")
	return c
}

// listJSON is a device in `list --json`.
type listJSON struct {
	deviceJSON
	Called string      `json:"called"`         // the job sheet's name for it, else its own
	News   string      `json:"news,omitempty"` // new or gone, as of the last survey
	Notes  store.Notes `json:"notes,omitempty"`
}

func (a *App) list(ctx context.Context, terms []string, o listOptions) error {
	if o.csv && a.json {
		return usagef("--csv and --json are two forms: give one of them")
	}
	j, devices, err := a.open(ctx)
	if err != nil {
		return err
	}
	defer j.Close()
	shown, err := chooseForList(devices, terms, o.everything)
	if err != nil {
		return err
	}
	device.Sort(shown)
	rows, err := a.rows(ctx, j, devices, shown)
	if err != nil {
		return err
	}
	noted := notedFields(rows)
	columns, err := columnsFor(orElse(o.columns, listed), noted)
	if err != nil {
		return err
	}
	rows = slices.DeleteFunc(rows, func(r row) bool { return !r.has(o.find) })
	if o.sort != "" {
		if err := sortRows(rows, o.sort, noted); err != nil {
			return err
		}
	}
	if err := a.printList(rows, columns, o.csv); err != nil {
		return err
	}
	if asked := len(terms)+len(o.find) > 0; len(rows) == 0 && asked {
		return needsError{}
	}
	return nil
}

func (a *App) printList(rows []row, columns []listColumn, csv bool) error {
	switch {
	case csv:
		return a.writeCSV(rows, columns)
	case a.json:
		out := make([]listJSON, len(rows))
		for i := range rows {
			out[i] = listJSON{asJSON(rows[i].Device), rows[i].name, rows[i].news, rows[i].notes}
		}
		return a.emit(out)
	case len(rows) == 0:
		fmt.Fprintln(a.Out, "Nothing to list: janustat survey finds devices, list --all shows other devices on the LAN too.")
		return nil
	}
	a.write(a.Out, rowListing(rows, columns))
	devices := make([]device.Device, len(rows))
	for i := range rows {
		devices[i] = *rows[i].Device
	}
	fmt.Fprintf(a.Out, "\n%s\n", countByKind(devices))
	return nil
}

// notedFields are the fields that anything is noted under.
func notedFields(rows []row) []string {
	fields := map[string]bool{}
	for i := range rows {
		for f := range rows[i].notes {
			fields[f] = true
		}
	}
	return slices.Sorted(maps.Keys(fields))
}

func orElse[T any](s, other []T) []T {
	if len(s) == 0 {
		return other
	}
	return s
}

func chooseForList(devices []device.Device, terms []string, everything bool) ([]device.Device, error) {
	var out []device.Device
	if len(terms) == 0 {
		for _, d := range devices {
			if everything || d.InJob == device.Taken || d.Kind != device.Other {
				out = append(out, d)
			}
		}
		return out, nil
	}
	s, err := device.ParseSelector(terms)
	if err != nil {
		return nil, usageError{err}
	}
	chosen, err := s.List(devices)
	for _, i := range chosen {
		out = append(out, devices[i])
	}
	return out, err
}

func (a *App) showCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "show DEVICE",
		Short:   "Show one device: as found, as left, and its history",
		Long:    "Shows one device. DEVICE is a tag, a MAC or its last four or more hex digits, a serial number, or an address.",
		Example: "  janustat show C01\n  janustat show 0102",
		Args:    oneDevice("show"),
		RunE: func(c *cobra.Command, args []string) error {
			j, devices, err := a.open(c.Context())
			if err != nil {
				return err
			}
			defer j.Close()
			d, err := device.Find(devices, args[0])
			if err != nil {
				return err
			}
			history, err := j.Register.History(c.Context(), d.ID)
			if err != nil {
				return err
			}
			if a.json {
				return a.emit(showJSON{asJSON(d), d.Tongues, d.Stream, d.Links, d.AsFound, d.AsLeft, d.Why, orEmpty(history)})
			}
			a.printDevice(d, history)
			return nil
		},
	}
}

func (a *App) printDevice(d *device.Device, history []store.Entry) {
	line := func(what, value string) {
		if value != "" {
			fmt.Fprintf(a.Out, "%-12s %s\n", what, a.wrap(a.Out, 13, value))
		}
	}
	fmt.Fprintln(a.Out, a.paint(a.Out, headStyle, titleOf(d)))
	line("kind", string(d.Kind))
	line("manufacturer, model", strings.TrimSpace(d.Make+" "+d.Model))
	line("serial", d.Serial)
	line("MAC", d.MAC.String())
	line("firmware", d.Firmware)
	line("address", addressText(d.Address())+clashText(d))
	if len(d.Addresses) > 1 {
		line("answers for", ground.List(d.Addresses))
	}
	if w := d.Writes; w != nil {
		for _, p := range w.Pictures {
			line("picture", pictureText(p))
		}
	}
	if s := d.Stream; s != nil {
		what := strings.TrimSpace(s.Codec + " " + s.Size())
		line("stream", fmt.Sprintf("%s at port %d, path %s", what, s.Port, s.Path))
	}
	for _, k := range d.Links {
		line(k.Kind, linkText(k))
	}
	line("known as", d.Host)
	line("MAC's holder", d.Registry)
	line("open ports", portsText(d.Ports))
	line("offers", strings.Join(d.Offers, " "))
	if d.TLS != nil {
		line("HTTPS", fmt.Sprintf("port %d, certificate %s", d.TLS.Port, fingerprintText(d.TLS.Fingerprint)))
		line("weak in it", strings.Join(d.TLS.Weak, ", "))
	}
	line("HTTPS", d.MuteTLS)
	if d.Asks != nil {
		line("asks by DHCP", clientText(d.Asks))
	}
	line("condition", string(d.Condition))
	line("access", string(d.Access))
	if d.Alarm != "" {
		line("ALARM", d.Alarm+": no password is sent to it")
	}
	if !d.ResetAt.IsZero() {
		line("reset", localTime(d.ResetAt)+fmt.Sprintf(" (janustat restore %s brings it back)", d.Label()))
	}
	line("job", string(d.InJob))
	line("as found", settingsText(d.AsFound))
	if d.Allotted != nil {
		line("allotted", settingsText(d.Allotted)+" ("+d.Why+")")
	}
	line("as left", settingsText(d.AsLeft))
	line("first seen", localTime(d.FirstSeen))
	line("last seen", localTime(d.SeenAt))
	line("proved", localTime(d.Proved))
	for _, e := range history {
		outcome := e.Outcome
		if outcome == "" {
			outcome = "cut short"
		}
		text := fmt.Sprintf("%s  %-8s %s: %s", e.Begun.Local().Format("15:04:05"), e.Step, e.Intent, outcome)
		if e.Detail != "" {
			text += " (" + e.Detail + ")"
		}
		fmt.Fprintln(a.Out, "  "+text)
	}
}

// linkText tells what a device knows of another, and how that fares.
func linkText(k device.Link) string {
	text := k.Peer
	if k.Number > 0 {
		text = fmt.Sprintf("%d %s", k.Number, k.Peer)
	}
	text += ": " + k.State
	if k.Why != "" {
		text += " (" + k.Why + ")"
	}
	return text
}

// pictureText tells what a picture shows.
func pictureText(p device.Picture) string {
	text := fmt.Sprintf("source %q", p.Name)
	switch {
	case !p.Shows:
		return text + ", shows no texts"
	case p.Text == "":
		return text + ", no caption"
	}
	return text + fmt.Sprintf(", text %q", p.Text)
}

func portsText(ports []uint16) string {
	text := make([]string, len(ports))
	for i, p := range ports {
		text[i] = fmt.Sprint(p)
	}
	return strings.Join(text, " ")
}

// clientText says how a device calls itself when it asks for an address.
func clientText(c *device.DHCPClient) string {
	var parts []string
	for _, p := range []struct{ what, value string }{
		{"host name", c.Host}, {"vendor class", c.VendorClass}, {"client id", c.ClientID}, {"wants", addressText(c.Wants)},
	} {
		if p.value != "" {
			parts = append(parts, p.what+" "+p.value)
		}
	}
	return strings.Join(parts, ", ")
}

func clashText(d *device.Device) string {
	if len(d.Clashing) == 0 {
		return ""
	}
	others := make([]string, len(d.Clashing))
	for i, m := range d.Clashing {
		others[i] = m.String()
	}
	return " (also claimed by " + strings.Join(others, ", ") + ")"
}

// fingerprintText groups the beginning of a fingerprint, as people compare them.
func fingerprintText(f string) string {
	const groups, size = 4, 4
	var parts []string
	for i := 0; i+size <= len(f) && len(parts) < groups; i += size {
		parts = append(parts, f[i:i+size])
	}
	return strings.Join(parts, " ") + " … (SHA-256)"
}

func settingsText(s *device.Settings) string {
	if s == nil {
		return ""
	}
	text := fmt.Sprintf("%s/%d", s.Address, s.Prefix)
	if s.Gateway.IsValid() {
		text += ", gateway " + s.Gateway.String()
	}
	if s.DHCP {
		text += ", by DHCP"
	}
	if len(s.DNS) > 0 {
		text += ", DNS " + ground.List(s.DNS)
	}
	if len(s.NTP) > 0 {
		text += ", NTP " + ground.List(s.NTP)
	}
	values := s.All()
	for _, x := range settings.All {
		if value := values[x.Name]; value != "" {
			text += ", " + x.Title + " " + value
		}
	}
	if s.Name != "" {
		text += fmt.Sprintf(", %q", s.Name)
	}
	return text
}

func localTime(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Local().Format("2006-01-02 15:04:05")
}
