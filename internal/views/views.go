// Package views judges stills of cameras, and lays them out on a sheet.
package views

import (
	"bytes"
	"fmt"
	"html/template"
	"image"
	"image/color"
	"image/draw"
	"image/jpeg"
	"image/png"
	"strings"
	"sync"
	"time"

	"codeberg.org/go-fonts/dejavu/dejavusans"
	"codeberg.org/go-fonts/dejavu/dejavusansbold"
	xdraw "golang.org/x/image/draw"
	"golang.org/x/image/font"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
)

// Shot is a still of one camera.
type Shot struct {
	Tag, Name string
	At        time.Time
	JPEG      []byte // nil where there is none
	Later     []byte // the same a moment later
	Flaw      string // what is wrong with it, or why there is none
}

// Flaws.
const (
	Black    = "black"
	Frozen   = "frozen: the same a moment later"
	Repeated = "the same as "
	Broken   = "cannot be read"
)

// dim is the brightness, of 255, below which a picture is black.
const dim = 10

// maxPixels bounds a picture that is looked into.
const maxPixels = 64 << 20

// Judge looks what is wrong with each still.
func Judge(shots []Shot) {
	first := map[string]string{} // whose picture it is
	for i := range shots {
		s := &shots[i]
		if s.Flaw != "" || s.JPEG == nil {
			continue
		}
		img, err := decode(s.JPEG)
		switch whose := first[string(s.JPEG)]; {
		case err != nil:
			s.Flaw = Broken
		case brightness(img) < dim:
			s.Flaw = Black
		case whose != "":
			s.Flaw = Repeated + whose
		case bytes.Equal(s.JPEG, s.Later):
			s.Flaw = Frozen
		}
		if first[string(s.JPEG)] == "" {
			first[string(s.JPEG)] = s.Tag
		}
	}
}

// decode reads a picture of a size that can be.
func decode(data []byte) (image.Image, error) {
	c, err := jpeg.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	if c.Width*c.Height > maxPixels || c.Width == 0 || c.Height == 0 {
		return nil, fmt.Errorf("%d×%d pixels", c.Width, c.Height)
	}
	return jpeg.Decode(bytes.NewReader(data))
}

// brightness is the mean of a picture's light, 0 to 255, of one pixel in every 8 by 8.
func brightness(img image.Image) int {
	sum, n := 0, 0
	b := img.Bounds()
	for y := b.Min.Y; y < b.Max.Y; y += 8 {
		for x := b.Min.X; x < b.Max.X; x += 8 {
			sum += int(color.GrayModel.Convert(img.At(x, y)).(color.Gray).Y)
			n++
		}
	}
	return sum / max(n, 1)
}

// Small gives a picture at most so wide, for documents.
func Small(data []byte, wide int) ([]byte, error) {
	img, err := decode(data)
	if err != nil {
		return nil, err
	}
	b := img.Bounds()
	if b.Dx() > wide {
		to := image.NewRGBA(image.Rect(0, 0, wide, max(1, b.Dy()*wide/b.Dx())))
		xdraw.ApproxBiLinear.Scale(to, to.Bounds(), img, b, xdraw.Src, nil)
		img = to
	}
	var out bytes.Buffer
	err = jpeg.Encode(&out, img, &jpeg.Options{Quality: 80})
	return out.Bytes(), err
}

// Measures of the contact sheet, in pixels.
const (
	thumbWide = 300
	thumbTall = 200
	caption   = 52
	gap       = 16
	across    = 4
)

// Sheet draws all stills on one picture (PNG), with tag, name, time, and what is wrong.
func Sheet(site string, shots []Shot) ([]byte, error) {
	rows := (len(shots) + across - 1) / across
	img := image.NewRGBA(image.Rect(0, 0, across*(thumbWide+gap)+gap, rows*(thumbTall+caption+gap)+gap+40))
	draw.Draw(img, img.Bounds(), image.White, image.Point{}, draw.Src)
	bold, err := face(dejavusansbold.TTF, 17)
	if err != nil {
		return nil, err
	}
	plain, err := face(dejavusans.TTF, 13)
	if err != nil {
		return nil, err
	}
	write(img, bold, gap, 32, color.Black, site, img.Bounds().Dx()-2*gap)
	for i, s := range shots {
		x, y := gap+i%across*(thumbWide+gap), 44+i/across*(thumbTall+caption+gap)
		frame := image.Rect(x, y, x+thumbWide, y+thumbTall)
		draw.Draw(img, frame, image.NewUniform(color.Gray{225}), image.Point{}, draw.Src)
		if p, err := decode(s.JPEG); s.JPEG != nil && err == nil {
			xdraw.ApproxBiLinear.Scale(img, inside(frame, p.Bounds()), p, p.Bounds(), xdraw.Src, nil)
		}
		write(img, bold, x, y+thumbTall+18, color.Black, strings.TrimSpace(s.Tag+"  "+s.Name), thumbWide)
		below, ink := s.At.UTC().Format("2006-01-02 15:04:05 UTC"), color.Color(color.Gray{90})
		if s.Flaw != "" {
			below, ink = "! "+s.Flaw, color.RGBA{170, 20, 20, 255}
		}
		write(img, plain, x, y+thumbTall+38, ink, below, thumbWide)
	}
	var out bytes.Buffer
	err = png.Encode(&out, img)
	return out.Bytes(), err
}

// inside gives the largest place in a frame that keeps a picture's form.
func inside(frame, of image.Rectangle) image.Rectangle {
	w, h := frame.Dx(), of.Dy()*frame.Dx()/of.Dx()
	if h > frame.Dy() {
		w, h = of.Dx()*frame.Dy()/of.Dy(), frame.Dy()
	}
	x, y := frame.Min.X+(frame.Dx()-w)/2, frame.Min.Y+(frame.Dy()-h)/2
	return image.Rect(x, y, x+max(w, 1), y+max(h, 1))
}

func face(ttf []byte, size float64) (font.Face, error) {
	f, err := opentype.Parse(ttf)
	if err != nil {
		return nil, err
	}
	return opentype.NewFace(f, &opentype.FaceOptions{Size: size, DPI: 72, Hinting: font.HintingFull})
}

// write writes a line, shortened to a width.
func write(img draw.Image, f font.Face, x, y int, ink color.Color, text string, wide int) {
	for runes := []rune(text); font.MeasureString(f, text).Ceil() > wide && len(runes) > 0; {
		runes = runes[:len(runes)-1]
		text = string(runes) + "…"
	}
	d := font.Drawer{Dst: img, Src: image.NewUniform(ink), Face: f, Dot: fixed.P(x, y)}
	d.DrawString(text)
}

var page = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("views").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>{{.Site}}: views</title>
<style>:root{--ink:#14202d;--paper:#fff;--bad:#a02020}@media(prefers-color-scheme:dark){:root{--ink:#e6ebf1;--paper:#12181f;--bad:#ff9a8a}}
body{font:15px/1.4 system-ui,sans-serif;color:var(--ink);background:var(--paper);margin:1.5rem}main{display:grid;grid-template-columns:repeat(auto-fill,minmax(18rem,1fr));gap:1.2rem}
figure{margin:0;break-inside:avoid}img{width:100%;display:block}.bad{color:var(--bad);font-weight:600}</style></head><body><h1>{{.Site}}</h1><main>
{{range .Shots}}<figure>{{if .JPEG}}<a href="{{.Tag}}.jpg"><img src="{{.Tag}}.jpg" alt="{{.Tag}}, {{.Name}}"></a>{{end}}<figcaption><strong>{{.Tag}}</strong> {{.Name}}<br>{{if .Flaw}}<span class="bad">! {{.Flaw}}</span>{{else}}{{.At.UTC.Format "2006-01-02 15:04:05 UTC"}}{{end}}</figcaption></figure>
{{end}}</main></body></html>
`))
})

// Page writes the sheet as a page beside the stills.
func Page(site string, shots []Shot) ([]byte, error) {
	var b bytes.Buffer
	err := page().Execute(&b, map[string]any{"Site": site, "Shots": shots})
	return b.Bytes(), err
}
