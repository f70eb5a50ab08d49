// Package screen is the full-screen application's common ground: what a view is, what all views see, and what a view
// may ask for. The folder app is the frame around them, look the colours, parts what several views are made of; each
// other folder is one view, named for its stop on the trail.
//
// Views hold no arithmetic about figures and do no input or output: what they show was computed in core, and what they
// want done they ask for with a message that the frame handles.
package screen

import (
	"path/filepath"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"paceduel/core/cell"
	"paceduel/core/chart/paper"
	"paceduel/core/footing"
	"paceduel/core/history"
	"paceduel/core/judge"
	"paceduel/core/logbook"
	"paceduel/core/meter"
	"paceduel/core/pace"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
	"paceduel/screen/look"
)

// Kept are the runs that the log lists at first: those that something came of.
var Kept = logbook.Filter{Attempts: logbook.Kept}

// View is one stop of the trail. Its state is its own; Update returns the changed view.
type View interface {
	Update(tea.Msg, Scene) (View, tea.Cmd)
	// Sentence says what the view shows, in one plain sentence or two.
	Sentence(Scene) string
	// Body draws the view below its sentence. What does not fit in w by h cells is cut off.
	Body(s Scene, w, h int) string
	// Keys are the keys that do something just now, the most used first.
	Keys(Scene) []key.Binding
}

// Scene is what all views see. It is a value: nothing in it changes once it is handed out.
type Scene struct {
	Theme look.Theme
	Where map[judge.Evidence]Stop // which stop shows what
	Title string                  // of the folder, for people
	Today time.Time               // when it is shown; zero: not known
	Duels []Duel                  // of the folder, by file name
	// Runs are those that the log lists, the newest of the Found ones that Listed takes.
	Runs   []logbook.Entry
	Found  int
	Listed logbook.Filter
	Past   map[string]logbook.Past // what the logbook has of the folder's duels, by their files
	Book   logbook.Totals          // what the logbook holds in all
	// BookTrouble says why there is no logbook.
	BookTrouble error
	// Lines are the duels of the logbook with their runs over time, as far as they were asked for, and Pair the two runs
	// that were last held to each other; nil before.
	Lines    []*history.Line
	AllLines int // how many duels the logbook has, of which those had the latest runs
	Pair     *history.Pair
	Chosen   *Duel    // under ask; nil without any
	Machine  *Machine // nil before it was looked at
	Run      *Run     // in view: under way, or opened; nil before the first
	// Pictures keeps what was drawn of Run; nil keeps nothing.
	Pictures *Pictures
	// Width and Height are the room that the view at hand has for its body, in cells.
	Width, Height int
}

// When says when something was: with the time of day, or with the year where that is long from today.
func (s *Scene) When(t time.Time) string {
	const long = 180 * 24 * time.Hour
	if !s.Today.IsZero() && s.Today.Sub(t).Abs() > long {
		return t.Format("2 Jan 2006")
	}
	return t.Format("2 Jan 15:04")
}

// Machine is what this machine can do for a footing, and what it is at.
type Machine struct {
	Able footing.Abilities
	Load meter.Load
}

// Words say what the machine is at.
func (m *Machine) Words() string {
	var out []string
	if m.Load.Waiting >= 0 {
		out = append(out, units.Significant(m.Load.Waiting)+" processes run or want to, on average over a minute")
	}
	if m.Load.FreeBytes >= 0 {
		out = append(out, units.Bytes(float64(m.Load.FreeBytes))+" of memory free")
	}
	if m.Load.SwapBytes > 0 {
		out = append(out, units.Bytes(float64(m.Load.SwapBytes))+" swapped out")
	}
	return strings.Join(out, ", ")
}

// Duel is a plan file of the folder; Plan is nil when Problems says what is wrong with it.
type Duel struct {
	File     string
	Plan     *plan.Plan
	Problems error
	Source   string // the file's text
}

// Base is the file's name without its folder.
func (d Duel) Base() string { return filepath.Base(d.File) }

// Name is the duel's name, or the file's when it could not be read.
func (d Duel) Name() string {
	if d.Plan != nil {
		return d.Plan.Name
	}
	return d.Base()
}

// Run is a run as far as it has come.
type Run struct {
	Result  *result.Result // without heats while it is under way
	Heats   []result.Heat  // finished
	Verdict *judge.Verdict // of the finished heats; nil before the first round is complete
	Judged  *judge.Sweep   // the same of a run with a sweep, as a whole
	Judging bool           // whether it is being judged, which takes a moment
	Swept   *Swept         // the whole of which this is a point; nil of a run without a sweep
	// Turned are verdicts with other contenders in the baseline's place, by their names, as far as they were asked for.
	Turned map[string]*judge.Verdict
	// Services are the contenders' services as far as this run has started some, by contender; not modified once set.
	Services map[string]Service
	Live     bool
	Paused   bool    // between two heats, on request
	Asking   *Asking // whom the weigh-in is at; nil when it is over
	Now      *Now    // the heat under way
	Left     time.Duration
	Err      error // what kept it from completing
	Unjudged error // why what was measured could not be judged
	NotKept  error // why the logbook does not have it
	// Awaits says which agents are waited for; empty: none.
	Awaits string
	Again  string // why the latest round that is done again has to be; empty: none has
}

// Swept is a run with a sweep as a whole. What else the run has is then that of one of its points.
type Swept struct {
	Result *result.Result // without heats while it is under way
	Heats  []result.Heat  // of all points
	Judged *judge.Sweep   // of the finished heats; nil before the first round is complete
	Now    *Now           // the heat under way, whatever its point
	Point  int            // in view
}

// AtPoint is a run with a sweep with one of its points in view. Its verdict is left to whoever has
// time for it.
func (r *Run) AtPoint(point int) *Run {
	out := *r
	at := r.Result.Sweep.Points[point].At
	out.Swept = &Swept{Result: r.Result, Heats: r.Heats, Judged: r.Judged, Now: r.Now, Point: point}
	out.Result, out.Heats = r.Result.AtPoint(point), result.HeatsAt(r.Heats, at)
	out.Turned, out.Verdict, out.Now, out.Asking = nil, nil, nil, nil
	if n := r.Now; n != nil && n.Point == at {
		own := *n
		own.Point, own.Heat.Point = "", ""
		out.Now = &own
	}
	if a := r.Asking; a != nil && a.Point == at {
		own := *a
		own.Point = ""
		out.Asking = &own
	}
	return &out
}

// Service is what a contender's service is about.
type Service struct {
	Stage footing.Stage
	Took  time.Duration // until it was ready, or had stopped
	Said  string        // the end of its output
}

// Words say it in a few words.
func (s Service) Words() string {
	if s.Stage == footing.Ready {
		return "ready, " + units.Duration(s.Took)
	}
	return string(s.Stage)
}

// Coming reports whether it is not there yet.
func (s Service) Coming() bool { return s.Stage == footing.Preparing || s.Stage == footing.Starting }

// Asking is a contender that is asked at the weigh-in.
type Asking struct {
	cell.Cell
	Took time.Duration // so far
	// Built is the revision that its program is built from just now; empty once it is.
	Built string
}

// Words say it: "stream is asked, for 3 s".
func (a *Asking) Words() string {
	if a.Built != "" {
		return a.Contender + " is built from " + a.Built
	}
	text := strings.TrimSpace(a.Contender+" "+a.State) + " is asked"
	if a.Took >= time.Second {
		text += ", for " + units.Trim(units.Duration(a.Took.Truncate(time.Second)))
	}
	return text
}

// Now is a heat under way.
type Now struct {
	Round int
	cell.Cell
	Stage    pace.Stage
	Shots    int64
	Rate     float64
	P50, P99 time.Duration // of the latest shots
	Heat     result.Heat   // its dots so far; everything else is a guess
	Waits    int           // shots that wait for what they bring about
	Longest  time.Duration // for so long the first of them
	Agents   []Driving     // those who drive it from elsewhere
}

// Driving is how the heat under way goes with an agent.
type Driving struct {
	Agent    string
	Shots    int64
	P50, P99 time.Duration
	Silent   time.Duration // nothing has been heard of it for so long; 0: lately
}

// Messages by which a view asks the frame for something.
type (
	// StartMsg asks for a duel to be started.
	StartMsg struct{ Duel Duel }
	// AcceptMsg asks for the duel that was just refused to be run although it does unequal work.
	AcceptMsg struct{}
	// HaltMsg asks for the run under way to be ended and kept.
	HaltMsg struct{}
	// PauseMsg asks for the run under way to wait before its next heat, or to go on when it does.
	PauseMsg struct{}
	// LeaveOutMsg asks for a contender to take no part in the run under way from its next heat on.
	LeaveOutMsg struct{ Contender string }
	// AddRoundsMsg asks for more rounds of the run under way.
	AddRoundsMsg struct{ Rounds int }
	// GoOnMsg asks for the sweep in view, which is over, to be gone on with for so many rounds.
	GoOnMsg struct{ Rounds int }
	// OpenMsg asks for an earlier run to be brought into view.
	OpenMsg struct{ ID string }
	// RemarkMsg asks for what people say of a run to be changed.
	RemarkMsg struct {
		ID     string
		Change func(*logbook.Remarks)
	}
	// LinesMsg asks for the duels of the logbook with their runs over time, one of them to be known whole.
	LinesMsg struct{ Duel string }
	// PairMsg asks for two runs to be held to each other.
	PairMsg struct{ Then, Now string }
	// PairedMsg tells the log view that they have been.
	PairedMsg struct{}
	// AgainMsg asks for the plan of an earlier run to be run again as it was.
	AgainMsg struct{ ID string }
	// ListMsg asks for the runs that a filter takes.
	ListMsg struct{ Of logbook.Filter }
	// DeleteRunMsg asks for a run to be removed from the logbook.
	DeleteRunMsg struct{ ID string }
	// GoMsg asks for the stop that shows something; the stop is handed it, too.
	GoMsg struct{ To judge.Evidence }
	// SaveMsg asks for pictures to be saved, and tables as CSV.
	SaveMsg struct {
		Pictures []paper.Named
		Tables   []Table
	}
	// TurnMsg asks for the run in view to be judged with another contender in the baseline's place.
	TurnMsg struct{ Base string }
	// SaveAnswersMsg asks for what the contenders answered at the weigh-in to be saved, as far as it is kept.
	SaveAnswersMsg struct{}
	// KeepPlanMsg asks for the plan of the run in view to be written to a file.
	KeepPlanMsg struct{}
	// ReloadMsg asks for the folder to be read again.
	ReloadMsg struct{}
	// NewPlanMsg asks for a new plan file in the folder, named for its duel; Edit opens it.
	NewPlanMsg struct {
		Name, Text string
		Edit       bool
	}
	// TryMsg asks for two texts to be tried as contenders, which TriedMsg with its serial number tells of.
	TryMsg struct {
		Serial int
		Texts  [2]string
	}
	// TriedMsg tells the ask view what came of it: the plan that would be run, and what the weigh-in saw.
	TriedMsg struct {
		Serial int
		Plan   *plan.Plan
		Result *result.Result // nil where not even a plan could be made
		Err    error          // why nothing can be run; nil: it can
	}
	// EmptyFolderMsg tells the ask view that there is no duel yet, and what could stand in one: addresses on this
	// machine, and contenders of earlier duels.
	EmptyFolderMsg struct{ Served, Earlier []Offer }
	// Offer is a text for a contender, with what it is.
	Offer struct{ Text, About string }
	// ChangePlanMsg asks for a plan's text to be replaced, unless the file has changed meanwhile; Edit opens it.
	ChangePlanMsg struct {
		Duel Duel
		Text string
		Edit bool
	}
	// PointMsg asks for another point of the sweep to be brought into view.
	PointMsg struct {
		Point int
		Open  bool // and for its verdict to be shown
	}
	// RemovePlanMsg asks for a plan file to be removed.
	RemovePlanMsg struct{ Duel Duel }
	// ProbeMsg asks for the machine to be looked at again.
	ProbeMsg struct{}
	// EditMsg asks for a plan to be opened in the user's editor.
	EditMsg struct{ File string }
	// SayMsg asks for a line to be shown for a while.
	SayMsg struct {
		Text    string
		Trouble bool
	}
	// ChosenMsg tells the ask view which file to stand at.
	ChosenMsg struct{ File string }
)

// RunInViewMsg tells every view that another run is in view: what it shows of the one before, it forgets.
type RunInViewMsg struct{}

// Table is what is saved as CSV, under a name without an ending.
type Table struct {
	Name string
	Rows [][]string
}

// Chooser is a view in which one of the duels is chosen.
type Chooser interface{ Choice(Scene) *Duel }

// Capturer is a view that at times takes every key, because the user is writing.
type Capturer interface{ Captures() bool }

// Send returns a command that sends msg to the frame.
func Send(msg tea.Msg) tea.Cmd { return func() tea.Msg { return msg } }

// LaneFigures are a contender's figures over its finished heats, written out.
type LaneFigures struct {
	P50, P99, Mean, Rate, Shots string
	Failed                      int64
	Causes                      string // of failures, in words
}

// ByStretch reports whether a contender's shots are drawn by their stretches.
func (r *Run) ByStretch(name, state string) bool {
	return slices.ContainsFunc(r.Heats, func(h result.Heat) bool {
		return h.Contender == name && h.State == state && h.ByStretch()
	})
}

// Lane returns a contender's figures in a state so far, as the verdict has them.
func (r *Run) Lane(name, state string) LaneFigures {
	f := LaneFigures{P50: units.None, P99: units.None, Mean: units.None, Rate: units.None, Shots: units.None}
	if r.Verdict == nil {
		return f
	}
	if l, ok := r.Verdict.Lanes[cell.Of(name, state)]; ok {
		f = LaneFigures{
			P50: units.Seconds(l.P50), P99: units.Seconds(l.P99), Mean: units.Seconds(l.Mean), Rate: units.Rate(l.Throughput),
			Shots: units.Count(l.Shots), Failed: l.Failed, Causes: l.Causes,
		}
	}
	return f
}
