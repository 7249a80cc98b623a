package handover

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"janustat/core/text"
)

// Difference is what one record has otherwise than an earlier one.
type Difference struct {
	Tag  string `json:"tag"`
	What string `json:"what"` // new, gone, or the field that differs
	From string `json:"from,omitempty"`
	To   string `json:"to,omitempty"`
}

// Compare tells what is otherwise in a later record, device by device: they are told by MAC,
// and those without one by tag. A replaced device keeps its tag, and is told as such.
func Compare(earlier, later Record) (out []Difference) {
	was := map[string]Entry{}
	byTag := map[string]Entry{}
	for _, e := range earlier.Devices {
		was[e.id()], byTag[e.Tag] = e, e
	}
	seen := map[string]bool{}
	for _, e := range later.Devices {
		old, ok := was[e.id()]
		if !ok {
			if replaced, same := byTag[e.Tag]; same && e.Tag != "" {
				out = append(out, Difference{e.Tag, "replaced", replaced.MAC.String(), e.MAC.String()})
				old, ok = replaced, true
			}
		}
		if !ok {
			out = append(out, Difference{Tag: e.Tag, What: "new", To: e.MAC.String()})
			continue
		}
		seen[old.id()] = true
		out = append(out, differences(earlier, later, old, e)...)
	}
	for _, e := range earlier.Devices {
		if !seen[e.id()] {
			out = append(out, Difference{Tag: e.Tag, What: "gone", From: e.MAC.String()})
		}
	}
	return append(out, siteDifferences(earlier, later)...)
}

// both reports whether both records know a column.
func both(a, b Record, column string) bool {
	return (a.knows == nil || a.knows[column]) && (b.knows == nil || b.knows[column])
}

// siteDifferences are those of the site as a whole, and of recorder channels.
func siteDifferences(a, b Record) (out []Difference) {
	facts := func(r Record) map[string]string {
		if r.site != nil {
			return r.site
		}
		out := map[string]string{}
		for _, f := range r.siteFacts() {
			out[f.Name] = f.Value
		}
		return out
	}
	was, is := facts(a), facts(b)
	for _, f := range (&Record{}).siteFacts() { // in their order
		from, had := was[f.Name]
		to, has := is[f.Name]
		if had && has && from != to {
			out = append(out, Difference{What: "site: " + strings.ToLower(f.Name), From: from, To: to})
		}
	}
	if len(a.site) == 0 && a.site != nil || len(b.site) == 0 && b.site != nil {
		return out // a table of devices alone knows of no channels
	}
	channels := func(r Record) map[[2]string]string {
		out := map[[2]string]string{}
		for _, c := range r.Channels {
			out[[2]string{c.Recorder, fmt.Sprintf("channel %d", c.Number)}] = c.Camera
		}
		return out
	}
	before, after := channels(a), channels(b)
	all := maps.Clone(before)
	maps.Copy(all, after)
	keys := slices.SortedFunc(maps.Keys(all), func(x, y [2]string) int { return cmp.Or(text.Natural(x[0], y[0]), text.Natural(x[1], y[1])) })
	for _, k := range keys {
		if before[k] != after[k] {
			out = append(out, Difference{k[0], k[1], before[k], after[k]})
		}
	}
	return out
}

func (e Entry) id() string {
	if e.MAC.IsZero() {
		return "tag " + e.Tag
	}
	return e.MAC.String()
}

// ofItself are columns that a device has told, and that are not known of one that was only taken
// over from a record.
var ofItself = []string{"access", "password", "password_held_by", "encryption", "stream", "accounts", "certificate", "ports", "services", "transport", "checks", "found_at", "joined"}

func differences(earlier, later Record, a, b Entry) (out []Difference) {
	yes := func(t *time.Time) string {
		if t == nil {
			return "no"
		}
		return "yes"
	}
	tell := func(what, from, to string) {
		if from != to {
			out = append(out, Difference{b.Tag, what, from, to})
		}
	}
	for _, c := range columns {
		if c.compared && both(earlier, later, c.name) && !((a.planned || b.planned) && slices.Contains(ofItself, c.name)) {
			tell(c.label(), c.plain(&a), c.plain(&b))
		}
	}
	if both(earlier, later, "proved_at") && !a.planned && !b.planned {
		tell("proved", yes(a.Proved), yes(b.Proved))
	}
	own := maps.Clone(a.Own)
	if own == nil {
		own = map[string]string{}
	}
	maps.Copy(own, b.Own)
	for _, field := range slices.Sorted(maps.Keys(own)) {
		tell(field, a.Own[field], b.Own[field])
	}
	return out
}

// Listed makes a record of what somebody's own list says of devices, a row each, by the names of
// columns. What a row leaves out is not known, and is as the other record has it of that device,
// which is found by its MAC, its serial number or, where the row has neither, its tag.
func Listed(rows []map[string]string, other Record) Record {
	out := Record{site: map[string]string{}}
	for _, row := range rows {
		at := slices.IndexFunc(other.Devices, func(e Entry) bool {
			switch {
			case row["mac"] != "":
				return e.MAC.String() == row["mac"]
			case row["serial"] != "":
				return strings.EqualFold(e.Serial, row["serial"])
			}
			return row["tag"] != "" && e.Tag == row["tag"]
		})
		e := Entry{Tag: row["tag"]}
		if at >= 0 {
			e = other.Devices[at]
			e.Joined, e.Accounts = slices.Clone(e.Joined), slices.Clone(e.Accounts)
		}
		for _, c := range columns {
			if v := row[c.name]; v != "" && c.set != nil && !(c.name == "serial" && strings.EqualFold(v, e.Serial)) && (at < 0 || c.name != "kind" && (c.name != "tag" || tagForm.MatchString(v))) { // which people call as they like
				c.set(&e, v)
			}
		}
		if e.MAC.IsZero() && e.Tag == "" {
			e.Tag = cmp.Or(e.Serial, e.Name) // by which it is shown
		}
		out.Devices = append(out.Devices, e)
	}
	out.harmless()
	return out
}
