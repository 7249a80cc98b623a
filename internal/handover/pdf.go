package handover

import (
	"bytes"
	"fmt"
	"net/netip"
	"sort"
	"strings"
	"sync"
	"unicode/utf8"

	"codeberg.org/go-fonts/dejavu/dejavusans"
	"codeberg.org/go-fonts/dejavu/dejavusansbold"
	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/sfnt"

	"janustat/core/ground"
	"janustat/core/text"
)

// Measures of the printed record, in millimetres; it lies across the paper.
const (
	margin   = 12.0
	lineStep = 5.6
	footRoom = 16.0
	face     = "dejavu"
)

// printer draws on pages of one size.
type printer struct {
	*fpdf.Fpdf
	wide, tall float64
	pictures   int // that were drawn
}

// room is the width between the margins.
func (p *printer) room() float64 { return p.wide - 2*margin }

// full reports whether so much does not fit on the page any more.
func (p *printer) full(tall float64) bool { return p.GetY()+tall > p.tall-footRoom }

// tableColumn is one column of the printed table.
type tableColumn struct {
	head string
	wide float64
	of   func(Entry) string
}

var tableColumns = []tableColumn{
	{"Tag", 11, func(e Entry) string { return e.Tag }},
	{"Kind", 18, func(e Entry) string { return string(e.Kind) }},
	{"Name", 43, func(e Entry) string { return e.Name }},
	{"Manufacturer, model", 46, func(e Entry) string { return strings.TrimSpace(e.Make + " " + e.Model) }},
	{"Serial", 30, func(e Entry) string { return e.Serial }},
	{"MAC", 34, func(e Entry) string { return e.MAC.String() }},
	{"Firmware", 19, func(e Entry) string { return e.Firmware }},
	{"Address", 25, func(e Entry) string { return e.Address }},
	{"Found at", 33, func(e Entry) string {
		if e.AsFound != nil && e.AsFound.DHCP {
			return e.AsFound.Address.String() + " DHCP"
		}
		return foundAt(e.AsFound)
	}},
	{"Proved", 14, func(e Entry) string {
		if e.Proved == nil {
			return "no"
		}
		return "yes"
	}},
}

// PDF writes the printable record. The same record gives the same bytes.
func (r Record) PDF(o Options) ([]byte, error) {
	p := &printer{Fpdf: fpdf.New("L", "mm", string(o.Paper), "")}
	p.tall, p.wide = o.Paper.size()
	p.SetCreationDate(r.Made)
	p.SetModificationDate(r.Made)
	p.SetCatalogSort(true)
	p.AddUTF8FontFromBytes(face, "", dejavusans.TTF)
	p.AddUTF8FontFromBytes(face, "B", dejavusansbold.TTF)
	site := printable(text.Harmless(r.Site, maxTitle, nil))
	p.SetTitle("Handover record: "+site, true)
	p.SetMargins(margin, margin, margin)
	p.SetAutoPageBreak(false, margin)
	p.AliasNbPages("")
	p.SetFooterFunc(func() {
		p.SetY(-margin)
		p.SetFont(face, "", 8)
		p.SetTextColor(110, 110, 110)
		p.CellFormat(0, 5, fmt.Sprintf("%s · handover record of %s · page %d of {nb}", site, r.Made.Format("2006-01-02 15:04 UTC"), p.PageNo()), "", 0, "C", false, 0, "")
	})
	p.AddPage()
	r.head(p)
	r.result(p)
	r.failed(p)
	r.stillOpen(p)
	r.transport(p)
	r.networkPage(p)
	r.tablePage(p)
	r.channelPage(p)
	r.securityPage(p)
	if err := r.devicePages(p, o.Stills); err != nil {
		return nil, err
	}
	r.checkPages(p)
	r.signPage(p)
	var b bytes.Buffer
	if err := p.Output(&b); err != nil {
		return nil, fmt.Errorf("handover.pdf: %w", err)
	}
	return b.Bytes(), nil
}

func (r Record) head(p *printer) {
	p.SetTextColor(20, 30, 45)
	p.SetFont(face, "B", 19)
	p.CellFormat(0, 9, fit(p, r.Site, p.room()), "", 1, "L", false, 0, "")
	p.SetFont(face, "", 11)
	p.CellFormat(0, 6, "Handover record, "+r.Made.Format("2006-01-02"), "", 1, "L", false, 0, "")
	p.Ln(2)
	p.SetFont(face, "", 10)
	if r.Ground.Subnet.IsValid() {
		network := fmt.Sprintf("Network %s, mask %s", r.Ground.Subnet, ground.Mask(r.Ground.Subnet.Bits()))
		if r.Ground.Gateway.IsValid() {
			network += ", gateway " + r.Ground.Gateway.String()
		}
		for _, servers := range []struct {
			what string
			list []netip.Addr
		}{{"DNS", r.Ground.DNS}, {"NTP", r.Ground.NTP}} {
			if len(servers.list) > 0 {
				network += ", " + servers.what + " " + ground.List(servers.list)
			}
		}
		p.CellFormat(0, lineStep, network, "", 1, "L", false, 0, "")
	}
	count := fmt.Sprintf("%d devices", len(r.Devices))
	for i, c := range r.Counts() {
		separator := ", "
		if i == 0 {
			separator = ": "
		}
		word := string(c.Kind)
		if c.N != 1 {
			word += "s"
		}
		count += fmt.Sprintf("%s%d %s", separator, c.N, word)
	}
	p.CellFormat(0, lineStep, count, "", 1, "L", false, 0, "")
	p.CellFormat(0, lineStep, "Passwords are not in this record.", "", 1, "L", false, 0, "")
	p.Ln(3)
}

// tablePage is the list of all devices.
func (r Record) tablePage(p *printer) {
	p.title("Devices")
	var all float64
	for _, c := range tableColumns {
		all += c.wide
	}
	scale := p.room() / all
	heading := func() {
		p.SetFont(face, "B", 9)
		p.SetFillColor(224, 231, 240)
		p.SetTextColor(20, 30, 45)
		for _, c := range tableColumns {
			p.CellFormat(c.wide*scale, lineStep+0.8, c.head, "", 0, "L", true, 0, "")
		}
		p.Ln(-1)
		p.SetFont(face, "", 9)
	}
	p.SetDrawColor(205, 213, 224)
	p.SetLineWidth(0.2)
	heading()
	for _, e := range r.Devices {
		cells, wide := make([]string, len(tableColumns)), make([]float64, len(tableColumns))
		for n, c := range tableColumns {
			cells[n], wide[n] = c.of(e), c.wide*scale
		}
		p.row(cells, wide, heading)
	}
}

// maxTitle bounds a site's name where it cannot be cut to a width, in characters.
const maxTitle = 120

// fit makes text printable and shortens it to a width, with an ellipsis.
func fit(p interface{ GetStringWidth(string) float64 }, s string, wide float64) string {
	// No line holds more characters than that, however narrow.
	s = printable(text.Harmless(s, 2*text.Long, nil))
	if p.GetStringWidth(s) <= wide {
		return s
	}
	runes := []rune(s)
	// The longest beginning that fits, by halves: a width costs as much as the text is long.
	n := sort.Search(len(runes), func(n int) bool { return p.GetStringWidth(string(runes[:n+1])+"…") > wide })
	return string(runes[:n]) + "…"
}

// glyphs tells which characters the printed face has.
var glyphs = sync.OnceValue(func() *sfnt.Font {
	f, err := sfnt.Parse(dejavusans.TTF)
	if err != nil {
		panic(err) // the face is part of the program
	}
	return f
})

// printable puts a box in the place of what the face lacks, such as emoji: the library
// that draws would fall over them.
func printable(s string) string {
	var buf sfnt.Buffer
	return strings.Map(func(r rune) rune {
		if r < utf8.RuneSelf {
			return r
		}
		if i, err := glyphs().GlyphIndex(&buf, r); r > 0xffff || err != nil || i == 0 {
			return '\u25a1'
		}
		return r
	}, s)
}

// transport tells how well what is said to devices is encrypted; whose password was set without
// stands among what is open.
func (r Record) transport(p *printer) {
	p.SetFont(face, "", 10)
	if weak := r.WeaklyEncrypted(); len(weak) > 0 {
		p.Ln(3)
		p.MultiCell(0, lineStep, printable("Encryption is weak, since the devices offer nothing better: "+strings.Join(weak, "; ")+"."), "", "L", false)
	}
}

func (r Record) stillOpen(p *printer) {
	if p.full(4 * lineStep) {
		p.AddPage()
	}
	p.Ln(4)
	p.SetFont(face, "B", 11)
	p.CellFormat(0, 6, "Still open", "", 1, "L", false, 0, "")
	p.SetFont(face, "", 10)
	rest := r.restLines()
	if len(r.Items) == 0 {
		p.CellFormat(0, lineStep, "Nothing: every device of the job answered at its address with its password, and every check passed.", "", 1, "L", false, 0, "")
		return
	}
	if len(rest) == 0 {
		p.CellFormat(0, lineStep, "Nothing beyond the table above.", "", 1, "L", false, 0, "")
	}
	for _, i := range rest {
		for n, line := range p.lines(i, p.room()-6) {
			if p.full(lineStep) {
				p.AddPage()
			}
			p.CellFormat(0, lineStep, map[bool]string{true: "•  ", false: "    "}[n == 0]+line, "", 1, "L", false, 0, "")
		}
	}
}
