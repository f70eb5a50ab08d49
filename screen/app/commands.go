package app

import (
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/google/shlex"

	"paceduel/core/between"
	"paceduel/core/cell"
	"paceduel/core/chart/paper"
	"paceduel/core/conduct"
	"paceduel/core/contender"
	"paceduel/core/draft"
	"paceduel/core/files"
	"paceduel/core/footing"
	"paceduel/core/history"
	"paceduel/core/judge"
	"paceduel/core/keeper"
	"paceduel/core/logbook"
	"paceduel/core/meter"
	"paceduel/core/panics"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/core/units"
	"paceduel/screen"
)

// What came of a command.
type (
	folderMsg struct {
		duels           []screen.Duel
		served, earlier []screen.Offer // where there are no duels
		chosen          string         // the file to stand at; empty: as it is
		err             error
	}
	bookChangedMsg struct{ err error }
	runsMsg        struct {
		no     int // which look into the logbook it is
		of     logbook.Filter
		runs   []logbook.Entry
		found  int
		past   map[string]logbook.Past
		totals logbook.Totals
		err    error
	}
	probedMsg struct{ machine screen.Machine }
	stateMsg  struct {
		run    *screen.Run
		serial int
	}
	openedMsg struct {
		run *screen.Run
		err error
	}
	saidMsg struct {
		text string
		err  bool
	}
	noticeOverMsg struct{ serial int }
	changedMsg    struct {
		file, said string
		edit       bool
		err        error
	}
)

// Bounds of what is shown of the logbook, in runs.
const (
	maxListed = 200
	maxPast   = 24 // of each duel of the folder
)

// readFolder reads the plans of the folder; chosen is the file to stand at afterwards.
func readFolder(cfg Config, chosen string) tea.Cmd {
	return func() tea.Msg {
		if cfg.Dir == "" {
			return folderMsg{}
		}
		dir, err := filepath.Abs(cfg.Dir)
		if err != nil {
			return folderMsg{err: fmt.Errorf("read folder %s: %w", cfg.Dir, err)}
		}
		if _, err := os.ReadDir(dir); err != nil {
			return folderMsg{err: fmt.Errorf("read folder: %w", err)}
		}
		found, err := filepath.Glob(filepath.Join(escapeGlob(dir), "*"+plan.Suffix))
		if err != nil {
			return folderMsg{err: fmt.Errorf("read folder %s: %w", dir, err)}
		}
		slices.Sort(found)
		var duels []screen.Duel
		for _, f := range found {
			p, err := read.File(f, cfg.Options)
			d := screen.Duel{File: f, Plan: p, Problems: err}
			if p != nil {
				d.Source = p.Source
			} else if text, err := files.Read(f, read.MaxBytes); err == nil {
				d.Source = string(text)
			}
			duels = append(duels, d)
		}
		out := folderMsg{duels: duels}
		if chosen != "" {
			if out.chosen, err = filepath.Abs(chosen); err != nil {
				out.chosen = chosen
			}
		}
		if len(duels) == 0 {
			for _, on := range meter.Listening() {
				text := draft.Listening(cfg.drafts(), on.Program, on.Port)
				out.served = append(out.served, screen.Offer{Text: text, About: on.Program})
			}
			out.earlier = earlierContenders(cfg)
		}
		return out
	}
}

// earlierContenders are what contenders of the latest duels do, as far as it can be typed.
func earlierContenders(cfg Config) (out []screen.Offer) {
	const runs, most = 4, 6
	if cfg.Book == nil {
		return nil
	}
	list, _ := cfg.Book.List(runs, logbook.Filter{Attempts: logbook.Kept})
	for _, e := range list {
		r, err := cfg.Book.Load(e.ID)
		if err != nil {
			continue
		}
		for i := range r.Entrants {
			text, typed := typed(cfg.Kinds, &r.Entrants[i])
			known := slices.ContainsFunc(out, func(o screen.Offer) bool { return o.Text == text })
			if typed && !known && len(out) < most {
				out = append(out, screen.Offer{Text: text, About: r.Entrants[i].Name + " of " + r.Plan.Name})
			}
		}
	}
	return out
}

// typed is the text by which one would ask for what a contender did; ok is false where none says all of it.
func typed(kinds []contender.Kind, e *result.Entrant) (text string, ok bool) {
	text, ok = e.Does, !strings.Contains(e.Does, "${") && !strings.Contains(e.Does, "{{")
	for _, k := range kinds {
		if ok && k.Name == e.Kind && k.Draft != nil && k.Draft.Typed != nil {
			return k.Draft.Typed(text)
		}
	}
	return text, ok
}

// tryLimit is how long two contenders are tried.
const tryLimit = 30 * time.Second

// tryOut makes a plan of two texts and asks both once, as a weigh-in does.
func tryOut(ctx context.Context, cfg Config, msg screen.TryMsg) tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(ctx, tryLimit)
		defer cancel()
		out := screen.TriedMsg{Serial: msg.Serial}
		wish := between.Wishes{Imports: true}
		if out.Plan, out.Err = between.Plan(
			ctx, cfg.Dir, msg.Texts[:], wish, cfg.Kinds, cfg.Options.Lookup,
		); out.Err == nil {
			out.Plan.Options = nil // there are none here
			out.Result, out.Err = rounds.WeighIn(ctx, rounds.Config{
				Plan: out.Plan, Kinds: cfg.Kinds, Program: cfg.Program, Builds: cfg.Builds,
			})
		}
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			out.Result, out.Err = nil, fmt.Errorf(
				"not both of them were done after %s; give them less to do, or keep the plan and run it",
				units.Duration(tryLimit),
			)
		}
		return out
	}
}

func escapeGlob(dir string) string {
	return strings.NewReplacer(`\`, `\\`, `[`, `\[`, `*`, `\*`, `?`, `\?`).Replace(dir)
}

// probeMachine tries what this machine can do for a footing.
func probeMachine(ctx context.Context) tea.Cmd {
	return func() tea.Msg {
		return probedMsg{screen.Machine{Able: footing.Probe(ctx, footing.DefaultPlace()), Load: meter.Now()}}
	}
}

// inBook changes something in the logbook.
func inBook(book *logbook.Book, change func(*logbook.Book) error) tea.Cmd {
	return func() tea.Msg {
		if book == nil {
			return nil
		}
		return bookChangedMsg{change(book)}
	}
}

// linesMsg brings the duels of the logbook over time.
type linesMsg struct {
	lines []*history.Line
	all   int // how many duels there are
	err   error
}

// Bounds of what is shown of the logbook's duels.
const (
	shownDuels = 30
	shownRuns  = 40 // of each
)

// readLines reads them; of one that is named all runs are judged that have not been, of the others a few.
func readLines(ctx context.Context, book *logbook.Book, whole string) tea.Cmd {
	return func() tea.Msg {
		if book == nil {
			return nil
		}
		duels, all, err := book.Duels(shownDuels)
		if err != nil {
			return linesMsg{err: err}
		}
		out := linesMsg{lines: []*history.Line{}, all: all}
		for _, d := range duels {
			judged := conduct.Glimpse
			if d.Name == whole {
				judged = shownRuns
			}
			line, err := conduct.TimeLine(ctx, book, d.Name, shownRuns, judged)
			if err != nil {
				return linesMsg{err: err}
			}
			out.lines = append(out.lines, line)
		}
		return out
	}
}

// pairedMsg brings two runs that were held to each other.
type pairedMsg struct {
	pair *history.Pair
	err  error
}

func pairUp(book *logbook.Book, of screen.PairMsg) tea.Cmd {
	return func() tea.Msg {
		then, err := book.Load(of.Then)
		if err != nil {
			return pairedMsg{err: err}
		}
		now, err := book.Load(of.Now)
		if err != nil {
			return pairedMsg{err: err}
		}
		if now.Started.Before(then.Started) {
			then, now = now, then
		}
		p, err := history.PairOf(then, now, "", "")
		return pairedMsg{p, err}
	}
}

// onceMoreMsg brings the plan of an earlier run.
type onceMoreMsg struct {
	plan  *plan.Plan
	notes []string
	err   error
}

func readOnceMore(cfg Config, id string) tea.Cmd {
	return func() tea.Msg {
		r, err := cfg.Book.Load(id)
		if err != nil {
			return onceMoreMsg{err: err}
		}
		file := r.Plan.File
		if e, err := cfg.Book.Entry(id); err == nil && e.File != "" {
			file = e.File
		}
		p, notes, err := history.Again(r, file, cfg.Options)
		if err == nil {
			p.Seed = r.Seed
		}
		return onceMoreMsg{p, notes, err}
	}
}

// readRuns looks into the logbook for the runs that a filter takes, and for those of duels; no counts the looks.
func readRuns(book *logbook.Book, of logbook.Filter, duels []screen.Duel, no int) tea.Cmd {
	return func() tea.Msg {
		if book == nil {
			return nil
		}
		m := runsMsg{no: no, of: of}
		var errs [3]error
		m.runs, m.found, errs[0] = book.Find(maxListed, of)
		m.totals, errs[1] = book.Totals()
		var files []string
		for _, d := range duels {
			files = append(files, d.File)
		}
		m.past, errs[2] = book.PastOf(files, maxPast)
		m.err = cmp.Or(errs[:]...)
		return m
	}
}

// glance is how often the screen looks at a heat under way: what drawing costs falls on whoever is measured, so that it
// is done rarely; between heats all is drawn anew.
const glance = 2 * time.Second

// startSession runs a duel in the background until it ends, is halted, or ctx ends; running counts it until then.
func startSession(
	ctx context.Context, running *sync.WaitGroup, cfg Config, p *plan.Plan, accept bool, before *result.Result,
) *session {
	ctx, cancel := context.WithCancel(ctx)
	s := &session{plan: p, before: before, cancel: cancel, control: &rounds.Control{}, feed: newFeed()}
	f := newFollower(s.feed)
	if before != nil {
		f.run.Heats = slices.Clone(before.Heats)
	}
	running.Go(func() {
		defer cancel()
		spec := conduct.Spec{
			Plan: p, Kinds: cfg.Kinds, Program: cfg.Program, Seed: cfg.Seed, Book: cfg.Book, Aside: cfg.Aside,
			Builds: cfg.Builds, Accept: accept,
			OnAnswer: s.answers.keep, Control: s.control, Glance: glance, Before: before,
		}
		if cfg.Elsewhere != nil {
			cfg.Elsewhere(p, &spec)
		}
		var fault error
		func() {
			defer panics.Catch("run the duel", &fault)
			// the last event carries the error, but where nothing was begun
			if o, err := conduct.Duel(ctx, spec, f.follow); o.Result == nil && err != nil {
				fault = err
			}
		}()
		if fault != nil {
			f.fell(fault)
		}
	})
	return s
}

// nextState waits for the duel's next state.
func nextState(ctx context.Context, s *session, serial int) tea.Cmd {
	return func() tea.Msg {
		select {
		case <-s.feed.ready:
			return stateMsg{s.feed.last.Load(), serial}
		case <-ctx.Done():
			return nil
		}
	}
}

// opened brings a finished run into the form that views see.
func opened(r *result.Result) *screen.Run {
	if r.Sweep != nil {
		return &screen.Run{Result: r, Heats: r.Heats, Judging: true}
	}
	v, err := judge.Judge(r)
	return &screen.Run{Result: r, Heats: r.Heats, Verdict: v, Unjudged: err}
}

// turnedMsg carries a verdict with another contender in the baseline's place.
type turnedMsg struct {
	of      *result.Result
	base    string
	verdict *judge.Verdict
}

// turn judges a run with another contender in the baseline's place.
func turn(run *screen.Run, base string) tea.Cmd {
	return func() tea.Msg {
		r := *run.Result
		r.Heats = run.Heats
		facing := func() (*judge.Verdict, error) { return judge.Facing(&r, base) }
		if whole := run.Swept; whole != nil && whole.Judged != nil {
			facing = func() (*judge.Verdict, error) { return whole.Judged.FacingAt(whole.Point, base) }
		}
		v, err := facing()
		if err != nil {
			return saidMsg{err.Error(), true}
		}
		return turnedMsg{run.Result, base, v}
	}
}

// goOnMsg carries the plan of a run that is gone on with.
type goOnMsg struct {
	plan   *plan.Plan
	before *result.Result
	err    error
}

// readAgain reads the plan of a run again, from its file where that is still there, with so many more rounds.
func readAgain(cfg Config, r *result.Result, rounds int) tea.Cmd {
	return func() tea.Msg {
		opt := cfg.Options
		opt.Sets = r.Plan.Sets
		p, err := read.File(r.Plan.File, opt)
		if errors.Is(err, fs.ErrNotExist) {
			p, err = read.Plan(r.Plan.File, []byte(r.Plan.Source), opt)
		}
		if err != nil {
			return goOnMsg{err: fmt.Errorf("go on with run %s: %w", r.ID, err)}
		}
		if p.Sweep != nil && p.Sweep.Within == 0 {
			p.Rounds = len(r.Order) + rounds
		}
		if p, err = conduct.Joined(p, r); err != nil {
			return goOnMsg{err: err}
		}
		return goOnMsg{plan: p, before: r}
	}
}

// sweptMsg carries a finished sweep as it was judged; whole: with the verdicts of its points.
type sweptMsg struct {
	of    *result.Result
	sweep *judge.Sweep
	err   error
	whole bool
}

// judgeSweep judges a finished sweep: first what its picture shows, then everything.
func judgeSweep(r *result.Result, whole bool) tea.Cmd {
	return func() tea.Msg {
		look := judge.LookSweep
		if whole {
			look = judge.JudgeSweep
		}
		s, err := look(r)
		return sweptMsg{r, s, err, whole}
	}
}

// pointMsg carries the verdict of a point of a sweep.
type pointMsg struct {
	of      *judge.Sweep
	at      cell.Point
	verdict *judge.Verdict
}

// judgePoint reaches the verdict of a point.
func judgePoint(s *judge.Sweep, point int, at cell.Point) tea.Cmd {
	return func() tea.Msg {
		v, err := s.At(point)
		if err != nil {
			return saidMsg{err.Error(), true}
		}
		return pointMsg{s, at, v}
	}
}

func openRun(book *logbook.Book, id string) tea.Cmd {
	return func() tea.Msg {
		r, err := book.Load(id)
		if err != nil {
			return openedMsg{err: err}
		}
		return openedMsg{run: opened(r)}
	}
}

// save writes pictures as SVG and PDF, and tables as CSV.
func save(dir string, what screen.SaveMsg) tea.Cmd {
	return func() tea.Msg {
		var names []string
		for _, t := range what.Tables {
			path := filepath.Join(dir, t.Name+".csv")
			err := files.Write(path, func(out io.Writer) error {
				return csv.NewWriter(units.PrintableWriter{To: out}).WriteAll(t.Rows)
			})
			if err != nil {
				return saidMsg{fmt.Sprintf("save the table: %v", err), true}
			}
			names = append(names, path)
		}
		for _, p := range what.Pictures {
			saved, err := paper.Save(p, dir, p.Name)
			if err != nil {
				return saidMsg{err.Error(), true}
			}
			names = append(names, saved...)
		}
		return saidMsg{"saved " + strings.Join(names, " and "), false}
	}
}

// answers are the whole answers of the weigh-in, kept for as long as their run is in view.
type answers struct {
	mu   sync.Mutex
	each []answer
}

type answer struct {
	contender, state string
	body             []byte
}

// maxAnswer bounds an answer that is kept whole: more would weigh on the heats.
const maxAnswer = 16 << 20

func (a *answers) keep(contender, state string, body []byte) {
	if len(body) > maxAnswer {
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.each = append(a.each, answer{contender, state, body})
}

// saveAnswers writes what each contender answered at the weigh-in to a file of its own: whole after a run of now, else
// the part that a result keeps.
func saveAnswers(dir string, r *result.Result, whole *answers) tea.Cmd {
	return func() tea.Msg {
		var each []answer
		if whole != nil {
			whole.mu.Lock()
			each = slices.Clone(whole.each)
			whole.mu.Unlock()
		}
		what := "whole"
		if len(each) == 0 || len(each) < len(r.Entrants) {
			each = nil
			what = "the part that is kept"
			for _, e := range r.Entrants {
				for _, t := range []*result.Touch{e.Touch, e.Again} {
					if t != nil {
						each = append(each, answer{e.Name, t.State, []byte(t.Body)})
					}
				}
			}
		}
		var names []string
		for _, a := range each {
			path := filepath.Join(dir, plan.Slug(strings.Join([]string{r.Plan.Name, r.ID, a.contender, a.state},
				" "))+".answer")
			if err := files.WriteAll(path, a.body); err != nil {
				return saidMsg{fmt.Sprintf("save the answers: %v", err), true}
			}
			names = append(names, filepath.Base(path))
		}
		if len(names) == 0 {
			return saidMsg{"nobody has answered yet", true}
		}
		return saidMsg{fmt.Sprintf("saved %s, and %d more in %s: %s", names[0], len(names)-1, dir, what), false}
	}
}

// keepPlan writes the plan of a run to a new file.
func keepPlan(dir string, r *result.Result) tea.Cmd {
	return func() tea.Msg {
		path := filepath.Join(dir, plan.FileName(r.Plan.Name))
		if err := create(path, r.Plan.Source); err != nil {
			return saidMsg{fmt.Sprintf("keep the plan: %v", err), true}
		}
		return saidMsg{"the plan is in " + path, false}
	}
}

// create writes a file that must not exist yet.
func create(path, text string) error {
	f, err := files.Create(path)
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	return err
}

// newPlan writes a new plan file, under a free name.
func newPlan(dir string, msg screen.NewPlanMsg) tea.Cmd {
	return func() tea.Msg {
		dir, err := filepath.Abs(dir)
		if err != nil {
			return changedMsg{err: fmt.Errorf("write a new plan: %w", err)}
		}
		path := filepath.Join(dir, plan.FileName(msg.Name))
		for n := 2; n < 100; n++ {
			if err = create(path, msg.Text); !errors.Is(err, os.ErrExist) {
				break
			}
			path = filepath.Join(dir, plan.FileName(fmt.Sprintf("%s %d", msg.Name, n)))
		}
		if err != nil {
			return changedMsg{err: fmt.Errorf("write a new plan: %w", err)}
		}
		return changedMsg{file: path, said: "wrote " + path, edit: msg.Edit}
	}
}

// changePlan replaces a plan's text through a neighbour file, unless somebody else has changed it meanwhile.
func changePlan(msg screen.ChangePlanMsg) tea.Cmd {
	return func() tea.Msg {
		file := msg.Duel.File
		fail := func(err error) tea.Msg { return changedMsg{err: fmt.Errorf("change %s: %w", file, err)} }
		old, err := files.Read(file, read.MaxBytes)
		if err != nil {
			return fail(err)
		}
		if string(old) != msg.Duel.Source {
			return fail(errors.New("it has changed meanwhile; press u and try again"))
		}
		if err := files.Write(file, func(out io.Writer) error {
			_, err := io.WriteString(out, msg.Text)
			return err
		}); err != nil {
			return fail(err)
		}
		return changedMsg{file: file, said: "changed " + file, edit: msg.Edit}
	}
}

func removePlan(file string) tea.Cmd {
	return func() tea.Msg {
		if err := os.Remove(file); err != nil {
			return changedMsg{err: fmt.Errorf("delete the plan: %w", err)}
		}
		return changedMsg{said: "deleted " + file}
	}
}

// editorCommand is the command line of the user's editor on a file.
func editorCommand(ctx context.Context, editor, file string) (*exec.Cmd, error) {
	if strings.TrimSpace(editor) == "" {
		editor = "vi"
	}
	words, err := shlex.Split(editor)
	if err != nil || len(words) == 0 {
		return nil, fmt.Errorf("open the editor: take %q apart: check $VISUAL and $EDITOR", editor)
	}
	return exec.CommandContext(ctx, words[0], append(words[1:], file)...), nil
}

// foreground is the user's own program in the terminal; neither it nor what it leaves running is ours to end.
type foreground struct{ *exec.Cmd }

func (f *foreground) SetStdin(r io.Reader)  { f.Stdin = r }
func (f *foreground) SetStdout(w io.Writer) { f.Stdout = w }
func (f *foreground) SetStderr(w io.Writer) { f.Stderr = w }

// Run implements tea.ExecCommand.
func (f *foreground) Run() error {
	if err := keeper.Outside(func() (int, error) {
		if err := f.Start(); err != nil {
			return 0, err
		}
		return f.Process.Pid, nil
	}); err != nil {
		return err
	}
	return f.Wait()
}

// edited reads the folder again once the editor is left.
func edited(file string, err error) tea.Msg {
	if err != nil {
		return changedMsg{err: fmt.Errorf("edit %s: %w; set $EDITOR to an editor that is installed", file, err)}
	}
	return changedMsg{file: file, said: "read " + file + " again"}
}
