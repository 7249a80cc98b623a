package cli

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/internal/job"
	"janustat/internal/survey"
	"janustat/internal/work"
)

func (a *App) printSurvey(ctx context.Context, j *job.Job, devices []device.Device, s *work.Surveyed) error {
	w, found := a.Out, s.Found
	if len(devices) == 0 {
		a.printUnasked(found)
		fmt.Fprintln(w, "No device answered. Check the cable, then run `janustat wire`. To listen longer: `janustat survey --for 30s`")
		return nil
	}
	if err := a.showDevices(ctx, j, s.Devices, devices); err != nil {
		return err
	}
	fmt.Fprintf(w, "\n%s, in %.1f s\n", countByKind(devices), s.Record.Took.Seconds())
	a.printLAN(devices, found)
	a.printFloods(s)
	a.printUnread(s)
	a.printMute(devices)
	a.printUnasked(found)
	subnets := make([]netip.Prefix, 0, len(found.Unvisited))
	for p := range found.Unvisited {
		subnets = append(subnets, p)
	}
	slices.SortFunc(subnets, func(x, y netip.Prefix) int { return x.Addr().Compare(y.Addr()) })
	for _, p := range subnets[:min(len(subnets), manyChanges)] {
		fmt.Fprintf(w, "%s could not be visited: %s\n", p, found.Unvisited[p])
	}
	if n := len(subnets) - manyChanges; n > 0 {
		fmt.Fprintf(w, "%s more could not be visited\n", plural(n, "subnet"))
	}
	for _, text := range s.Differs {
		fmt.Fprintln(w, a.wrap(w, 2, "note: "+text))
	}
	if !s.First {
		a.printChanges(s.Changes)
	}
	open := 0
	for i := range devices {
		if devices[i].Configurable() && devices[i].InJob == device.Undecided && !devices[i].NotOurs && devices[i].SetUpBy == "" {
			open++
		}
	}
	if open > 0 {
		fmt.Fprintf(w, "Next: janustat take all   (%s ready to be taken)\n", plural(open, "device"))
	}
	return nil
}

// printUnread names the devices that did not answer when they were asked what they are.
func (a *App) printUnread(s *work.Surveyed) {
	w := a.Out
	for _, u := range s.Found.Unread {
		fmt.Fprintf(w, "%s  %s\n", a.paint(w, workStyle, "unread"), a.wrap(w, 8, fmt.Sprintf("%s at %s is a device by its answer to discovery, and did not answer when it was asked what it is: it may be starting, or busy. Run %s again.", u.MAC, u.Address, "`janustat survey`")))
	}
}

// printMute names who looks like a device and answers nothing.
func (a *App) printMute(devices []device.Device) {
	var where []string
	for i := range devices {
		if d := &devices[i]; d.Access == device.Mute && d.InJob == device.Undecided && !d.NotOurs {
			where = append(where, fmt.Sprintf("%s (%s)", addressText(d.Address()), d.MAC))
		}
	}
	if len(where) > 0 {
		w := a.Out
		fmt.Fprintf(w, "%s  %s\n", a.paint(w, workStyle, "mute   "), a.wrap(w, 9, fmt.Sprintf("%s: looks like a device by its open ports, and answers no protocol that it could be set up by. If it is the site's: look at its page, then `janustat take MAC --kind camera`; you set it up by hand. If not: `janustat leave MAC`.", strings.Join(where, ", "))))
	}
}

// printUnasked says what the survey could not ask, and so knows nothing of.
func (a *App) printUnasked(found *survey.Findings) {
	w := a.Out
	line := func(text string) {
		fmt.Fprintf(w, "%s  %s\n", a.paint(w, workStyle, "unheard"), a.wrap(w, 9, text))
	}
	if found.Unshown {
		line("Nobody answered a question to everyone, though hosts were heard: the switch has most likely shut this port. Wait a minute, then run `janustat survey` again: it asks slowly from the start. If nothing changes, use another port of the switch.")
	} else if found.Broadcast > 0 {
		line(fmt.Sprintf("The switch passes only so many questions to everyone (storm control), so that %d a second were asked. Later commands keep to that.", int(found.Broadcast)))
	}
	if len(found.Unasked) > 0 && !found.Unshown {
		var where []string
		for _, u := range found.Unasked {
			where = append(where, fmt.Sprintf("%s (%d)", u.Subnet, u.Addresses))
		}
		line(fmt.Sprintf("Not asked, by addresses: %s. A host there that does not speak by itself was not seen. To ask there too: `janustat survey --for 2m`.", strings.Join(where, ", ")))
	}
	if found.CutOff {
		line("The survey took too long and was ended: there may be more. Run `janustat survey` again.")
	}
}

// printFloods names who says more than any honest host.
func (a *App) printFloods(s *work.Surveyed) {
	w := a.Out
	for _, f := range s.Found.Floods {
		fmt.Fprintf(w, "%s  %s\n", a.paint(w, badStyle, "flood "), a.wrap(w, 8, floodText(f)))
	}
	if s.Crowd > 0 {
		fmt.Fprintf(w, "%s  %s\n", a.paint(w, badStyle, "crowd "), a.wrap(w, 8, fmt.Sprintf("%d more hosts were heard that say nothing of themselves; they are not listed or kept", s.Crowd)))
	}
}

func floodText(f survey.Flood) string {
	if f.MAC.IsZero() && !f.Address.IsValid() {
		return f.What + ". Somebody forges them: find their port in the switch's MAC table, and ask whoever runs the network to shut it."
	}
	if f.Address.IsValid() {
		return fmt.Sprintf("%s %s: one device that uses many names. The others there are known by their MACs all the same.", f.Who(), f.What)
	}
	return fmt.Sprintf("%s %s: this is not normal, and the rest is ignored. Find its port in the switch's MAC table, and ask whoever runs the network to shut it.", f.Who(), f.What)
}

// printLAN says in plain words what is wrong with the LAN, or worth knowing.
func (a *App) printLAN(devices []device.Device, found *survey.Findings) {
	w := a.Out
	for _, o := range found.Offers {
		text := fmt.Sprintf("DHCP server %s (%s) offers %s, gateway %s", o.Server, o.ServerMAC, o.Subnet, addressText(o.Gateway))
		if len(o.DNS) > 0 {
			text += ", DNS " + ground.List(o.DNS)
		}
		if len(o.NTP) > 0 {
			text += ", NTP " + ground.List(o.NTP)
		}
		if o.LeaseS > 0 {
			text += ", for " + roundText(time.Duration(o.LeaseS)*time.Second)
		}
		fmt.Fprintln(w, text)
	}
	if len(found.Offers) > 1 {
		fmt.Fprintln(w, a.paint(w, badStyle, fmt.Sprintf("%d DHCP servers answer", len(found.Offers)))+": devices get addresses at random from either. Ask who runs the network which one is right; then disconnect the other.")
	}
	counts := map[device.Condition]int{}
	groups, bystanders := map[netip.Addr]int{}, map[netip.Addr]int{}
	for i := range devices {
		if d := &devices[i]; d.Kind != device.Other || d.Condition == device.Bare {
			counts[d.Condition]++
		}
		if len(devices[i].Clashing) > 0 {
			if groups[devices[i].Address()]++; devices[i].Kind == device.Other {
				bystanders[devices[i].Address()]++
			}
		}
	}
	clashing := make([]netip.Addr, 0, len(groups))
	for x := range groups {
		clashing = append(clashing, x)
	}
	slices.SortFunc(clashing, netip.Addr.Compare)
	const many = 3 // one after another; more are summed up
	if plain := slices.DeleteFunc(slices.Clone(clashing), func(x netip.Addr) bool { return bystanders[x] > 0 }); len(plain) > many {
		sharing := 0
		for _, x := range plain {
			sharing += groups[x]
		}
		text := fmt.Sprintf("%d devices share %d addresses (%s). Leave them all plugged in: `commission` gives each its own address", sharing, len(plain), strings.ReplaceAll(ground.List(plain), " ", ", "))
		fmt.Fprintf(w, "%s  %s\n", a.paint(w, badStyle, "clash "), a.wrap(w, 8, text))
		clashing = slices.DeleteFunc(clashing, func(x netip.Addr) bool { return bystanders[x] == 0 })
	}
	for _, x := range clashing {
		text := fmt.Sprintf("%s is shared by %d devices. Leave them all plugged in: `commission` gives each its own address", x, groups[x])
		if n := bystanders[x]; n > 0 {
			text = fmt.Sprintf("%s is shared by %s and %s. `commission` moves the device; it does not touch the other host", x, plural(groups[x]-n, "device"), plural(n, "other device"))
		}
		if bystanders[x] == groups[x] {
			text = fmt.Sprintf("%s answers for %d other devices: none of them is touched; whose are they?", x, groups[x])
		}
		fmt.Fprintf(w, "%s  %s\n", a.paint(w, badStyle, "clash "), a.wrap(w, 8, text))
	}
	for _, c := range []struct {
		condition device.Condition
		words     string
	}{
		{device.Stray, "in another subnet. `commission` can reach them; do not change the laptop's address"},
		{device.Adrift, "have only a 169.254 or fe80 address (they found no DHCP server). `commission` can reach them"},
		{device.Bare, "without any address. For each: `janustat take MAC --kind camera`; then `janustat allot` and `janustat lease`"},
	} {
		if n := counts[c.condition]; n > 0 {
			fmt.Fprintf(w, "%s  %s\n", a.paint(w, workStyle, fmt.Sprintf("%-6s", c.condition)), a.wrap(w, 8, plural(n, "device")+" "+c.words))
		}
	}
	for id, n := range found.VLANs {
		fmt.Fprintf(w, "%s  %s\n", a.paint(w, workStyle, "tagged"), a.wrap(w, 8, fmt.Sprintf("frames of VLAN %d (%d so far): this may be a trunk port. Devices in that VLAN cannot be reached from here. Ask whoever runs the network for an access port in it.", id, n)))
	}
}

// roundText writes a length of time without its empty parts.
func roundText(d time.Duration) string {
	text := d.String()
	for _, empty := range []string{"m0s", "h0m"} {
		if strings.HasSuffix(text, empty) {
			text = text[:len(text)-len(empty)+1]
		}
	}
	return text
}

// manyChanges is how many changes are printed before they are only counted.
const manyChanges = 12

func (a *App) printChanges(changes []device.Change) {
	counts := map[string]int{}
	for _, c := range changes {
		counts[c.What]++
	}
	if len(changes) == 0 {
		fmt.Fprintln(a.Out, "Nothing new or changed since the last survey, and everything answered.")
		return
	}
	var parts []string
	for _, what := range []string{"new", "gone", "back", "changed", "alarm"} {
		if n := counts[what]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, changeWord(what)))
		}
	}
	fmt.Fprintf(a.Out, "Since the last survey: %s\n", strings.Join(parts, ", "))
	for _, c := range changes {
		if c.What == "new" && counts["new"] > manyChanges {
			continue
		}
		if c.What == "alarm" {
			fmt.Fprintf(a.Out, "  %s     %s  %s\n", a.paint(a.Out, badStyle, "ALARM"), c.Label, a.wrap(a.Out, 4, c.Text+". No password is sent to it. If you reset or replaced it: `janustat restore "+c.Label+"`. If not, find out what it is"))
			continue
		}
		fmt.Fprintf(a.Out, "  %-9s %s  %s\n", changeWord(c.What), c.Label, c.Text)
	}
}

// changeWord shows a sort of change: what did not answer once may be restarting, and is not gone for that.
func changeWord(what string) string {
	if what == newsGone {
		return unanswered
	}
	return what
}

func orEmpty[T any](s []T) []T {
	if s == nil {
		return []T{}
	}
	return s
}
