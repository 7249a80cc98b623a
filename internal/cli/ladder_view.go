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

	"janustat/core/device"
	"janustat/internal/survey"
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
		event survey.Event
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
	told          string // not shown yet, while something is being done
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
	model, do := m.update(msg)
	if m.told != "" && m.first.IsZero() && !m.unplug { // what is being done stays in sight
		m.note, m.told = m.told, ""
	}
	return model, do
}

func (m *ladderModel) update(msg tea.Msg) (tea.Model, tea.Cmd) {
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
		m.told = string(msg)
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
	case e.What == survey.Gone && m.unplug:
		m.unplug, m.chosen, m.filter, m.nameless = false, r.MAC, "", false
		m.note = r.Label() + " disconnected: that is the one. Plug it back in, then press Enter to name it"
	case (e.What == survey.Arrived || e.What == survey.Described) && r.given == "" && m.filter == "" && m.first.IsZero():
		m.chosen, m.note = r.MAC, r.Label()+" appeared: Enter names it"
	case e.What == survey.Arrived && m.filter == "" && m.first.IsZero(): // it has its name
		m.chosen, m.note = r.MAC, r.Label()+" appeared"
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
	case "esc": // takes back what was begun last: a search for the other one is no end of a swap
		if m.filter == "" {
			m.first, m.unplug, m.note = device.MAC{}, false, ""
		}
		m.filter = ""
	case "backspace":
		if runes := []rune(m.filter); len(runes) > 0 {
			m.filter = string(runes[:len(runes)-1])
		}
	case "ctrl+n":
		m.nameless = !m.nameless
	case "ctrl+u":
		m.unplug, m.note = true, "Unplug the device in front of you and wait about 7 seconds. It is then selected here"
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
		m.filter, m.nameless = "", false // the other one is most likely not among those
		m.first, m.note = r.MAC, fmt.Sprintf("Swap the tag of %s with: find the other, Ctrl-X again (Esc: no)", r.Label())
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
