package handover

import (
	"bytes"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"strings"
	"sync"

	"janustat/core/device"
	"janustat/core/ground"
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
	proved := 0
	for _, e := range r.Devices {
		if e.Proved != nil {
			proved++
		}
	}
	var b bytes.Buffer
	err := pageTemplate().Execute(&b, map[string]any{
		"R": r, "Groups": groups, "Stills": stills, "Proved": proved, "Channels": sortedChannels(r.Channels), "Found": foundText, "Custody": r.Custody(),
	})
	if err != nil {
		return nil, fmt.Errorf("page: %w", err)
	}
	return b.Bytes(), nil
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
	if a.Zone != b.Zone && a.Zone != "" {
		words = append(words, "time zone "+a.Zone)
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
