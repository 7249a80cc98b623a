package handover

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"

	"janustat/core/device"
	"janustat/core/ground"
)

// XLSX writes the workbook: a sheet for each kind, one of the network and one of recorder
// channels. Text is text, whatever it begins with; times and numbers are what they are.
func (r Record) XLSX() ([]byte, error) {
	f := excelize.NewFile()
	defer f.Close()
	stamp := r.Made.Format(time.RFC3339)
	if err := f.SetDocProps(&excelize.DocProperties{Creator: "Janustat", Title: r.Site, Created: stamp, Modified: stamp, LastModifiedBy: "Janustat"}); err != nil {
		return nil, err
	}
	b := book{file: f}
	var err error
	if b.head, err = f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}, Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"#E0E7F0"}}}); err != nil {
		return nil, err
	}
	format := "yyyy-mm-dd hh:mm"
	if b.time, err = f.NewStyle(&excelize.Style{CustomNumFmt: &format}); err != nil {
		return nil, err
	}
	for _, kind := range device.Kinds {
		if err := b.kind(r, kind); err != nil {
			return nil, err
		}
	}
	if err := b.network(r); err != nil {
		return nil, err
	}
	if err := b.channels(r); err != nil {
		return nil, err
	}
	if err := b.checks(r); err != nil {
		return nil, err
	}
	if err := b.siteSheet(r); err != nil {
		return nil, err
	}
	if err := b.summary(r); err != nil {
		return nil, err
	}
	if err := f.DeleteSheet("Sheet1"); err != nil {
		return nil, err
	}
	f.SetActiveSheet(0)
	var out bytes.Buffer
	if err := f.Write(&out); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

type book struct {
	file       *excelize.File
	head, time int
}

// sheet writes a table with a frozen head that can be filtered.
func (b *book) sheet(name string, head []string, rows [][]any) error {
	if _, err := b.file.NewSheet(name); err != nil {
		return err
	}
	wide := make([]int, len(head))
	for i, h := range head {
		cell, err := excelize.CoordinatesToCellName(i+1, 1)
		if err != nil {
			return err
		}
		if err := b.file.SetCellStr(name, cell, h); err != nil {
			return err
		}
		wide[i] = len([]rune(h))
	}
	for n, row := range rows {
		for i, v := range row {
			if err := b.cell(name, i+1, n+2, v); err != nil {
				return err
			}
			wide[i] = max(wide[i], len([]rune(fmt.Sprint(v))))
		}
	}
	last, err := excelize.ColumnNumberToName(len(head))
	if err != nil {
		return err
	}
	if err := b.file.SetCellStyle(name, "A1", last+"1", b.head); err != nil {
		return err
	}
	for i, w := range wide {
		col, err := excelize.ColumnNumberToName(i + 1)
		if err != nil {
			return err
		}
		if err := b.file.SetColWidth(name, col, col, float64(min(max(w+2, 8), 48))); err != nil {
			return err
		}
	}
	if err := b.file.AutoFilter(name, fmt.Sprintf("A1:%s%d", last, len(rows)+1), nil); err != nil {
		return err
	}
	return b.file.SetPanes(name, &excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"})
}

// cell writes a value as what it is: text never as a formula.
func (b *book) cell(sheet string, col, row int, v any) error {
	at, err := excelize.CoordinatesToCellName(col, row)
	if err != nil {
		return err
	}
	switch v := v.(type) {
	case string:
		return b.file.SetCellStr(sheet, at, v)
	case time.Time:
		if err := b.file.SetCellValue(sheet, at, v); err != nil {
			return err
		}
		return b.file.SetCellStyle(sheet, at, at, b.time)
	case nil:
		return nil
	}
	return b.file.SetCellValue(sheet, at, v)
}

// kindSheets are the names of the sheets.
var kindSheets = map[device.Kind]string{device.Camera: "Cameras", device.Recorder: "Recorders", device.Intercom: "Intercoms", device.Panel: "Panels", device.Other: "Others"}

func (b *book) kind(r Record, kind device.Kind) error {
	fields := r.Fields()
	var head []string
	for _, c := range columns {
		if c.title != "" {
			head = append(head, c.title)
		}
	}
	var rows [][]any
	for _, e := range r.Devices {
		if e.Kind != kind {
			continue
		}
		var row []any
		for _, c := range columns {
			if c.title != "" {
				row = append(row, c.value(&e))
			}
		}
		for _, f := range fields {
			row = append(row, e.Own[f])
		}
		rows = append(rows, row)
	}
	if len(rows) == 0 {
		return nil
	}
	return b.sheet(kindSheets[kind], append(head, fields...), rows)
}

func (b *book) network(r Record) error {
	var rows [][]any
	add := func(what, value, from string) {
		if value != "" {
			rows = append(rows, []any{what, value, from})
		}
	}
	if g := r.Ground; g.Subnet.IsValid() {
		add("Subnet", g.Subnet.String(), g.SubnetFrom)
		add("Mask", ground.Mask(g.Subnet.Bits()).String(), "")
		if g.Gateway.IsValid() {
			add("Gateway", g.Gateway.String(), g.GatewayFrom)
		}
		add("DNS", ground.List(g.DNS), g.DNSFrom)
		add("NTP", ground.List(g.NTP), g.NTPFrom)
	}
	for _, s := range r.Spans {
		add("Kept clear", spanText(s), s.Why)
	}
	for _, e := range r.Devices {
		add(e.Tag, e.Address, e.Name)
	}
	return b.sheet("Network", []string{"What", "Value", "From, or name"}, rows)
}

func spanText(s Span) string {
	if s.From == s.To {
		return s.From.String()
	}
	return s.From.String() + " to " + s.To.String()
}

func (b *book) channels(r Record) error {
	if len(r.Channels) == 0 {
		return nil
	}
	var rows [][]any
	for _, c := range sortedChannels(r.Channels) {
		rows = append(rows, []any{c.Recorder, c.Number, c.Camera, c.Name, c.Address, c.State})
	}
	return b.sheet("Channels", []string{"Recorder", "Channel", "Camera", "Name", "Address", "State"}, rows)
}

// checks lists each check of each device.
func (b *book) checks(r Record) error {
	var rows [][]any
	for _, e := range r.Devices {
		for _, c := range e.Checks {
			var at any
			if e.Checked != nil {
				at = *e.Checked
			}
			rows = append(rows, []any{e.Tag, c.Check, c.Result, c.Expected, c.Found, at})
		}
	}
	if len(rows) == 0 {
		return nil
	}
	return b.sheet("Checks", []string{"Tag", "Check", "Result", "Expected", "Found", "Checked"}, rows)
}

// siteSheet has the facts of the site as a whole, which are read back.
func (b *book) siteSheet(r Record) error {
	var rows [][]any
	for _, f := range r.siteFacts() {
		rows = append(rows, []any{f.Name, f.Value})
	}
	return b.sheet("Site", []string{"What", "Value"}, rows)
}

// summary is the verdict, and what is open.
func (b *book) summary(r Record) error {
	rows := [][]any{{"", "verdict", r.Verdict.Words, "", "", "", nil}}
	for _, i := range r.Items {
		var at any
		if !i.Since.IsZero() {
			at = i.Since
		}
		rows = append(rows, []any{i.Device, string(i.What), i.Text, i.Check, i.Expected, i.Found, at})
	}
	return b.sheet("Open", []string{"Device", "What", "Text", "Check", "Expected", "Found", "Since"}, rows)
}

func sortedChannels(list []Channel) []Channel {
	out := slices.Clone(list)
	slices.SortStableFunc(out, func(a, b Channel) int {
		if c := strings.Compare(a.Recorder, b.Recorder); c != 0 {
			return c
		}
		return a.Number - b.Number
	})
	return out
}
