package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"janustat/core/text"
)

// What the screen has beside its rows: a title, the chosen device, a line for notes and one
// of keys. On a low one the tag is not drawn large.
const (
	around    = 4
	largeTag  = 6 // with a line under it
	smallTag  = 3
	lowScreen = 18
)

func (m *ladderModel) large() bool { return m.height >= lowScreen }

// room is how many rows fit.
func (m *ladderModel) room() int {
	used := around + smallTag
	if m.large() {
		used = around + largeTag
	}
	return max(m.height-used, 1)
}

// View implements tea.Model.
func (m *ladderModel) View() tea.View {
	v := tea.NewView(m.draw())
	v.AltScreen = true
	return v
}

func (m *ladderModel) draw() string {
	seen := m.seen()
	at := max(slices.IndexFunc(seen, func(r rung) bool { return r.MAC == m.chosen }), 0)
	room := m.room()
	m.top = min(max(m.top, at-room+1), at)
	m.top = max(min(m.top, len(seen)-room), 0)
	lines := []string{m.title(seen)}
	lines = append(lines, m.banner()...)
	shown := seen[m.top:min(m.top+room, len(seen))]
	lines = append(lines, headStyle.Render(m.cells("TAG", "NAME", "KIND", "MAC", "ADDRESS", "STATE", false)))
	for i := range shown {
		lines = append(lines, m.rowLine(&shown[i]))
	}
	for len(lines) < m.height-2 {
		lines = append(lines, "")
	}
	lines = append(lines, m.noteLine(), faintStyle.Render(m.keysLine()))
	for i := range lines {
		lines[i] = lipgloss.NewStyle().MaxWidth(m.width).Render(lines[i])
	}
	return strings.Join(lines[:min(len(lines), m.height)], "\n")
}

func (m *ladderModel) title(seen []rung) string {
	named := 0
	for i := range m.all {
		if m.all[i].given != "" {
			named++
		}
	}
	s := fmt.Sprintf("%s   %s, %d named", m.ladder.desk.Job.Sheet.Name, plural(len(m.all), "device"), named)
	if m.looking {
		s += "   looking …"
	}
	if m.nameless {
		s += "   only those without a name"
	}
	if m.filter != "" {
		s += fmt.Sprintf("   find: %s_  %d", m.filter, len(seen))
	}
	if len(seen) > m.room() {
		s += fmt.Sprintf("   %d–%d", m.top+1, min(m.top+m.room(), len(seen)))
	}
	return headStyle.Render(s)
}

// banner shows the chosen device, its tag in letters that read from two metres.
func (m *ladderModel) banner() []string {
	r, ok := m.current()
	size := smallTag
	if m.large() {
		size = largeTag
	}
	if !ok {
		none := make([]string, size)
		switch {
		case m.filter != "":
			none[0] = "Nothing has " + m.filter + " in it: Esc clears it"
		case m.looking:
			none[0] = "Looking for devices …"
		default:
			none[0] = "No device yet: plug one in, and it appears here"
		}
		return none
	}
	name := r.given
	if name == "" {
		name = strings.TrimSpace("no name yet  " + r.name)
	}
	named := lipgloss.NewStyle().Bold(true).Render(name)
	if m.naming {
		named = lipgloss.NewStyle().Bold(true).Render("Name: ") + m.input.View()
	}
	facts := []string{
		named,
		text.Words(string(r.Kind), r.Make, r.Model),
		fmt.Sprintf("%s  %s", r.MAC, r.Serial),
		text.Words(addressText(r.Address()), string(r.Condition), string(r.Access)),
		r.state(m.now),
	}
	if !m.large() {
		return []string{headStyle.Render(cmp.Or(r.Tag, tightMAC(r.MAC.String()))) + "  " + facts[0], facts[1] + "  " + facts[2], facts[3] + "  " + facts[4]}
	}
	big := largeText(tagOrMAC(&r))
	out := make([]string, largeTag)
	for i := range big {
		out[i] = lipgloss.NewStyle().Bold(true).Render(big[i]) + "   " + facts[i]
	}
	return out
}

// tagOrMAC is what a device is told by: its tag, or the end of its MAC as it is on the label.
func tagOrMAC(r *rung) string {
	if r.Tag != "" {
		return r.Tag
	}
	const digits = 4
	plain := strings.ReplaceAll(r.MAC.String(), ":", "")
	return strings.ToUpper(plain[len(plain)-digits:])
}

// cells lays out the cells of a row by the width of the screen.
func (m *ladderModel) cells(tag, name, kind, mac, address, state string, chosen bool) string {
	mark := "  "
	if chosen {
		mark = "▶ "
	}
	fixed := 2 + 5 + 9 + 10 + 16
	state = text.Cut(state, 24)
	room := min(max(m.width-fixed-26, 12), 40)
	return mark + fmt.Sprintf("%-5s%s%-9s%-10s%-16s%s", tag, pad(name, room), kind, mac, address, state)
}

// pad cuts or fills a text to a width, in columns of the screen.
func pad(s string, width int) string {
	if lipgloss.Width(s) >= width {
		s = lipgloss.NewStyle().MaxWidth(width-2).Render(s) + "…"
	}
	return s + strings.Repeat(" ", max(width-lipgloss.Width(s), 0))
}

func (m *ladderModel) rowLine(r *rung) string {
	chosen := r.MAC == m.chosen
	state := r.state(m.now)
	if r.MAC == m.first {
		state = "swap with …"
	}
	line := m.cells(r.Tag, cmp.Or(r.given, "– "+r.name), string(r.Kind), tightMAC(r.MAC.String()), addressText(r.Address()), state, chosen)
	switch {
	case chosen:
		return lipgloss.NewStyle().Bold(true).Render(line)
	case r.gone:
		return faintStyle.Render(line)
	case r.isNew() == 1:
		return goodStyle.Render(line)
	}
	return line
}

func (m *ladderModel) noteLine() string {
	if strings.HasPrefix(m.note, "! ") {
		return badStyle.Render(m.note)
	}
	return workStyle.Render(m.note)
}

func (m *ladderModel) keysLine() string {
	switch {
	case m.naming:
		return "type its name   Enter save   Esc cancel"
	case m.width < 122:
		return "Enter name  ^W wink  ^U unplug  ^X swap  ^T take  ^N nameless  ^C end"
	}
	return "type to find   Enter name   Ctrl-W wink   Ctrl-U unplug it   Ctrl-X swap   Ctrl-T take   Ctrl-N nameless   Ctrl-C end"
}
