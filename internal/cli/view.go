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

// usual is how long devices of the job have taken before; zero is not known.
func (a *App) startView(plans []commission.Plan, usual time.Duration) progressView {
	if a.lined {
		return lineEvents{a}
	}
	if a.quiet {
		return noView{}
	}
	f, tty := terminal(a.Err)
	if !tty || !a.colour(a.Err) {
		return &lineView{app: a, left: len(plans)}
	}
	m := newLiveModel(a, plans)
	m.usual = usual
	v := &liveView{done: make(chan struct{})}
	v.back = outletOf(a.Err).through(func(line string) { v.program.Send(tea.Println(line)()) }, false) // unlike its own Println, it does not wait for a program that has ended
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

// lineEvents writes an event of JSON for each step and each result.
type lineEvents struct{ app *App }

func (v lineEvents) step(p commission.Plan, s commission.Step, text string) {
	_ = v.app.line(lineJSON{Event: "step", Tag: p.Tag, MAC: &p.MAC, Step: s, Text: v.app.veil.Text(text)}) // as when nobody reads
}

func (v lineEvents) result(r commission.Result) {
	_ = v.app.line(lineJSON{Event: "result", Tag: r.Plan.Tag, MAC: &r.Plan.MAC, Status: r.Status, Text: v.app.veil.Text(r.Reason)})
}

func (lineEvents) stop() {}

// lineView writes a line for each write and each result; waiting and reading
// would drown them.
type lineView struct {
	app   *App
	every bool // waiting and reading too
	left  int
	mu    sync.Mutex
}

// startSteps shows all that is done to a few devices, a line each.
func (a *App) startSteps(n int) progressView {
	if a.lined {
		return lineEvents{a}
	}
	if a.quiet {
		return noView{}
	}
	return &lineView{app: a, every: true, left: n}
}

func (v *lineView) step(p commission.Plan, s commission.Step, text string) {
	if commission.Waits(s) && !v.every {
		return
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.app.say("%s  %-8s %s", p.Tag, s, text)
}

func (v *lineView) result(r commission.Result) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.left--
	text := strings.TrimSpace(string(r.Status) + " " + r.Reason)
	if v.left > 0 {
		text += fmt.Sprintf("  (%d to go)", v.left)
	}
	v.app.say("%s  %s", r.Plan.Tag, text)
}

func (v *lineView) stop() {}

// liveView redraws on a terminal.
type liveView struct {
	program *tea.Program
	done    chan struct{}
	back    func() // gives standard error back
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
	v.back()
}

// liveModel is what the live view shows.
type liveModel struct {
	app    *App
	tags   []string
	lines  map[string]*liveLine
	begun  time.Time
	usual  time.Duration // what devices of the job took before
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
		m.lines[p.Tag] = &liveLine{name: p.Target.Name, from: addressText(p.From), to: addressText(p.Target.Address), text: "waiting", since: time.Now()}
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
	spent := time.Since(m.begun)
	fmt.Fprintf(&b, "%d of %d done, %d at work, %s   %.0f s%s", len(done), len(m.tags), len(work), needYou(len(needs)), spent.Seconds(), leftText(spent, len(work), len(m.tags)-len(work), m.usual))
	if m.ended {
		b.WriteString("\n")
	}
	return b.String()
}

// needYou counts those that need a person.
func needYou(n int) string {
	if n == 1 {
		return "1 needs you"
	}
	return fmt.Sprintf("%d need you", n)
}

// allAtWork is how many devices are spoken with at once at least.
const allAtWork = 32

// leftText says about how long is left. Where more are to be done than at once, that is by
// how quickly they have gone so far; else all are at work, and take as long as devices of
// the job took in earlier runs. It says nothing that it has no grounds for.
func leftText(spent time.Duration, working, through int, usual time.Duration) string {
	left := usual - spent
	if all := working + through; all > allAtWork && through*10 >= all {
		left = spent * time.Duration(working) / time.Duration(through)
	} else if usual == 0 {
		return ""
	}
	switch left = left.Round(time.Second); {
	case working == 0:
		return ""
	case left <= 0:
		return ", longer than usual"
	default:
		return ", about " + secondsText(left) + " left"
	}
}

// secondsText writes a length of time as the rest of the line does.
func secondsText(d time.Duration) string {
	if d < 2*time.Minute {
		return fmt.Sprintf("%.0f s", d.Seconds())
	}
	return fmt.Sprintf("%.0f min", d.Minutes())
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
