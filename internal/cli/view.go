package cli

import (
	"fmt"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"janustat/core/commission"
)

// progressView shows how far each device is: a live line each on a terminal,
// plain lines otherwise.
type progressView interface {
	step(p commission.Plan, s commission.Step, text string)
	result(r commission.Result)
	stop()
}

func (a *App) startView(plans []commission.Plan) progressView {
	if a.quiet {
		return noView{}
	}
	f, tty := terminal(a.Err)
	if !tty || a.Getenv("TERM") == "dumb" || a.Getenv("NO_COLOR") != "" {
		return &lineView{app: a}
	}
	m := newLiveModel(a, plans)
	v := &liveView{done: make(chan struct{})}
	// Signals stay with the command: it stops the work, and the view ends with it.
	v.program = tea.NewProgram(m, tea.WithOutput(f), tea.WithInput(nil), tea.WithoutSignalHandler())
	go func() {
		defer close(v.done)
		_, _ = v.program.Run() // a view that cannot draw must not stop the work
	}()
	return v
}

type noView struct{}

func (noView) step(commission.Plan, commission.Step, string) {}
func (noView) result(commission.Result)                      {}
func (noView) stop()                                         {}

// lineView writes a line for each write and each result; waiting and reading
// would drown them.
type lineView struct {
	app *App
	mu  sync.Mutex
}

func (v *lineView) step(p commission.Plan, s commission.Step, text string) {
	if commission.Waits(s) {
		return
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.app.say("%s  %-8s %s", p.Tag, s, text)
}

func (v *lineView) result(r commission.Result) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.app.say("%s  %s", r.Plan.Tag, strings.TrimSpace(string(r.Status)+" "+r.Reason))
}

func (v *lineView) stop() {}

// liveView redraws on a terminal.
type liveView struct {
	program *tea.Program
	done    chan struct{}
}

type stepMsg struct {
	tag  string
	step commission.Step
	text string
}

type resultMsg struct {
	tag    string
	status commission.Status
	reason string
}

type (
	tickMsg struct{}
	endMsg  struct{}
)

func (v *liveView) step(p commission.Plan, s commission.Step, text string) {
	v.program.Send(stepMsg{p.Tag, s, text})
}

func (v *liveView) result(r commission.Result) {
	v.program.Send(resultMsg{r.Plan.Tag, r.Status, r.Reason})
}

func (v *liveView) stop() {
	v.program.Send(endMsg{})
	<-v.done
}

// liveModel is what the live view shows.
type liveModel struct {
	app    *App
	tags   []string
	lines  map[string]*liveLine
	begun  time.Time
	height int
	ended  bool
}

type liveLine struct {
	name, from, to string
	step           commission.Step
	text           string
	status         commission.Status
	reason         string
	since          time.Time
}

func newLiveModel(a *App, plans []commission.Plan) *liveModel {
	m := &liveModel{app: a, lines: map[string]*liveLine{}, begun: time.Now(), height: 24}
	for _, p := range plans {
		m.tags = append(m.tags, p.Tag)
		m.lines[p.Tag] = &liveLine{name: p.Target.Name, from: p.From.String(), to: p.Target.Address.String(), text: "waiting", since: time.Now()}
	}
	return m
}

func tick() tea.Cmd {
	return tea.Tick(250*time.Millisecond, func(time.Time) tea.Msg { return tickMsg{} })
}

// Init implements tea.Model.
func (m *liveModel) Init() tea.Cmd { return tick() }

// Update implements tea.Model.
func (m *liveModel) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.height = msg.Height
	case stepMsg:
		l := m.lines[msg.tag]
		l.step, l.text, l.since = msg.step, msg.text, time.Now()
	case resultMsg:
		l := m.lines[msg.tag]
		l.status, l.reason, l.since = msg.status, msg.reason, time.Now()
	case tickMsg:
		return m, tick()
	case endMsg:
		m.ended = true
		return m, tea.Quit
	}
	return m, nil
}

// View implements tea.Model.
func (m *liveModel) View() tea.View { return tea.NewView(m.draw()) }

// draw shows as many devices as fit, those at work first, and a count of all.
func (m *liveModel) draw() string {
	var work, needs, done []string
	for _, t := range m.tags {
		switch m.lines[t].status {
		case commission.Done:
			done = append(done, t)
		case "":
			work = append(work, t)
		default:
			needs = append(needs, t)
		}
	}
	var b strings.Builder
	room := max(m.height-3, 4)
	order := append(append(work, needs...), done...)
	shown := map[string]bool{}
	for _, t := range order[:min(room, len(order))] {
		shown[t] = true
	}
	for _, t := range m.tags {
		if shown[t] {
			b.WriteString(m.line(t) + "\n")
		}
	}
	if hidden := len(order) - len(shown); hidden > 0 {
		fmt.Fprintf(&b, "… and %d more\n", hidden)
	}
	fmt.Fprintf(&b, "%d of %d done, %d at work, %d need you   %.0f s", len(done), len(m.tags), len(work), len(needs), time.Since(m.begun).Seconds())
	if m.ended {
		b.WriteString("\n")
	}
	return b.String()
}

const maxReason = 60

func (m *liveModel) line(tag string) string {
	l := m.lines[tag]
	head := fmt.Sprintf("%-4s %-22.22s %-15s → %-15s ", tag, l.name, l.from, l.to)
	switch l.status {
	case commission.Done:
		return head + goodStyle.Render("done")
	case "":
		return head + workStyle.Render(fmt.Sprintf("%-8s", l.step)) + fmt.Sprintf(" %-38.38s %3.0f s", l.text, time.Since(l.since).Seconds())
	default:
		reason := []rune(l.reason)
		return head + badStyle.Render(string(l.status)) + " " + string(reason[:min(len(reason), maxReason)])
	}
}
