package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"janustat/core/device"
	"janustat/core/text"
	"janustat/internal/field"
)

// rung is one device on the screen.
type rung struct {
	row
	given string    // the job sheet's name for it
	came  time.Time // when it appeared while the screen was there
	gone  bool
}

// sortRungs puts the newest first, then what the last survey met for the first time, then
// the others in the usual order.
func sortRungs(list []rung) {
	slices.SortStableFunc(list, func(x, y rung) int {
		if c := y.came.Compare(x.came); c != 0 {
			return c
		}
		return cmp.Compare(y.isNew(), x.isNew())
	})
}

func (r *rung) isNew() int {
	if !r.came.IsZero() || r.news == newsNew {
		return 1
	}
	return 0
}

// state tells in words how it is with a device.
func (r *rung) state(now time.Time) string {
	var words []string
	switch {
	case r.Alarm != "":
		words = append(words, "ALARM")
	case r.gone:
		words = append(words, "gone")
	case !r.came.IsZero() && now.Sub(r.came) < 10*time.Minute:
		words = append(words, "new "+now.Sub(r.came).Truncate(time.Second).String())
	case r.isNew() == 1:
		words = append(words, "new")
	}
	switch {
	case r.InJob == device.Left:
		words = append(words, "left out")
	case r.InJob != device.Taken:
		words = append(words, "not in the job")
	}
	return strings.Join(words, ", ")
}

// fits reports whether all that was typed is somewhere in it; MACs go without colons too.
func (r *rung) fits(filter string) bool {
	words := strings.Fields(strings.ToLower(filter))
	plain := strings.ReplaceAll(strings.ToLower(r.MAC.String()), ":", "")
	return !slices.ContainsFunc(words, func(w string) bool {
		return !r.has([]string{w}) && !strings.Contains(plain, strings.ReplaceAll(w, ":", ""))
	})
}

// What the screen is told.
type (
	rowsMsg struct {
		rungs []rung
		err   error
	}
	happenedMsg struct {
		event field.Event
		rows  rowsMsg
	}
	didMsg struct {
		text string
		err  error
		rows rowsMsg
	}
	toldMsg string
	overMsg struct{ err error }
)

// ladderModel is the screen.
type ladderModel struct {
	ctx           context.Context // of the work behind it
	ladder        *ladder
	width, height int
	all           []rung
	filter        string
	nameless      bool // only those without a name
	chosen        device.MAC
	top           int // the first row that is seen
	naming        bool
	input         textinput.Model
	first         device.MAC // of a swap
	unplug        bool       // waiting for one to be unplugged
	note          string
	looking       bool
	named         int
	now           time.Time
}

func newLadderModel(ctx context.Context, l *ladder) *ladderModel {
	in := textinput.New()
	in.Prompt, in.CharLimit = "", maxNameTyped
	return &ladderModel{ctx: ctx, ladder: l, width: 80, height: 24, input: in, looking: true, now: time.Now()}
}

// maxNameTyped is what devices take of a name, in characters.
const maxNameTyped = 60

// Init implements tea.Model.
func (m *ladderModel) Init() tea.Cmd {
	return tea.Batch(m.tick(), func() tea.Msg { return m.ladder.rows(m.ctx) })
}

func (m *ladderModel) tick() tea.Cmd {
	return tea.Tick(time.Second, func(time.Time) tea.Msg { return tickMsg{} })
}

// Update implements tea.Model.
func (m *ladderModel) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
	case tickMsg:
		m.now = time.Now()
		return m, m.tick()
	case rowsMsg:
		m.take(msg)
		select {
		case <-m.ladder.ahead:
			m.looking = false
		default:
		}
	case happenedMsg:
		m.happened(msg)
	case didMsg:
		m.take(msg.rows)
		if m.note = msg.text; msg.err != nil {
			m.note = "! " + errorText(msg.err)
		}
	case toldMsg:
		m.note = string(msg)
	case overMsg:
		if msg.err != nil {
			return m, tea.Quit
		}
	case tea.KeyPressMsg:
		return m.press(msg)
	}
	return m, nil
}

func (m *ladderModel) take(r rowsMsg) {
	if r.err != nil {
		m.note = "! " + errorText(r.err)
		return
	}
	if r.rungs != nil {
		m.all = r.rungs
	}
	m.choose()
}

// choose keeps a device chosen that is seen.
func (m *ladderModel) choose() {
	seen := m.seen()
	if len(seen) > 0 && !slices.ContainsFunc(seen, func(r rung) bool { return r.MAC == m.chosen }) {
		m.chosen = seen[0].MAC
	}
}

func (m *ladderModel) happened(msg happenedMsg) {
	m.take(msg.rows)
	e := msg.event
	at := slices.IndexFunc(m.all, func(r rung) bool { return r.MAC == e.Device.MAC })
	if at < 0 || m.naming {
		return
	}
	r := &m.all[at]
	switch {
	case e.What == field.Gone && m.unplug:
		m.unplug, m.chosen, m.filter, m.nameless = false, r.MAC, "", false
		m.note = r.Label() + " went: that is the one. Plug it back in; Enter names it"
	case e.What == field.Arrived && m.filter == "" && m.first.IsZero():
		m.chosen, m.note = r.MAC, r.Label()+" appeared: Enter names it"
	}
}

// seen gives the devices that what was typed fits.
func (m *ladderModel) seen() []rung {
	var out []rung
	for _, r := range m.all {
		if r.fits(m.filter) && (!m.nameless || r.given == "") {
			out = append(out, r)
		}
	}
	return out
}

func (m *ladderModel) current() (rung, bool) {
	for _, r := range m.seen() {
		if r.MAC == m.chosen {
			return r, true
		}
	}
	return rung{}, false
}

func (m *ladderModel) press(k tea.KeyPressMsg) (tea.Model, tea.Cmd) {
	if k.String() == "ctrl+c" {
		return m, tea.Quit
	}
	if m.naming {
		return m.pressNaming(k)
	}
	r, ok := m.current()
	switch key := k.String(); key {
	case "up", "down", "pgup", "pgdown", "home", "end":
		m.move(key)
	case "esc":
		m.filter, m.first, m.unplug, m.note = "", device.MAC{}, false, ""
	case "backspace":
		if runes := []rune(m.filter); len(runes) > 0 {
			m.filter = string(runes[:len(runes)-1])
		}
	case "ctrl+n":
		m.nameless = !m.nameless
	case "ctrl+u":
		m.unplug, m.note = true, "Unplug the one in front of you, and wait: it is missed after about 7 seconds"
	case "enter", "ctrl+w", "ctrl+x", "ctrl+t":
		if ok {
			return m, m.act(key, &r)
		}
	default:
		if k.Text != "" {
			m.filter += k.Text
		}
	}
	m.choose()
	return m, nil
}

// act does what a key does to the chosen device.
func (m *ladderModel) act(key string, r *rung) tea.Cmd {
	switch key {
	case "enter":
		m.naming, m.note = true, ""
		m.input.SetValue(r.given)
		m.input.CursorEnd()
		return m.input.Focus()
	case "ctrl+w":
		m.note = r.Label() + " is asked to show itself …"
		return m.ladder.wink(m.ctx, r.MAC)
	case "ctrl+t":
		return m.ladder.take(m.ctx, r.MAC)
	}
	switch {
	case m.first.IsZero():
		m.first, m.note = r.MAC, fmt.Sprintf("Swap the tag of %s with: choose the other, Ctrl-X again (Esc: no)", r.Label())
		return nil
	case m.first == r.MAC:
		m.first, m.note = device.MAC{}, "nothing is swapped"
		return nil
	}
	first := m.first
	m.first = device.MAC{}
	return m.ladder.swap(m.ctx, first, r.MAC)
}

// pressNaming takes a key while a name is typed.
func (m *ladderModel) pressNaming(k tea.KeyPressMsg) (tea.Model, tea.Cmd) {
	switch k.String() {
	case "esc":
		m.naming = false
		return m, nil
	case "enter":
		m.naming = false
		r, ok := m.current()
		name := strings.Join(strings.Fields(m.input.Value()), " ")
		if !ok || name == "" || name == r.given {
			return m, nil
		}
		if r.given == "" {
			m.named++
		}
		m.filter = ""
		m.next(r.MAC)
		return m, m.ladder.name(m.ctx, r.MAC, name)
	}
	var cmd tea.Cmd
	m.input, cmd = m.input.Update(k)
	return m, cmd
}

// next chooses the device after this one that has no name yet.
func (m *ladderModel) next(after device.MAC) {
	seen := m.seen()
	at := slices.IndexFunc(seen, func(r rung) bool { return r.MAC == after })
	for i := range seen {
		if r := seen[(at+1+i)%len(seen)]; r.given == "" && r.MAC != after {
			m.chosen = r.MAC
			return
		}
	}
}

func (m *ladderModel) move(key string) {
	seen := m.seen()
	if len(seen) == 0 {
		return
	}
	at := slices.IndexFunc(seen, func(r rung) bool { return r.MAC == m.chosen })
	step := map[string]int{"up": -1, "down": 1, "pgup": -m.room(), "pgdown": m.room(), "home": -len(seen), "end": len(seen)}[key]
	m.chosen = seen[min(max(at+step, 0), len(seen)-1)].MAC
}

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
		return "type its name   Enter keep it   Esc as it was"
	case m.width < 122:
		return "Enter name  ^W wink  ^U unplug  ^X swap  ^T take  ^N nameless  ^C end"
	}
	return "type to find   Enter name   Ctrl-W wink   Ctrl-U unplug it   Ctrl-X swap   Ctrl-T take   Ctrl-N nameless   Ctrl-C end"
}
