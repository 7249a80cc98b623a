package handover

import (
	"bytes"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"iter"
	"slices"
	"strings"
	"sync"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/open"
	"janustat/core/settings"
)

//go:embed handover.html.tmpl
var page string

var pageTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("handover").Funcs(template.FuncMap{
		"join": strings.Join, "mask": func(n int) string { return ground.Mask(n).String() }, "list": ground.List, "plural": kindWord,
	}).Parse(page))
})

// kindWord is a kind's name for a heading.
func kindWord(k device.Kind) string { return kindSheets[k] }

// HTML writes the record as one page that needs nothing else: it is read without a network
// and without scripts, which only sort its tables.
func (r Record) HTML(o Options) ([]byte, error) {
	type group struct {
		Kind    device.Kind
		Devices []Entry
		Has     map[string]bool // columns that are not empty
		Fields  []string        // of the installer's own
	}
	var groups []group
	for _, k := range device.Kinds {
		g := group{Kind: k, Has: map[string]bool{}}
		for _, e := range r.Devices {
			if e.Kind == k {
				g.Devices = append(g.Devices, e)
				for column, filled := range map[string]bool{"place": e.Place != "", "port": e.Port != "", "remark": e.Remark != "", "joined": len(e.Joined) > 0 || e.Stream != ""} {
					g.Has[column] = g.Has[column] || filled
				}
			}
		}
		g.Fields = (&Record{Devices: g.Devices}).Fields()
		if len(g.Devices) > 0 {
			groups = append(groups, g)
		}
	}
	stills := map[string]template.URL{}
	for tag, jpeg := range o.Stills {
		stills[tag] = template.URL("data:image/jpeg;base64," + base64.StdEncoding.EncodeToString(jpeg)) //nolint:gosec // base64 of ours
	}
	var b bytes.Buffer
	err := pageTemplate().Execute(&b, map[string]any{
		"R": r, "Groups": groups, "Stills": stills, "Facts": factsOf, "Security": r.securityRows(), "SecurityHeads": securityHeads(), "SecurityLines": r.securityLines(), "Failing": r.failing(), "Rest": r.restLines(), "Channels": sortedChannels(r.Channels), "Found": foundText, "Custody": r.Custody(),
	})
	if err != nil {
		return nil, fmt.Errorf("page: %w", err)
	}
	return b.Bytes(), nil
}

// failing are the open items that come of checks, of silence and of changed identities: what
// did not answer, failed or was not checked.
func (r Record) failing() []OpenItem { return slices.Collect(r.items(true)) }

// rest are the other open items.
func (r Record) rest() []OpenItem { return slices.Collect(r.items(false)) }

// restLines are those, one line for all devices of which the same is so.
func (r Record) restLines() (out []string) {
	var order []string
	of := map[string][]string{}
	for _, i := range r.rest() {
		if of[i.Text] == nil {
			order = append(order, i.Text)
		}
		of[i.Text] = append(of[i.Text], i.Device)
	}
	for _, t := range order {
		who := of[t]
		line := strings.TrimSpace(strings.Join(who, " ") + " " + t)
		if len(who) > 1 {
			line = fmt.Sprintf("%d devices (%s): each %s", len(who), strings.Join(who, " "), t)
		}
		out = append(out, line)
	}
	return out
}

func (r Record) items(failing bool) iter.Seq[OpenItem] {
	return func(yield func(OpenItem) bool) {
		for _, i := range r.Items {
			bad := i.Urgency == open.Now.String() || i.What == open.Unproved
			if bad == failing && !yield(i) {
				return
			}
		}
	}
}

// fact is one line of what is known of a device.
type fact struct{ Name, Value string }

// factsOf gives all that the tables have of a device, as they have it.
func factsOf(e Entry) (out []fact) {
	for _, c := range columns {
		if v := c.shown(&e); v != "" && c.title != "" {
			out = append(out, fact{c.title, v})
		}
	}
	for _, f := range sortedKeys(e.Own) {
		out = append(out, fact{f, e.Own[f]})
	}
	return out
}

// foundAs tells what a device had when it was found that it does not have any more.
func foundAs(e Entry) string {
	var words []string
	if at := foundText(e); at != "" {
		words = append(words, at)
	}
	a, b := e.AsFound, e.AsLeft
	if a == nil || b == nil {
		return strings.Join(words, ", ")
	}
	if a.Name != b.Name && a.Name != "" {
		words = append(words, fmt.Sprintf("%q", a.Name))
	}
	if a.Gateway.IsValid() && a.Gateway != b.Gateway {
		words = append(words, "gateway "+a.Gateway.String())
	}
	before, after := a.All(), b.All()
	for _, s := range settings.All {
		if value := before[s.Name]; value != "" && value != after[s.Name] {
			words = append(words, s.Title+" "+value)
		}
	}
	return strings.Join(words, ", ")
}

// foundText tells where a device was found, where that is not where it was left.
func foundText(e Entry) string {
	if e.AsFound == nil || e.AsLeft == nil || e.AsFound.Address == e.AsLeft.Address {
		return ""
	}
	return foundAt(e.AsFound)
}
