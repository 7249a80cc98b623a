package handover

import (
	"fmt"
	"strings"
	"time"

	"janustat/core/device"
	"janustat/core/settings/discovery"
	"janustat/core/settings/outside"
	"janustat/core/settings/plainhttp"
	"janustat/core/text"
)

// What is said of how a device is spoken with.
const (
	overHTTPS = "HTTPS"
	overHail  = "Hail, encrypted"
	overHTTP  = "HTTP, not encrypted"
)

// transport tells how a device is spoken with; "" is not known.
func transport(d *device.Device) string {
	switch {
	case d.OpenedAt.IsZero() || d.Access.Dumb():
		return ""
	case d.TLS != nil:
		return overHTTPS
	}
	if by := d.Preferred(); len(by) > 0 && by[0] != device.Standard { // every other is encrypted by nature
		return overHail
	}
	return overHTTP
}

// securityColumn is one column of the table of how devices are left.
type securityColumn struct {
	head string
	wide float64 // on paper, in shares
	of   func(e *Entry) string
}

var securityColumns = []securityColumn{
	{"Tag", 11, func(e *Entry) string { return e.Tag }},
	{"Name", 38, func(e *Entry) string { return e.Name }},
	{"Spoken with over", 42, (*Entry).over},
	{"Password", 30, func(e *Entry) string {
		switch {
		case e.InClear:
			return inClear
		case e.Transport != "":
			return "set"
		}
		return ""
	}},
	{"Accounts", 40, func(e *Entry) string { return strings.Join(e.Accounts, ", ") }},
	{"Open ports", 24, func(e *Entry) string { return portsText(e.Ports) }},
	{"Outside", 52, (*Entry).outward},
	{"Discovery", 21, func(e *Entry) string { return e.Settings[discovery.Name] }},
	{"Firmware", 22, func(e *Entry) string {
		if e.Agreed != "" {
			return e.Firmware + " (agreed: " + e.Agreed + ")"
		}
		return e.Firmware
	}},
}

// over is how a device is spoken with, in full.
func (e *Entry) over() string {
	words := []string{e.Transport}
	if !e.Ends.IsZero() {
		whose := "its own certificate"
		if e.OfSite {
			whose = "the site's certificate"
		}
		words = append(words, whose+" until "+e.Ends.Format("2 January 2006"))
	}
	if len(e.Weak) > 0 {
		words = append(words, "weak: "+strings.Join(e.Weak, ", "))
	}
	if e.Settings[plainhttp.Name] == "on" {
		words = append(words, "HTTP beside it")
	}
	return strings.Join(words, ", ")
}

// outward is what connects a device with the outside.
func (e *Entry) outward() string {
	if value := e.Settings[outside.Name]; value != "" || e.Transport == "" {
		return value
	}
	return outside.Setting.Untold
}

// securityRows gives the cells of the table of how devices are left, below securityHeads.
func (r Record) securityRows() (rows [][]string) {
	for i := range r.Devices {
		cells := make([]string, len(securityColumns))
		for n, c := range securityColumns {
			cells[n] = c.of(&r.Devices[i])
		}
		rows = append(rows, cells)
	}
	return rows
}

func securityHeads() []string {
	heads := make([]string, len(securityColumns))
	for n, c := range securityColumns {
		heads[n] = c.head
	}
	return heads
}

// securityLines sums up how the site is left.
func (r Record) securityLines() (out []string) {
	over := map[string]int{}
	var clear, apart, unseen, found, hidden int
	var links, outdated []string
	for i := range r.Devices {
		e := &r.Devices[i]
		if e.Transport == "" {
			continue
		}
		over[e.Transport]++
		if e.Agreed != "" {
			outdated = append(outdated, e.Tag)
		}
		if e.InClear {
			clear++
		}
		switch where := e.outward(); where {
		case outside.Nothing:
			apart++
		case outside.Setting.Untold:
			unseen++
		default:
			links = append(links, e.label()+" ("+where+")")
		}
		switch e.Settings[discovery.Name] {
		case "on":
			found++
		case "off":
			hidden++
		}
	}
	all := over[overHTTPS] + over[overHail] + over[overHTTP]
	if all == 0 {
		return []string{"None of these devices was opened."}
	}
	out = append(out, fmt.Sprintf("Of %s, %d encrypt what is said to them (HTTPS %d, Hail %d); %d do not, and passwords are proved to them by digests.",
		text.Plural(all, "device"), over[overHTTPS]+over[overHail], over[overHTTPS], over[overHail], over[overHTTP]))
	if line := r.certificatesLine(); line != "" {
		out = append(out, line)
	}
	if clear > 0 {
		out = append(out, fmt.Sprintf("The password of %s was set without encryption.", text.Plural(clear, "device")))
	}
	if len(outdated) > 0 {
		out = append(out, fmt.Sprintf("%s another version of firmware than is agreed on.", text.Have(outdated)))
	}
	if len(links) > 0 {
		out = append(out, "Connected with the outside: "+strings.Join(links, "; ")+".")
	}
	if apart > 0 {
		out = append(out, fmt.Sprintf("No connection with the outside is set up on %s that can report it.", text.Plural(apart, "device")))
	}
	if unseen > 0 {
		out = append(out, fmt.Sprintf("On %s this cannot be seen: an account with a manufacturer's service shows on the device's own page alone.", text.Plural(unseen, "device")))
	}
	if found+hidden > 0 {
		out = append(out, fmt.Sprintf("Announce themselves on the LAN: %d; do not: %d.", found, hidden))
	}
	return out
}

// certificatesLine tells of the certificates of the site's own authority; "" where there are none.
func (r Record) certificatesLine() string {
	n, first := 0, time.Time{}
	for i := range r.Devices {
		if e := &r.Devices[i]; e.OfSite {
			n++
			if first.IsZero() || e.Ends.Before(first) {
				first = e.Ends
			}
		}
	}
	if n == 0 || r.Authority == nil {
		return ""
	}
	var subnets []string
	for _, s := range r.Authority.Subnets {
		subnets = append(subnets, s.String())
	}
	return fmt.Sprintf("The certificates of %s are signed by the site's own authority; the first ends on %s. Its root is %s (SHA-256 %s). Browsers open these devices without a warning once it is imported as an authority for web sites; it can vouch for addresses in %s and names under home.arpa, and for nothing else.",
		text.Plural(n, "device"), first.Format("2 January 2006"), AuthorityFile, r.Authority.SHA256, strings.Join(subnets, ", "))
}

// securityPage is the printed one.
func (r Record) securityPage(p *printer) {
	p.title("Security as left")
	for _, line := range r.securityLines() {
		p.MultiCell(0, lineStep, printable(line), "", "L", false)
	}
	p.Ln(2)
	var all float64
	for _, c := range securityColumns {
		all += c.wide
	}
	wide := make([]float64, len(securityColumns))
	for n, c := range securityColumns {
		wide[n] = c.wide * p.room() / all
	}
	heading := func() {
		p.SetFont(face, "B", 8.5)
		p.SetFillColor(224, 231, 240)
		p.SetTextColor(20, 30, 45)
		for n, c := range securityColumns {
			p.CellFormat(wide[n], lineStep+0.8, c.head, "", 0, "L", true, 0, "")
		}
		p.Ln(-1)
		p.SetFont(face, "", 8.5)
	}
	p.SetDrawColor(205, 213, 224)
	p.SetLineWidth(0.2)
	heading()
	for _, cells := range r.securityRows() {
		p.row(cells, wide, heading)
	}
}
