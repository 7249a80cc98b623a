package handover

import (
	"bytes"
	"fmt"
	"strings"

	"codeberg.org/go-fonts/dejavu/dejavusans"
	"codeberg.org/go-fonts/dejavu/dejavusansbold"
	"codeberg.org/go-pdf/fpdf"
	"github.com/boombuler/barcode/qr"
)

// LabelSheet is a sheet of stickers: how many across and down, and their size and place in
// millimetres.
type LabelSheet struct {
	Name         string
	Paper        Paper
	Across, Down int
	Wide, Tall   float64
	Left, Top    float64 // of the first
	StepX, StepY float64 // from one to the next
}

// LabelSheets are the common ones, by how many are on a sheet.
var LabelSheets = []LabelSheet{
	{"24", A4, 3, 8, 70, 37, 0, 0.5, 70, 37},
	{"21", A4, 3, 7, 63.5, 38.1, 7.2, 15.1, 66, 38.1},
	{"40", A4, 4, 10, 52.5, 29.7, 0, 0, 52.5, 29.7},
	{"30", Letter, 3, 10, 66.7, 25.4, 4.8, 12.7, 69.9, 25.4},
}

// Labels writes a sticker for each device: tag, name, address, MAC, and a QR code of the
// address of its own page.
func (r Record) Labels(o Options) ([]byte, error) {
	s := o.Sheet
	p := fpdf.NewCustom(&fpdf.InitType{UnitStr: "mm", Size: paperSize(s.Paper)})
	p.SetCreationDate(r.Made)
	p.SetModificationDate(r.Made)
	p.SetCatalogSort(true)
	p.AddUTF8FontFromBytes(face, "", dejavusans.TTF)
	p.AddUTF8FontFromBytes(face, "B", dejavusansbold.TTF)
	p.SetTitle("Labels: "+printable(r.Site), true)
	p.SetMargins(0, 0, 0)
	p.SetAutoPageBreak(false, 0)
	for i, e := range r.settled() {
		n := i % (s.Across * s.Down)
		if n == 0 {
			p.AddPage()
		}
		x, y := s.Left+float64(n%s.Across)*s.StepX, s.Top+float64(n/s.Across)*s.StepY
		if err := label(p, s, e, x, y); err != nil {
			return nil, err
		}
	}
	if p.PageCount() == 0 {
		p.AddPage()
	}
	var b bytes.Buffer
	err := p.Output(&b)
	return b.Bytes(), err
}

func paperSize(p Paper) fpdf.SizeType {
	wide, tall := p.size()
	return fpdf.SizeType{Wd: wide, Ht: tall}
}

// label draws one sticker. What does not fit is shortened, and nothing leaves its bounds.
func label(p *fpdf.Fpdf, s LabelSheet, e Entry, x, y float64) error {
	const pad = 3.0
	side := min(s.Tall-2*pad, s.Wide*0.36)
	if err := code(p, "http://"+e.Address+"/", x+s.Wide-pad-side, y+(s.Tall-side)/2, side); err != nil {
		return err
	}
	room := s.Wide - 3*pad - side
	at := y + pad
	line := func(style string, size, step float64, text string) {
		p.SetFont(face, style, size)
		p.SetXY(x+pad, at)
		p.CellFormat(room, step, fit(p, text, room-1), "", 0, "L", false, 0, "")
		at += step
	}
	p.SetTextColor(0, 0, 0)
	big := min(16, s.Tall*0.5)
	line("B", big, big*0.42, e.Tag)
	line("", 9, 4.4, e.Name)
	line("B", 9, 4.4, e.Address)
	line("", 7, 3.6, e.MAC.String())
	if s.Tall > 34 {
		line("", 7, 3.6, strings.TrimSpace(e.Make+" "+e.Model))
	}
	return nil
}

// code draws a QR code (ISO/IEC 18004) as rectangles, with the quiet zone of four modules.
func code(p *fpdf.Fpdf, content string, x, y, side float64) error {
	c, err := qr.Encode(content, qr.M, qr.Auto)
	if err != nil {
		return fmt.Errorf("QR code of %s: %w", content, err)
	}
	const quiet = 4
	n := c.Bounds().Dx()
	step := side / float64(n+2*quiet)
	p.SetFillColor(0, 0, 0)
	for row := range n {
		for col := 0; col < n; {
			run := col
			for run < n && dark(c.At(run, row)) {
				run++
			}
			if run > col {
				p.Rect(x+float64(col+quiet)*step, y+float64(row+quiet)*step, float64(run-col)*step, step, "F")
			}
			col = run + 1
		}
	}
	return nil
}

func dark(c interface{ RGBA() (r, g, b, a uint32) }) bool {
	r, _, _, _ := c.RGBA()
	return r < 0x8000
}
