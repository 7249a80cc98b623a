package handover

import (
	"fmt"
	"net/netip"

	"janustat/core/ground"
)

// use is what an address of the plan is for.
type use int

const (
	free    use = iota
	used        // by a device of the job
	clear       // kept clear, or somebody else's
	pool        // of a DHCP server
	network     // the network's own addresses, and its gateway
)

// uses are how each is drawn: a fill, and a sign that tells it without colour.
var uses = map[use]struct {
	words   string
	r, g, b int
	sign    string
}{
	free:    {"free", 255, 255, 255, ""},
	used:    {"a device of this record", 58, 110, 165, "•"},
	clear:   {"kept clear, or in use by others", 214, 170, 90, "×"},
	pool:    {"DHCP pool", 200, 215, 205, "~"},
	network: {"network, broadcast, gateway", 120, 128, 138, "–"},
}

// mapWide is how many addresses stand in a row of the map, and maxMapped how many are drawn.
const (
	mapWide   = 32
	maxMapped = 1024
)

// networkPage tells the network, and draws the address plan.
func (r Record) networkPage(p *printer) {
	g := r.Ground
	if !g.Subnet.IsValid() {
		return
	}
	p.title("Network")
	row := func(what, value, from string) {
		p.SetFont(face, "B", 10)
		p.CellFormat(34, lineStep, what, "", 0, "L", false, 0, "")
		p.SetFont(face, "", 10)
		p.CellFormat(90, lineStep, fit(p, value, 88), "", 0, "L", false, 0, "")
		p.CellFormat(0, lineStep, fit(p, from, p.room()-126), "", 1, "L", false, 0, "")
	}
	row("Subnet", fmt.Sprintf("%s, mask %s", g.Subnet, ground.Mask(g.Subnet.Bits())), g.SubnetFrom)
	if g.Gateway.IsValid() {
		row("Gateway", g.Gateway.String(), g.GatewayFrom)
	}
	if len(g.DNS) > 0 {
		row("DNS", ground.List(g.DNS), g.DNSFrom)
	}
	if len(g.NTP) > 0 {
		row("NTP", ground.List(g.NTP), g.NTPFrom)
	}
	p.Ln(2)
	r.addressMap(p)
}

// useOf tells what an address is for.
func (r Record) useOf(a netip.Addr, given map[string]bool) use {
	g := r.Ground
	switch {
	case given[a.String()]:
		return used
	case a == g.Gateway, a == g.Subnet.Addr(), !g.Subnet.Contains(a.Next()):
		return network
	}
	for _, s := range r.Spans {
		if a.Compare(s.From) >= 0 && a.Compare(s.To) <= 0 {
			if s.Pool {
				return pool
			}
			return clear
		}
	}
	return free
}

// addressMap draws every address of the subnet as a square, a row for each 32.
func (r Record) addressMap(p *printer) {
	given := map[string]bool{}
	for _, e := range r.settled() {
		given[e.Address] = true
	}
	total := 1 << (32 - r.Ground.Subnet.Bits())
	shown := min(total, maxMapped)
	rows := (shown + mapWide - 1) / mapWide
	const label = 26.0
	step := min((p.room()-label)/mapWide, (p.tall-footRoom-p.GetY()-14)/float64(rows), 7.5)
	x0, y0 := margin+label, p.GetY()
	p.SetDrawColor(190, 198, 208)
	p.SetLineWidth(0.15)
	a := r.Ground.Subnet.Masked().Addr()
	for i := range shown {
		x, y := x0+float64(i%mapWide)*step, y0+float64(i/mapWide)*step
		if i%mapWide == 0 {
			p.SetFont(face, "", min(7.5, step*2))
			p.SetTextColor(70, 78, 90)
			p.SetXY(margin, y)
			p.CellFormat(label, step, a.String(), "", 0, "L", false, 0, "")
		}
		p.square(r.useOf(a, given), x, y, step)
		a = a.Next()
	}
	p.SetXY(margin, y0+float64(rows)*step+2)
	if shown < total {
		p.SetFont(face, "", 8)
		p.CellFormat(0, 4, fmt.Sprintf("The first %d of %d addresses.", shown, total), "", 1, "L", false, 0, "")
	}
	for _, u := range []use{used, clear, pool, network, free} {
		y := p.GetY()
		p.square(u, p.GetX()+1, y+0.5, 4)
		p.SetFont(face, "", 9)
		p.SetTextColor(20, 30, 45)
		p.SetXY(p.GetX()+7, y)
		p.CellFormat(p.GetStringWidth(uses[u].words)+6, 5, uses[u].words, "", 0, "L", false, 0, "")
	}
	p.Ln(6)
}

// square draws one address, with its sign. The pen stays where it was.
func (p *printer) square(u use, x, y, side float64) {
	atX, atY := p.GetXY()
	k := uses[u]
	p.SetFillColor(k.r, k.g, k.b)
	p.Rect(x, y, side*0.92, side*0.92, "FD")
	if k.sign != "" {
		p.SetFont(face, "B", side*2.1)
		p.SetTextColor(255, 255, 255)
		if u == clear || u == pool {
			p.SetTextColor(60, 50, 30)
		}
		p.SetXY(x, y)
		p.CellFormat(side*0.92, side*0.92, k.sign, "", 0, "CM", false, 0, "")
	}
	p.SetXY(atX, atY)
}

// channelPage lists the channels of recorders.
func (r Record) channelPage(p *printer) {
	if len(r.Channels) == 0 {
		return
	}
	p.title("Recorder channels")
	columns := []struct {
		head string
		wide float64
		of   func(Channel) string
	}{
		{"Recorder", 26, func(c Channel) string { return c.Recorder }},
		{"Channel", 22, func(c Channel) string { return channelText(c.Number) }},
		{"Camera", 22, func(c Channel) string { return c.Camera }},
		{"Name", 90, func(c Channel) string { return c.Name }},
		{"Address", 40, func(c Channel) string { return c.Address }},
		{"State", 50, func(c Channel) string { return c.State }},
	}
	head := func() {
		p.SetFont(face, "B", 9)
		p.SetFillColor(224, 231, 240)
		for _, c := range columns {
			p.CellFormat(c.wide, lineStep+0.8, c.head, "", 0, "L", true, 0, "")
		}
		p.Ln(-1)
		p.SetFont(face, "", 9)
	}
	head()
	for _, k := range sortedChannels(r.Channels) {
		cells, wide := make([]string, len(columns)), make([]float64, len(columns))
		for n, c := range columns {
			cells[n], wide[n] = c.of(k), c.wide
		}
		p.row(cells, wide, head)
	}
}

func channelText(n int) string {
	if n == 0 {
		return "any"
	}
	return fmt.Sprint(n)
}
