package handover

import (
	"bytes"
	"cmp"
	"encoding/gob"
	"fmt"
	"slices"
	"strings"

	"codeberg.org/go-pdf/fpdf"

	"janustat/core/device"
	"janustat/core/text"
)

// title begins a page with a heading.
func (p *printer) title(words string) {
	p.AddPage()
	p.heading(words)
}

func (p *printer) heading(words string) {
	p.SetTextColor(20, 30, 45)
	p.SetFont(face, "B", 14)
	p.CellFormat(0, 8, fit(p, words, p.room()), "", 1, "L", false, 0, "")
	p.Ln(1)
	p.SetFont(face, "", 10)
}

// result tells the verdict, and what did not pass.
func (r Record) result(p *printer) {
	p.SetFont(face, "B", 12)
	p.MultiCell(0, 6.5, printable(r.Verdict.Words), "", "L", false)
	p.SetFont(face, "", 10)
	for _, line := range r.Custody() {
		p.CellFormat(0, lineStep, fit(p, line, p.room()), "", 1, "L", false, 0, "")
	}
	good := 0
	for _, c := range r.Channels {
		if c.State == "connected" {
			good++
		}
	}
	if len(r.Channels) > 0 {
		p.CellFormat(0, lineStep, fmt.Sprintf("Recorder channels: %d, of which %d connected.", len(r.Channels), good), "", 1, "L", false, 0, "")
	}
}

// failed is the table of what did not answer, failed or was not checked.
func (r Record) failed(p *printer) {
	rows := r.failing()
	if len(rows) == 0 {
		return
	}
	p.Ln(3)
	columns := []struct {
		head string
		wide float64
		of   func(OpenItem) string
	}{
		{"Device", 0.09, func(i OpenItem) string { return i.Device }},
		{"Check", 0.12, func(i OpenItem) string { return cmp.Or(i.Check, string(i.What)) }},
		{"Expected", 0.28, func(i OpenItem) string { return i.Expected }},
		{"Found", 0.36, func(i OpenItem) string {
			if i.Check == "" {
				return i.Text
			}
			return i.Found
		}},
		{"Date", 0.15, func(i OpenItem) string {
			if i.Since.IsZero() {
				return ""
			}
			return i.Since.Format("2006-01-02 15:04 UTC")
		}},
	}
	head := func() {
		p.SetFont(face, "B", 9)
		p.SetFillColor(244, 224, 222)
		for _, c := range columns {
			p.CellFormat(c.wide*p.room(), lineStep+0.8, c.head, "", 0, "L", true, 0, "")
		}
		p.Ln(-1)
		p.SetFont(face, "", 9)
	}
	p.SetDrawColor(205, 213, 224)
	head()
	for _, i := range rows {
		cells, wide := make([]string, len(columns)), make([]float64, len(columns))
		for n, c := range columns {
			cells[n], wide[n] = c.of(i), c.wide*p.room()
		}
		p.row(cells, wide, head)
	}
}

// row writes one row of a table, as tall as its longest cell: nothing is cut off. head is
// written anew on each page.
func (p *printer) row(cells []string, wide []float64, head func()) {
	lines, tall := make([][]string, len(cells)), 1
	for n, c := range cells {
		lines[n] = p.lines(c, wide[n]-2)
		tall = max(tall, len(lines[n]))
	}
	if p.full(float64(tall) * lineStep) {
		p.AddPage()
		head()
	}
	y, x := p.GetY(), float64(margin)
	for n := range cells {
		for k, line := range lines[n] {
			p.SetXY(x, y+float64(k)*lineStep)
			p.CellFormat(wide[n], lineStep, line, "", 0, "L", false, 0, "")
		}
		x += wide[n]
	}
	y += float64(tall) * lineStep
	p.Line(margin, y, p.wide-margin, y)
	p.SetXY(margin, y)
}

// maxParagraph bounds a text that is written in as many lines as it takes, in characters.
const maxParagraph = 16000

// lines parts a text into lines of a width.
func (p *printer) lines(s string, wide float64) []string {
	if out := p.SplitText(printable(text.Harmless(s, maxParagraph, nil)), wide); len(out) > 0 {
		return out
	}
	return []string{""}
}

// checkPages have, for each device, all that is known of it, and each of its checks.
func (r Record) checkPages(p *printer) {
	p.title("Details and checks")
	for _, e := range r.Devices {
		if p.full(7 * lineStep) {
			p.AddPage()
		}
		p.SetFont(face, "B", 10)
		p.SetTextColor(20, 30, 45)
		p.CellFormat(0, lineStep+1, fit(p, strings.TrimSpace(e.Tag+"  "+e.Name), p.room()), "B", 1, "L", false, 0, "")
		var facts []string
		for _, f := range factsOf(e) {
			if f.Name != "Tag" && f.Name != "Name" && f.Name != "Checks" {
				facts = append(facts, f.Name+": "+f.Value)
			}
		}
		p.SetFont(face, "", 8.5)
		p.paragraph(strings.Join(facts, " · "))
		var passed []string
		for _, c := range e.Checks {
			if c.Result == "passed" {
				passed = append(passed, strings.TrimSpace(c.Check+" "+c.Found))
			}
		}
		if len(passed) > 0 {
			p.paragraph("Checks passed: " + strings.Join(passed, ", "))
		}
		for _, c := range e.Checks {
			if c.Result != "passed" {
				p.paragraph(fmt.Sprintf("Check %s %s: expected %s, found %s", c.Check, c.Result, cmp.Or(c.Expected, "–"), cmp.Or(c.Found, "–")))
			}
		}
		if len(e.Checks) == 0 {
			p.paragraph("Not checked.")
		}
		p.Ln(2)
	}
}

// paragraph writes a text in as many lines as it takes.
func (p *printer) paragraph(s string) {
	for _, line := range p.lines(s, p.room()-2) {
		if p.full(lineStep) {
			p.AddPage()
			p.SetFont(face, "", 8.5)
			p.SetTextColor(20, 30, 45)
		}
		p.CellFormat(0, lineStep-0.6, line, "", 1, "L", false, 0, "")
	}
}

// Sizes of a device's card, in millimetres: three stand on a page.
const (
	cardTall = 55.0
	cardStep = 4.6
)

// devicePages have a card for each device, by kind.
func (r Record) devicePages(p *printer, stills map[string][]byte) error {
	for _, kind := range device.Kinds {
		first := true
		for _, e := range r.Devices {
			if e.Kind != kind {
				continue
			}
			if first {
				p.title(kindSheets[kind])
			} else if p.full(cardTall) {
				p.AddPage()
			}
			first = false
			if err := p.card(e, stills[e.Tag]); err != nil {
				return err
			}
		}
	}
	return nil
}

// card draws one device: what it is at the left, where it is in the middle, its picture at
// the right.
func (p *printer) card(e Entry, still []byte) error {
	y := p.GetY()
	p.SetDrawColor(205, 213, 224)
	p.Line(margin, y, p.wide-margin, y)
	p.SetTextColor(20, 30, 45)
	p.SetFont(face, "B", 13)
	p.SetXY(margin, y+1.5)
	p.CellFormat(0, 6.5, fit(p, strings.TrimSpace(e.Tag+"  "+e.Name), p.room()), "", 1, "L", false, 0, "")
	third := p.room() / 3
	left := [][2]string{{"Place", e.Place}, {"Manufacturer, model", strings.TrimSpace(e.Make + " " + e.Model)}, {"Serial", e.Serial}, {"MAC", e.MAC.String()}, {"Firmware", e.Firmware}, {"Remark", e.Remark}}
	for _, f := range sortedKeys(e.Own) {
		left = append(left, [2]string{f, e.Own[f]})
	}
	proved := "not proved"
	if e.Proved != nil {
		proved = e.Proved.Format("2006-01-02 15:04 UTC")
	}
	right := [][2]string{
		{"Address", e.Address},
		{"Mask", e.Mask},
		{"Gateway", e.Gateway},
		{"Found as", foundAs(e)},
		{"Switch port", e.Port},
		{"Stream", e.Stream},
		{"Password", e.Custody},
		{"Proved", proved},
	}
	for i, j := range e.Joined { // a line each
		right = append(right, [2]string{map[bool]string{true: "Joined", false: " "}[i == 0], j})
	}
	top := p.GetY()
	p.facts(left, margin, top, third)
	p.facts(right, margin+third, top, third)
	if still != nil {
		name := "still " + e.Tag
		info := p.RegisterImageOptionsReader(name, fpdf.ImageOptions{ImageType: "JPEG"}, bytes.NewReader(still))
		if p.Error() != nil {
			return fmt.Errorf("picture of %s: %w", e.Tag, p.Error())
		}
		if err := p.inOrder(info); err != nil {
			return fmt.Errorf("picture of %s: %w", e.Tag, err)
		}
		wide := third - 6
		tall := wide * info.Height() / info.Width()
		if most := cardTall - 12; tall > most {
			wide, tall = wide*most/tall, most
		}
		p.ImageOptions(name, p.wide-margin-wide, top, wide, tall, false, fpdf.ImageOptions{ImageType: "JPEG"}, 0, "")
	}
	p.SetXY(margin, y+cardTall)
	return nil
}

// inOrder has pictures written in the order in which they were drawn: the library sorts them by
// their width alone, and those of one width by chance. Each is made a little wider than the one
// before it, by far less than the pixels that are written.
func (p *printer) inOrder(info *fpdf.ImageInfoType) error {
	data, err := info.GobEncode()
	if err != nil {
		return err
	}
	var f struct {
		data, smask, pal []byte
		n, bpc           int
		w, h, scale, dpi float64
		cs, filter, dp   string
		trns             []int
	}
	fields := []any{&f.data, &f.smask, &f.n, &f.w, &f.h, &f.cs, &f.pal, &f.bpc, &f.filter, &f.dp, &f.trns, &f.scale, &f.dpi}
	in := gob.NewDecoder(bytes.NewReader(data))
	for _, x := range fields {
		if err := in.Decode(x); err != nil {
			return err
		}
	}
	const step = 1e-5
	p.pictures++
	f.w += step * float64(p.pictures)
	var out bytes.Buffer
	enc := gob.NewEncoder(&out)
	for _, x := range fields {
		if err := enc.Encode(x); err != nil {
			return err
		}
	}
	return info.GobDecode(out.Bytes())
}

// facts writes names and values below each other; what is empty has no line, and what does not
// fit on a card is on the page of details.
func (p *printer) facts(list [][2]string, x, y, wide float64) {
	const name = 25.0
	bottom := y + cardTall - 9
	for _, f := range list {
		p.SetFont(face, "", 9)
		lines := p.lines(f[1], wide-name-3)
		if f[1] == "" || y+float64(len(lines))*cardStep > bottom {
			continue
		}
		p.SetXY(x, y)
		p.SetFont(face, "", 8)
		p.SetTextColor(95, 105, 118)
		p.CellFormat(name, cardStep, fit(p, f[0], name-1), "", 0, "L", false, 0, "")
		p.SetFont(face, "", 9)
		p.SetTextColor(20, 30, 45)
		for _, line := range lines {
			p.SetXY(x+name, y)
			p.CellFormat(wide-name-2, cardStep, line, "", 0, "L", false, 0, "")
			y += cardStep
		}
	}
}

func sortedKeys(m map[string]string) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// signPage has room for who hands over and who takes over.
func (r Record) signPage(p *printer) {
	p.title("Handed over")
	p.SetFont(face, "", 10)
	p.MultiCell(0, lineStep, printable(fmt.Sprintf("This record has %s, as of %s. %s", text.Plural(len(r.Devices), "device"), r.Made.Format("2006-01-02 15:04 UTC"), r.Verdict.Words)), "", "L", false)
	p.Ln(2)
	for _, box := range []string{"Devices and documents of this record handed over", "Passwords handed over, separately", "Accepted as it is described here"} {
		y := p.GetY()
		p.SetDrawColor(60, 70, 84)
		p.Rect(margin+1, y+0.8, 3.6, 3.6, "D")
		p.SetXY(margin+6, y)
		p.CellFormat(0, 5.4, box, "", 1, "L", false, 0, "")
	}
	half := (p.room() - 20) / 2
	for i, who := range []string{"Handed over by", "Taken over by"} {
		x := margin + float64(i)*(half+20)
		for j, what := range []string{"Name", "Company", "Date", "Signature"} {
			y := 84 + float64(j)*23
			p.SetDrawColor(80, 90, 104)
			p.Line(x, y, x+half, y)
			p.SetXY(x, y+1)
			p.CellFormat(half, 5, who+": "+strings.ToLower(what), "", 0, "L", false, 0, "")
		}
	}
}
