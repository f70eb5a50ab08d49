// Package app is the frame of the full-screen application: the trail, the views on it, the duel under way.
//
// Run blocks until the user leaves, and waits for whatever it started. Contents belong to the views; input and output
// happen in the commands of commands.go.
package app

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"strings"
	"sync"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"paceduel/core/cell"
	"paceduel/core/commits"
	"paceduel/core/conduct"
	"paceduel/core/contender"
	"paceduel/core/draft"
	"paceduel/core/judge"
	"paceduel/core/logbook"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	corerounds "paceduel/core/rounds"
	"paceduel/core/units"
	"paceduel/core/weighin"
	"paceduel/screen"
	"paceduel/screen/look"
)

// Config is what the application starts with.
type Config struct {
	Title   string // of the folder, for people
	Dir     string // where the duels are
	At      string // the plan file to stand at first; empty: the first of them
	Options read.Options
	// Questions are kinds of duels that people come with.
	Questions []draft.Question
	Kinds     []contender.Kind
	Program   string // our version
	Book      *logbook.Book
	BookErr   error         // why Book is nil
	Builds    commits.Cache // where what is built from commits is kept
	Aside     conduct.Aside // where runs go that the logbook does not have
	SaveDir   string        // where pictures and plans are saved
	Editor    string        // the user's editor, a command line; empty: vi
	Seed      uint64
	Today     time.Time // zero: not known
	// Elsewhere, when set, has a plan that says so driven from elsewhere.
	Elsewhere func(*plan.Plan, *conduct.Spec)
	// Start, when set, is run at once. Open, when set, is shown.
	Start *plan.Plan
	Open  *result.Result
	// Plain leaves colours out.
	Plain bool
}

// Run runs the application on the terminal until the user leaves or ctx ends. A duel under way is ended and kept.
func Run(ctx context.Context, cfg Config) error {
	own, cancel := context.WithCancel(ctx)
	m := newModel(own, cfg)
	options := []tea.ProgramOption{tea.WithContext(own), tea.WithFPS(30), tea.WithoutSignalHandler()}
	if cfg.Plain {
		options = append(options, tea.WithColorProfile(colorprofile.ASCII))
	}
	_, err := tea.NewProgram(m, options...).Run()
	cancel()
	m.duels.Wait()
	if errors.Is(err, tea.ErrProgramKilled) && ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		return fmt.Errorf("run the application on this terminal: %w", err)
	}
	return nil
}

// session is a duel that was started here. Its methods accept nil: no duel.
type session struct {
	plan    *plan.Plan
	before  *result.Result // that it goes on from; nil: none
	cancel  context.CancelFunc
	control *corerounds.Control
	feed    *feed
	run     string // its identifier, once it is known
	answers answers
}

// halt asks the duel to end; what was measured is kept.
func (s *session) halt() {
	if s != nil {
		s.cancel()
	}
}

type keyMap struct{ stops, next, help, quit, close, yes key.Binding }

func keys() keyMap {
	return keyMap{
		next:  key.NewBinding(key.WithKeys("tab"), key.WithHelp("tab", "next stop")),
		help:  key.NewBinding(key.WithKeys("?"), key.WithHelp("?", "keys")),
		quit:  key.NewBinding(key.WithKeys("q", "ctrl+c"), key.WithHelp("q", "quit")),
		close: key.NewBinding(key.WithKeys("esc", "?"), key.WithHelp("esc", "back")),
		yes:   key.NewBinding(key.WithKeys("q", "enter", "ctrl+c"), key.WithHelp("q", "quit and keep")),
	}
}

// Model is the frame. It is a value; only Run makes one.
type Model struct {
	ctx     context.Context // of the whole program; the root owns it
	cfg     Config
	keys    keyMap
	scene   screen.Scene
	listed  logbook.Filter // which runs the log asked for
	reads   int            // how often the logbook was looked into
	read    int            // the latest of these looks that is told
	stops   []screen.Row   // in working order; a row is replaced, never changed
	at      screen.Stop
	w, h    int
	help    bool // the keys are shown
	leaving bool // asked whether to quit during a run
	notice  notice
	duels   *sync.WaitGroup // every duel that was started and has not ended
	session *session        // the latest
	whole   *screen.Run     // the run in view as it came; of a sweep the scene has one of its points
	point   cell.Point      // of a sweep that is in view
	serial  int             // of the session, so that states of an older one are dropped
	frame   string
	// a key was drawn a moment ago: those that follow wait for the next frame
	resting bool
	stale   bool                                                 // there is something to draw in it
	later   func(time.Duration, func(time.Time) tea.Msg) tea.Cmd // tea.Tick; tests leave ticks out
}

// notice is a line for the user that goes away by itself.
type notice struct {
	text    string
	trouble bool
	serial  int
}

func newModel(ctx context.Context, cfg Config) Model {
	m := Model{ctx: ctx, cfg: cfg, keys: keys(), later: tea.Tick, duels: &sync.WaitGroup{}, listed: screen.Kept}
	m.stops = stops(cfg)
	m.at = m.stops[0].Stop
	m.keys.stops = stopKeys(m.stops)
	m.scene = screen.Scene{
		Theme: look.New(true), Title: cfg.Title, Today: cfg.Today, BookTrouble: cfg.BookErr, Where: shownAt(m.stops),
		Pictures: &screen.Pictures{},
	}
	if cfg.Open != nil {
		m, _ = m.show(opened(cfg.Open))
		m.at = judgedStop(m.scene.Run)
	}
	return m
}

// Init implements tea.Model.
func (m Model) Init() tea.Cmd {
	cmds := []tea.Cmd{tea.RequestBackgroundColor, readFolder(m.cfg, m.cfg.At), readRuns(m.cfg.Book, m.listed, nil, 0),
		probeMachine(m.ctx)}
	if m.whole != nil && m.whole.Judging {
		cmds = append(cmds, judgeSweep(m.whole.Result, false))
	}
	if m.cfg.Start != nil {
		cmds = append(cmds, screen.Send(screen.StartMsg{Duel: screen.Duel{File: m.cfg.Start.File, Plan: m.cfg.Start}}))
	}
	return tea.Batch(cmds...)
}

// Update implements tea.Model.
func (m Model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	next, cmd := m.update(msg)
	if chooser, ok := next.view(screen.Ask).(screen.Chooser); ok {
		next.scene.Chosen = chooser.Choice(next.scene)
	}
	_, isKey := msg.(tea.KeyPressMsg)
	_, isFrame := msg.(frameMsg)
	switch {
	case isFrame && !m.stale:
		next.resting = false
		return next, cmd
	case isKey && m.resting && next.captured():
		next.stale = true // whoever types, or pastes as keys, is ahead of any drawing
		return next, cmd
	}
	next.frame, next.stale = look.Frame(next.draw()), false
	next.resting = false
	if isFrame || isKey && next.captured() {
		if wait := m.later(frameTime, func(time.Time) tea.Msg { return frameMsg{} }); wait != nil {
			next.resting, cmd = true, tea.Batch(cmd, wait)
		}
	}
	return next, cmd
}

// frameTime is how long a frame stands at least while somebody types: drawing one takes as long as many keys.
const frameTime = 16 * time.Millisecond

// frameMsg says that a frame has stood for its time.
type frameMsg struct{}

// View implements tea.Model; the frame was drawn when something changed.
func (m Model) View() tea.View {
	v := tea.NewView(m.frame)
	v.AltScreen = true
	v.WindowTitle = "Pace Duel"
	return v
}

// update handles a message. It is long since each kind of message is a case.
func (m Model) update(msg tea.Msg) (Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.w, m.h = msg.Width, msg.Height
		return m, nil
	case tea.BackgroundColorMsg:
		m.scene.Theme = look.New(msg.IsDark())
		return m, nil
	case tea.KeyPressMsg:
		return m.press(msg)
	case tea.PasteMsg:
		if m.captured() {
			return m.toView(msg)
		}
		return m, nil
	case folderMsg:
		m.scene.Duels = msg.duels
		if msg.err != nil {
			return m.say(msg.err.Error(), true)
		}
		if msg.chosen != "" {
			m, _ = m.tell(screen.Ask, screen.ChosenMsg{File: msg.chosen})
		}
		if len(msg.duels) == 0 && m.cfg.Dir != "" && m.cfg.Start == nil && m.cfg.Open == nil {
			m, _ = m.tell(screen.Ask, screen.EmptyFolderMsg{Served: msg.served, Earlier: msg.earlier})
		}
		return m.readRuns()
	case changedMsg:
		return m.changed(msg)
	case runsMsg:
		if msg.no < m.read { // it took longer than a later one
			return m, nil
		}
		m.read, m.scene.Book, m.scene.Past = msg.no, msg.totals, msg.past
		if msg.of == m.listed { // else others have been asked for since
			m.scene.Runs, m.scene.Found, m.scene.Listed = msg.runs, msg.found, msg.of
		}
		if msg.err != nil {
			m.scene.BookTrouble = msg.err
		}
		return m, nil
	case probedMsg:
		m.scene.Machine = &msg.machine
		return m, nil
	case stateMsg:
		return m.follow(msg)
	case openedMsg:
		if msg.err != nil {
			return m.say(msg.err.Error(), true)
		}
		m.point = ""
		m, cmd := m.show(msg.run)
		m.at = judgedStop(m.scene.Run)
		if msg.run.Judging {
			cmd = tea.Batch(cmd, judgeSweep(msg.run.Result, false))
		}
		return m.tellAll(screen.RunInViewMsg{}), cmd
	case sweptMsg:
		return m.swept(msg)
	case pointMsg:
		return m.judgedPoint(msg), nil
	case turnedMsg:
		if run := m.scene.Run; run != nil && run.Result == msg.of {
			next := *run
			next.Turned = maps.Clone(run.Turned)
			if next.Turned == nil {
				next.Turned = map[string]*judge.Verdict{}
			}
			next.Turned[msg.base] = msg.verdict
			m.scene.Run = &next
		}
		return m, nil
	case saidMsg:
		return m.say(msg.text, msg.err)
	case noticeOverMsg:
		if msg.serial == m.notice.serial {
			m.notice.text = ""
		}
		return m, nil
	}
	return m.request(msg)
}

// request does what a view asked for. It is long since each wish is a case.
func (m Model) request(msg tea.Msg) (Model, tea.Cmd) {
	switch msg := msg.(type) {
	case screen.StartMsg:
		return m.start(msg.Duel.Plan, false, nil)
	case screen.TryMsg:
		if m.scene.Run != nil && m.scene.Run.Live {
			return m.say("a duel is on; halt it first", true)
		}
		return m, tryOut(m.ctx, m.cfg, msg)
	case screen.TriedMsg:
		return m.tell(screen.Ask, msg)
	case screen.AcceptMsg:
		if m.session != nil {
			return m.start(m.session.plan, true, m.session.before)
		}
		return m, nil
	case screen.HaltMsg:
		m.session.halt()
		return m.say(m.halted(), false)
	case screen.PauseMsg:
		if m.session == nil {
			return m, nil
		}
		if m.session.control.Toggle() {
			return m.say("the run waits before its next heat", false)
		}
		return m.say("the run goes on", false)
	case screen.LeaveOutMsg:
		if m.session == nil {
			return m, nil
		}
		m.session.control.LeaveOut(msg.Contender)
		return m.say("from its next heat on the run goes on without "+msg.Contender, false)
	case screen.AddRoundsMsg:
		if m.session == nil {
			return m, nil
		}
		m.session.control.AddRounds(msg.Rounds)
		return m.say(units.Plural(msg.Rounds, "round")+" more from the next heat on", false)
	case screen.GoOnMsg:
		if m.whole == nil || m.whole.Live {
			return m, nil
		}
		return m, readAgain(m.cfg, m.whole.Result, msg.Rounds)
	case goOnMsg:
		if msg.err != nil {
			return m.say(msg.err.Error(), true)
		}
		return m.start(msg.plan, false, msg.before)
	case screen.PointMsg:
		return m.toPoint(msg)
	case screen.OpenMsg:
		return m, openRun(m.cfg.Book, msg.ID)
	case screen.RemarkMsg:
		return m, inBook(m.cfg.Book, func(b *logbook.Book) error {
			_, _, err := b.Remark(msg.ID, msg.Change)
			return err
		})
	case screen.LinesMsg:
		return m, readLines(m.ctx, m.cfg.Book, msg.Duel)
	case linesMsg:
		if msg.err != nil {
			return m.say(msg.err.Error(), true)
		}
		m.scene.Lines, m.scene.AllLines = msg.lines, msg.all
		return m, nil
	case screen.PairMsg:
		return m, pairUp(m.cfg.Book, msg)
	case pairedMsg:
		if msg.err != nil {
			return m.say(msg.err.Error(), true)
		}
		m.scene.Pair = msg.pair
		return m.tell(screen.Log, screen.PairedMsg{})
	case screen.AgainMsg:
		return m, readOnceMore(m.cfg, msg.ID)
	case onceMoreMsg:
		if msg.err != nil {
			return m.say(msg.err.Error(), true)
		}
		m, cmd := m.start(msg.plan, false, nil)
		if len(msg.notes) > 0 {
			var said tea.Cmd
			m, said = m.say(strings.Join(msg.notes, "; "), true)
			cmd = tea.Batch(cmd, said)
		}
		return m, cmd
	case screen.DeleteRunMsg:
		return m, inBook(m.cfg.Book, func(b *logbook.Book) error { return b.Delete(msg.ID) })
	case bookChangedMsg:
		if msg.err != nil {
			return m.say(msg.err.Error(), true)
		}
		return m.readRuns()
	case screen.ListMsg:
		m.listed = msg.Of
		return m.readRuns()
	case screen.GoMsg:
		m.at = m.scene.Where[msg.To]
		return m.toView(msg)
	case screen.ReloadMsg:
		m, runs := m.readRuns()
		return m, tea.Batch(readFolder(m.cfg, ""), runs)
	case screen.ProbeMsg:
		return m, probeMachine(m.ctx)
	case screen.NewPlanMsg:
		return m, newPlan(m.cfg.Dir, msg)
	case screen.ChangePlanMsg:
		return m, changePlan(msg)
	case screen.RemovePlanMsg:
		return m, removePlan(msg.Duel.File)
	case screen.EditMsg:
		return m, m.edit(msg.File)
	case screen.SayMsg:
		return m.say(msg.Text, msg.Trouble)
	case screen.SaveMsg:
		return m, save(m.cfg.SaveDir, msg)
	case screen.TurnMsg:
		return m, turn(m.scene.Run, msg.Base)
	case screen.SaveAnswersMsg:
		var whole *answers
		if m.session != nil && m.scene.Run != nil && m.scene.Run.Result.ID == m.session.run {
			whole = &m.session.answers
		}
		return m, saveAnswers(m.cfg.SaveDir, m.scene.Run.Result, whole)
	case screen.KeepPlanMsg:
		return m, keepPlan(m.cfg.SaveDir, m.scene.Run.Result)
	}
	return m, nil
}

// halted says what is kept of a duel that is halted.
func (m Model) halted() string {
	heats, rounds := 0, 0
	if run := m.scene.Run; run != nil {
		heats = len(run.Heats)
		if run.Verdict != nil {
			rounds = run.Verdict.Rounds
		}
		if run.Swept != nil {
			heats = len(run.Swept.Heats)
		}
	}
	text := "halted: " + units.Plural(heats, "finished heat") + " kept, and listed under log"
	if rounds == 0 {
		text += "; a verdict takes a whole round"
	}
	return text
}

// start runs a duel unless one is on; accept takes unequal work as it is. It goes on from an earlier run where one is
// given.
func (m Model) start(p *plan.Plan, accept bool, before *result.Result) (Model, tea.Cmd) {
	if m.scene.Run != nil && m.scene.Run.Live {
		return m.say("a duel is on; halt it first", true)
	}
	m.session = startSession(m.ctx, m.duels, m.cfg, p, accept, before)
	m.serial++
	m.at = screen.Rounds
	if p.Sweep != nil {
		m.at = screen.Sweep
	}
	if m.scene.Run, m.whole = nil, nil; before == nil {
		m.point = ""
	}
	return m.tellAll(screen.RunInViewMsg{}), nextState(m.ctx, m.session, m.serial)
}

// follow brings the newest state of the duel into view.
func (m Model) follow(msg stateMsg) (Model, tea.Cmd) {
	if msg.serial != m.serial || msg.run == nil {
		return m, nil
	}
	wasLive := m.scene.Run == nil || m.scene.Run.Live
	if at, ok := inTrouble(msg.run); ok && wasLive {
		m.point = at
	}
	m, judging := m.show(msg.run)
	m.session.run = msg.run.Result.ID
	if msg.run.Live {
		return m, tea.Batch(judging, nextState(m.ctx, m.session, m.serial))
	}
	if !wasLive {
		return m, judging
	}
	if m.at == screen.Rounds || m.at == screen.Sweep {
		m.at = judgedStop(m.scene.Run)
		if len(msg.run.Heats) == 0 {
			m.at = screen.WeighIn
		}
	}
	m, runs := m.readRuns()
	return m, tea.Batch(judging, runs)
}

// readRuns looks into the logbook anew.
func (m Model) readRuns() (Model, tea.Cmd) {
	m.reads++
	return m, readRuns(m.cfg.Book, m.listed, m.scene.Duels, m.reads)
}

// inTrouble is the point of a sweep at whose weigh-in a run ended.
func inTrouble(r *screen.Run) (at cell.Point, ok bool) {
	if r.Live || len(r.Heats) > 0 || r.Result.Sweep == nil {
		return "", false
	}
	for i := range r.Result.Sweep.Points {
		p := &r.Result.Sweep.Points[i]
		for _, e := range p.Entrants {
			if e.Touch != nil && !weighin.Passed(e.Touch) {
				return p.At, true
			}
		}
		if p.Weighing != nil && len(p.Weighing.Unequal()) > 0 {
			return p.At, true
		}
	}
	return "", false
}

// judgedStop is where a finished run is looked at first.
func judgedStop(r *screen.Run) screen.Stop {
	if r.Swept != nil {
		return screen.Sweep
	}
	return screen.Verdict
}

// show brings a run into view, of a sweep the point that was in view, or its first. The command reaches that point's
// verdict, where that is still to be done.
func (m Model) show(run *screen.Run) (Model, tea.Cmd) {
	before := m.scene.Run
	m.whole, m.scene.Run = run, run
	if run.Result.Sweep == nil {
		return m, nil
	}
	point := max(run.Result.Sweep.Find(m.point), 0)
	m.point = run.Result.Sweep.Points[point].At
	next := run.AtPoint(point)
	m.scene.Run = next
	if before != nil && before.Swept != nil && before.Result.ID == next.Result.ID && before.Swept.Point == point {
		next.Verdict, next.Turned = before.Verdict, before.Turned // until there is a newer one
		if before.Swept.Judged == run.Judged {
			return m, nil
		}
		next.Turned = nil
	}
	if run.Judged == nil {
		return m, nil
	}
	if ready := run.Judged.Ready(point); ready != nil {
		next.Verdict = ready
		return m, nil
	}
	return m, judgePoint(run.Judged, point, m.point)
}

// swept takes in what may be said of the sweep in view, and has the rest of it judged.
func (m Model) swept(msg sweptMsg) (Model, tea.Cmd) {
	if m.whole == nil || m.whole.Result != msg.of {
		return m, nil
	}
	next := *m.whole
	next.Judged, next.Unjudged, next.Judging = msg.sweep, msg.err, false
	m, cmd := m.show(&next)
	if msg.whole || msg.err != nil {
		return m, cmd
	}
	return m, judgeSweep(msg.of, true) // the verdict of the point in view comes with it
}

// toPoint brings another point of a sweep into view.
func (m Model) toPoint(msg screen.PointMsg) (Model, tea.Cmd) {
	if m.whole == nil || m.whole.Result.Sweep == nil || msg.Point >= len(m.whole.Result.Sweep.Points) {
		return m, nil
	}
	if at := m.whole.Result.Sweep.Points[msg.Point].At; at != m.point {
		m.point = at
		var cmd tea.Cmd
		if m, cmd = m.show(m.whole); msg.Open {
			m.at = screen.Verdict
		}
		return m, cmd
	}
	if msg.Open {
		m.at = screen.Verdict
	}
	return m, nil
}

// judgedPoint takes in the verdict of the point in view.
func (m Model) judgedPoint(msg pointMsg) Model {
	if r := m.scene.Run; r != nil && r.Swept != nil && r.Swept.Judged == msg.of && m.point == msg.at {
		next := *r
		next.Verdict = msg.verdict
		m.scene.Run = &next
	}
	return m
}

const noticeTime = 6 * time.Second

// say shows a line for a while.
func (m Model) say(text string, trouble bool) (Model, tea.Cmd) {
	m.notice = notice{text, trouble, m.notice.serial + 1}
	serial := m.notice.serial
	return m, m.later(noticeTime, func(time.Time) tea.Msg { return noticeOverMsg{serial} })
}

// changed follows a change of a plan file: the folder is read again, the file stood at, and opened if that was asked
// for.
func (m Model) changed(msg changedMsg) (Model, tea.Cmd) {
	if msg.err != nil {
		return m.say(msg.err.Error(), true)
	}
	m, tick := m.say(msg.said, false)
	cmds := []tea.Cmd{tick, readFolder(m.cfg, msg.file)}
	if msg.edit {
		cmds = append(cmds, m.edit(msg.file))
	}
	return m, tea.Batch(cmds...)
}

// edit hands the terminal to the user's editor.
func (m Model) edit(file string) tea.Cmd {
	editor, err := editorCommand(m.ctx, m.cfg.Editor, file)
	if err != nil {
		return screen.Send(saidMsg{err.Error(), true})
	}
	return tea.Exec(&foreground{editor}, func(err error) tea.Msg { return edited(file, err) })
}

// captured reports whether the view at hand takes every key.
func (m Model) captured() bool {
	c, ok := m.view(m.at).(screen.Capturer)
	return ok && c.Captures() && !m.help && !m.leaving
}

func (m Model) toView(msg tea.Msg) (Model, tea.Cmd) { return m.tell(m.at, msg) }

func (m Model) press(msg tea.KeyPressMsg) (Model, tea.Cmd) {
	switch {
	case m.captured() && msg.String() != "ctrl+c":
		return m.toView(msg)
	case m.leaving:
		if key.Matches(msg, m.keys.yes) {
			m.session.halt()
			return m, tea.Quit
		}
		m.leaving = false
		return m, nil
	case m.help && key.Matches(msg, m.keys.close):
		m.help = false
		return m, nil
	case key.Matches(msg, m.keys.quit):
		if m.scene.Run != nil && m.scene.Run.Live {
			m.leaving, m.help = true, false
			return m, nil
		}
		return m, tea.Quit
	case key.Matches(msg, m.keys.help):
		m.help = true
		return m, nil
	case key.Matches(msg, m.keys.stops):
		for _, row := range m.stops {
			if row.Key() != msg.String() {
				continue
			}
			if row.Stop == m.at && !m.help { // whoever is there already turns to what else there is to see
				return m.toView(msg)
			}
			m.at, m.help = row.Stop, false
			break
		}
		return m, nil
	case key.Matches(msg, m.keys.next):
		m.at, m.help = m.stops[(m.index(m.at)+1)%len(m.stops)].Stop, false
		return m, nil
	}
	return m.toView(msg)
}
