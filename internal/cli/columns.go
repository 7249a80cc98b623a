package cli

import (
	"context"
	"encoding/csv"
	"fmt"
	"slices"
	"strings"
	"time"

	"janustat/core/device"
	"janustat/core/settings"
	"janustat/core/sheet"
	"janustat/core/text"
	"janustat/internal/job"
	"janustat/internal/store"
)

// row is a device beside what the job knows of it.
type row struct {
	*device.Device
	name  string // the job sheet's, else its own
	notes store.Notes
	news  string // new or gone, as of the last survey; else ""
}

// listColumn is a column that a list of devices can have.
type listColumn struct {
	key, about string
	column
	text func(*row) string
	cell func(*row) cell // where it is more than text
}

// listColumns are all of them; what is noted of devices can be a column as well.
var listColumns = []listColumn{
	{"tag", "its short name in the job", column{head: "TAG", ifAny: true}, func(r *row) string { return r.Tag }, nil},
	{"kind", "camera, recorder, intercom, panel or other", column{head: "KIND"}, func(r *row) string { return string(r.Kind) }, nil},
	{"name", "its name: in the job sheet, else on the device; of other devices the host name", column{head: "NAME", spare: 3, tightAt: 7, tight: tightName}, func(r *row) string { return r.name }, nil},
	{"make", "its manufacturer; in brackets whom its MAC belongs to", column{head: "MAKE", spare: 10}, func(r *row) string { return makeText(r.Device) }, nil},
	{"model", "as its manufacturer calls it", column{head: "MODEL", spare: 9}, func(r *row) string { return short(r.Model, maxWhat) }, nil},
	{"serial", "its manufacturer's number", column{head: "SERIAL", spare: 2}, func(r *row) string { return r.Serial }, nil},
	{"mac", "its MAC; the end of it where the screen is narrow", column{head: "MAC", tightAt: 8, tight: tightMAC}, func(r *row) string { return r.MAC.String() }, nil},
	{"address", "where it was met last", column{head: "ADDRESS"}, func(r *row) string { return addressText(r.Address()) }, nil},
	{"condition", "of its address", column{head: "CONDITION"}, func(r *row) string { return string(r.Condition) }, func(r *row) cell { return conditionCell(r.Condition) }},
	{"access", "whether and how it opens", column{head: "ACCESS"}, func(r *row) string { return string(r.Access) }, func(r *row) cell { return accessCell(r.Access) }},
	{"job", "taken, left, reset, ALARM or not ours", column{head: "JOB", ifAny: true, spare: 6}, func(r *row) string { return jobText(r.Device) }, nil},
	{"news", "new, or no answer, as of the last survey", column{head: "NEWS", ifAny: true}, func(r *row) string { return r.news }, func(r *row) cell {
		if r.news == newsGone {
			return styled(unanswered, &badStyle)
		}
		return styled(r.news, &goodStyle)
	}},
	{"allotted", "the address the job gives it", column{head: "ALLOTTED"}, func(r *row) string {
		if r.Allotted == nil {
			return ""
		}
		return addressText(r.Allotted.Address)
	}, nil},
	{"prefix", "bits of its mask", column{head: "PREFIX"}, func(r *row) string { return r.setting(func(s *device.Settings) string { return fmt.Sprint(s.Prefix) }) }, nil},
	{"gateway", "its gateway", column{head: "GATEWAY"}, func(r *row) string {
		return r.setting(func(s *device.Settings) string { return addressText(s.Gateway) })
	}, nil},
	{"dhcp", "yes where its address is leased", column{head: "DHCP"}, func(r *row) string {
		return r.setting(func(s *device.Settings) string { return map[bool]string{true: "yes", false: "no"}[s.DHCP] })
	}, nil},
	{"firmware", "its firmware", column{head: "FIRMWARE"}, func(r *row) string { return r.Firmware }, nil},
	{"host", "the name it goes by on the LAN", column{head: "HOST"}, func(r *row) string { return r.Host }, nil},
	{"ports", "open TCP ports", column{head: "PORTS"}, func(r *row) string { return portsText(r.Ports) }, nil},
	{"first", "when it was first seen", column{head: "FIRST SEEN"}, func(r *row) string { return localTime(r.FirstSeen) }, nil},
	{"seen", "when it was last seen", column{head: "LAST SEEN"}, func(r *row) string { return localTime(r.SeenAt) }, nil},
	{"proved", "when it last passed every check", column{head: "PROVED"}, func(r *row) string { return localTime(r.Proved) }, nil},
	{store.Place, "where it hangs, as noted", column{head: "PLACE"}, func(r *row) string { return r.notes[store.Place] }, nil},
	{store.Port, "the port of the switch, as noted", column{head: "PORT"}, func(r *row) string { return r.notes[store.Port] }, nil},
	{store.Remark, "a remark, as noted", column{head: "REMARK"}, func(r *row) string { return r.notes[store.Remark] }, nil},
}

func init() { // the settings that are folders of their own
	at := 1 + slices.IndexFunc(listColumns, func(c listColumn) bool { return c.key == "dhcp" })
	for _, s := range slices.Backward(settings.All) {
		key := strings.ReplaceAll(string(s.Name), " ", "_")
		listColumns = slices.Insert(listColumns, at, listColumn{key, "its " + s.Title, column{head: strings.ToUpper(string(s.Name)), spare: 12}, func(r *row) string { return r.Setting(s) }, nil})
	}
}

// listed are the columns that a list has where none are asked for.
var listed = []string{"tag", "kind", "name", "make", "model", "serial", "mac", "address", "condition", "access", "job", "news"}

func (r *row) setting(of func(*device.Settings) string) string {
	if r.Settings == nil {
		return ""
	}
	return of(r.Settings)
}

const (
	newsNew  = "new"
	newsGone = "gone"
	// unanswered is how that is shown: one silence is no more than that.
	unanswered = "no answer"
	// tightest is how short a name is cut where the screen is narrow, in characters.
	tightest = 14
)

func tightName(s string) string { return text.Cut(s, tightest) }

// tightMAC gives the end of a MAC, by which a device can be named as well.
func tightMAC(s string) string {
	const kept = len("00:01:02")
	if len(s) <= kept { // none
		return s
	}
	return "…" + s[len(s)-kept:]
}

// columnsFor gives the columns of these keys; noted are the fields that anything is noted
// under.
func columnsFor(keys, noted []string) ([]listColumn, error) {
	out := make([]listColumn, len(keys))
	for i, key := range keys {
		key = strings.ToLower(strings.TrimSpace(key))
		at := slices.IndexFunc(listColumns, func(c listColumn) bool { return c.key == key })
		switch {
		case at >= 0:
			out[i] = listColumns[at]
		case slices.Contains(noted, key):
			out[i] = listColumn{key, "noted", column{head: strings.ToUpper(key)}, func(r *row) string { return r.notes[key] }, nil}
		default:
			return nil, usagef("there is no column %q%s. Columns: %s, and any field that you added with `note`", key, text.Meant(key, append(columnKeys(), noted...)), strings.Join(columnKeys(), ", "))
		}
	}
	return out, nil
}

func columnKeys() []string {
	out := make([]string, len(listColumns))
	for i, c := range listColumns {
		out[i] = c.key
	}
	return out
}

// rows lays devices beside what the job knows of them.
func (a *App) rows(ctx context.Context, j *job.Job, all, devices []device.Device) ([]row, error) {
	notes, err := j.Register.Notes(ctx)
	if err != nil {
		return nil, err
	}
	first, last, err := j.Register.SurveySpan(ctx)
	if err != nil {
		return nil, err
	}
	among := j.Sheet.Among(all)
	out := make([]row, len(devices))
	for i := range devices {
		d := &devices[i]
		out[i] = row{Device: d, name: nameIn(among, d), notes: notes[d.ID], news: newsOf(d, first, last)}
	}
	return out, nil
}

// nameIn is what a device is called.
func nameIn(among sheet.Among, d *device.Device) string {
	switch name := among.NameFor(d); {
	case name != "":
		return name
	case d.Name != "":
		return d.Name
	case d.Model == "" && d.Wording() != "":
		return d.Wording() // the name a bystander goes by, or what a DHCP client says it is
	}
	return d.Host
}

// newsOf tells what the last survey had to say of a device; at the first one all is new,
// and nothing is news.
func newsOf(d *device.Device, first, last time.Time) string {
	switch {
	case last.IsZero() || first.Equal(last):
		return ""
	case d.SeenAt.Before(last) && d.OpenedAt.Before(last):
		return newsGone
	case !d.FirstSeen.Before(last):
		return newsNew
	}
	return ""
}

// rowListing makes a table of rows with these columns.
func rowListing(rows []row, columns []listColumn) *listing {
	l := &listing{faint: map[int]bool{}}
	alarm := slices.ContainsFunc(rows, func(r row) bool { return r.Alarm != "" })
	tagged := slices.ContainsFunc(rows, func(r row) bool { return r.Tag != "" })
	for _, c := range columns {
		head := c.column
		switch {
		case c.key == "job" && alarm:
			head.spare = 0
		case c.key == "kind" && tagged:
			head.spare = 5 // the letter of a tag tells it
		}
		l.columns = append(l.columns, head)
	}
	for i := range rows {
		r := &rows[i]
		if r.Kind == device.Other && r.Condition != device.Bare || r.InJob == device.Left || r.NotOurs || r.Access == device.Sealed && r.InJob != device.Taken {
			l.faint[i] = true
		}
		cells := make([]cell, len(columns))
		for n, c := range columns {
			if c.cell != nil {
				cells[n] = c.cell(r)
			} else {
				cells[n] = plain(c.text(r))
			}
			cells[n].blank = c.ifAny
		}
		l.add(cells...)
	}
	return l
}

// showDevices writes the usual list of devices.
func (a *App) showDevices(ctx context.Context, j *job.Job, all, devices []device.Device) error {
	rows, err := a.rows(ctx, j, all, devices)
	if err != nil {
		return err
	}
	columns, err := columnsFor(listed, nil)
	if err != nil {
		return err
	}
	a.write(a.Out, rowListing(rows, columns))
	return nil
}

// writeCSV writes rows as comma-separated values (RFC 4180), the keys of the columns first.
// What a spreadsheet would run is marked as text.
func (a *App) writeCSV(rows []row, columns []listColumn) error {
	w := csv.NewWriter(a.Out)
	heads := make([]string, len(columns))
	for i, c := range columns {
		heads[i] = c.key
	}
	if err := w.Write(heads); err != nil {
		return err
	}
	for i := range rows {
		cells := make([]string, len(columns))
		for n, c := range columns {
			cells[n], _ = text.Inert(c.text(&rows[i]))
		}
		if err := w.Write(cells); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

// sortRows sorts by a column; "-" before its key turns it round.
func sortRows(rows []row, by string, noted []string) error {
	key, down := strings.CutPrefix(by, "-")
	c, err := columnsFor([]string{key}, noted)
	if err != nil {
		return err
	}
	slices.SortStableFunc(rows, func(x, y row) int {
		a, b := c[0].text(&x), c[0].text(&y)
		if (a == "") != (b == "") { // what is not known comes last, either way
			if a == "" {
				return 1
			}
			return -1
		}
		if down {
			a, b = b, a
		}
		return text.Natural(strings.ToLower(a), strings.ToLower(b))
	})
	return nil
}

// has reports whether any column, shown or not, has all the words in it.
func (r *row) has(words []string) bool {
	var all strings.Builder
	for _, c := range listColumns {
		all.WriteString(strings.ToLower(c.text(r)) + "\n")
	}
	for _, n := range r.notes {
		all.WriteString(strings.ToLower(n) + "\n")
	}
	for _, w := range words {
		if !strings.Contains(all.String(), strings.ToLower(w)) {
			return false
		}
	}
	return true
}
