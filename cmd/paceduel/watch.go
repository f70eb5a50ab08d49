package main

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"paceduel/core/cell"
	"paceduel/core/judge"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/core/units"
	"paceduel/core/weighin"
)

func isTerminal(f *os.File) bool { return term.IsTerminal(int(f.Fd())) }

// watcher shows a headless run's events: a bar on a terminal, plain lines elsewhere.
type watcher struct {
	out   *channel
	bar   *progressbar.ProgressBar // nil: plain lines
	total int
	done  int
	sweep *result.Sweep // nil without one
	told  bool          // how long it takes: of a sweep, each point weighs in
}

func newWatcher(out *channel, p *plan.Plan) *watcher {
	w := &watcher{out: out, total: p.Rounds * len(p.Contenders) * len(p.States())}
	if out.isTerminal() {
		w.bar = progressbar.NewOptions(w.total, progressbar.OptionSetWriter(out.raw()), progressbar.OptionSetWidth(30),
			progressbar.OptionSetPredictTime(false), progressbar.OptionSetElapsedTime(false),
			progressbar.OptionClearOnFinish(),
			progressbar.OptionSetDescription(units.Printable(p.Name)))
	}
	return w
}

func (w *watcher) watch(e rounds.Event) {
	switch e := e.(type) {
	case rounds.Started:
		w.total, w.sweep = e.Result.Planned(), e.Result.Sweep
		if w.bar != nil {
			w.bar.ChangeMax(w.total)
		}
		w.line("%s: %s, %s, seed %d", e.Result.Plan.Name, roundsOf(e.Result), e.Result.Plan.Pace.Words, e.Result.Seed)
	case rounds.Building:
		if e.Line != "" {
			w.line("%s: building %s with %s", e.Contender, e.Revision, e.Line)
		}
	case rounds.WasBuilt:
		w.finish()
		fmt.Fprintf(w.out, "paceduel: %s: %s (%s)\n", e.Contender, e.Build.Words(), e.Build.Subject)
		if e.Build.Dirty {
			fmt.Fprintf(w.out, "  the worktree has changes that are in no commit; they are left as they are, and not "+
				"measured\n")
		}
	case rounds.Footed:
		for _, text := range e.Footing.Cannot {
			w.finish()
			fmt.Fprintln(w.out, "paceduel: this machine: "+text)
		}
	case rounds.Asking:
		w.asking(e)
	case rounds.Weighed:
		if !slices.ContainsFunc(e.Head.Entrants, func(e result.Entrant) bool { return !weighin.Passed(e.Touch) }) {
			w.foresee(e.Head)
		}
	case rounds.Touched:
		if e.Touch.Err != "" {
			w.line("weigh-in: %s: %s", e.Contender, e.Touch.Err)
		}
	case rounds.HeatBegan:
		if w.bar != nil {
			w.bar.Describe(
				units.Printable(fmt.Sprintf("round %d  %s  %s", e.Round, w.cellTitle(e.Cell), units.Left(e.Left))),
			)
		}
	case rounds.HeatEnded:
		w.done++
		if w.bar != nil {
			w.bar.Set(w.done)
		}
		w.line("heat %d of %d  round %d  %s: %s, mean %s, %s", w.done, w.total, e.Heat.Round, w.cellTitle(e.Heat.Cell),
			units.Plural(int(e.Heat.Shots()), "shot"), units.Seconds(e.Heat.Mean()), result.FailuresSay(e.Heat.Failures))
		if e.Heat.Stopped != "" {
			w.line("  stopped: %s", e.Heat.Stopped)
		}
	case rounds.Crashed:
		w.crashed(&e)
	case rounds.AgentsAwaited, rounds.AgentReady, rounds.AgainRound:
		w.agents(e)
	case rounds.OrderChanged:
		w.total, w.sweep = e.Head.Planned(), e.Head.Sweep
		if w.bar != nil {
			w.bar.ChangeMax(w.total)
		}
	case rounds.NotKept:
		w.finish()
		if e.Err == nil {
			fmt.Fprintln(w.out, "paceduel: the logbook keeps the run again")
			return
		}
		fmt.Fprintln(w.out, "paceduel: "+e.Err.Error())
	}
}

// agents tells of those who drive from elsewhere.
func (w *watcher) agents(e rounds.Event) {
	switch e := e.(type) {
	case rounds.AgentsAwaited:
		w.finish()
		fmt.Fprintln(w.out, "paceduel: "+e.Words)
	case rounds.AgentReady:
		w.line("%s", agentLine(&e.Agent))
	case rounds.AgainRound:
		w.finish()
		fmt.Fprintf(w.out, "paceduel: %s; round %d is done again at the end\n", e.Why, e.Round)
		if len(e.Lost) > 0 {
			fmt.Fprintf(w.out, "  the run goes on without %s\n", units.List(e.Lost))
		}
	}
}

// agentLine introduces an agent that is ready.
func agentLine(a *result.Agent) string {
	text := "agent " + a.Name
	if a.Place != "" {
		text += " at " + a.Place
	}
	text += fmt.Sprintf(": ready, %s, clock known within %s", units.Plural(a.Host.Cores, "processor"),
		units.Trim(units.Duration(a.Within)))
	if floor := floorWords(a.Floor); floor != "" {
		text += ", floor " + floor
	}
	return text
}

// crashed tells of a contender that was ended while it worked.
func (w *watcher) crashed(e *rounds.Crashed) {
	c := &e.Crash
	what := fmt.Sprintf("%s acknowledged, %s of them there", units.Count(c.Acknowledged),
		units.Count(c.Acknowledged-c.Lost()))
	if c.Err != "" {
		what = c.Err
	}
	if w.bar != nil {
		w.bar.Describe(units.Printable(fmt.Sprintf("crash %d  %s", c.No, c.Contender)))
	}
	w.line("crash %d of %s after %s: %s", c.No, c.Contender, units.Duration(c.After), what)
}

// asking shows whom the weigh-in is at; where there is no bar it is told of those that take their time.
func (w *watcher) asking(e rounds.Asking) {
	switch name := w.cellTitle(e.Cell); {
	case w.bar != nil && e.Took >= time.Second:
		took := units.Trim(units.Duration(e.Took.Truncate(time.Second)))
		w.bar.Describe(units.Printable(fmt.Sprintf("weigh-in  %s, for %s", name, took)))
	case w.bar != nil:
		w.bar.Describe(units.Printable("weigh-in  " + name))
	case e.Took >= time.Second && e.Took < 2*time.Second:
		w.line("weigh-in: %s takes its time", name)
	}
}

// foresee tells how long it will take, and what cannot come of it.
func (w *watcher) foresee(r *result.Result) {
	if w.told {
		return
	}
	w.told = true
	if r.Sweep != nil && r.Sweep.Within > 0 {
		w.line("%s in all", units.About(r.Sweep.Within))
	} else if took := r.Expected(); took > 0 {
		w.line("%s, plus the time between heats", units.About(took))
	}
	for _, c := range judge.Foresee(r) {
		w.finish()
		fmt.Fprintf(w.out, "paceduel: %s; %s\n", c.What, c.Try)
	}
}

func title(contender, state string) string { return strings.TrimSpace(contender + " " + state) }

// roundsOf says how often the heats of a run come round, and over how many points.
func roundsOf(r *result.Result) string {
	text := units.Plural(r.Plan.Rounds, "round")
	if s := r.Sweep; s != nil {
		if s.Within > 0 {
			text += " at first"
		}
		text += " of " + units.Plural(len(s.Points), "point")
	}
	return text
}

// cellTitle names a cell, and its point in the words of the run.
func (w *watcher) cellTitle(c cell.Cell) string {
	text := title(c.Contender, c.State)
	if c.Point != "" && w.sweep != nil {
		text += ", " + w.sweep.Say(c.Point)
	}
	return text
}

// line writes a plain line; a terminal has the bar instead.
func (w *watcher) line(format string, args ...any) {
	if w.bar == nil {
		fmt.Fprintf(w.out, format+"\n", args...)
	}
}

// finish removes the bar.
func (w *watcher) finish() {
	if w.bar != nil {
		w.bar.Clear()
	}
}
