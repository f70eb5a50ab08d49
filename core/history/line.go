package history

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"gonum.org/v1/gonum/stat/distuv"

	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/logbook"
	"paceduel/core/units"
)

// Line is the runs of a duel over time.
type Line struct {
	Duel     string
	Runs     []Run   // the oldest first
	All      int     // how many the duel has, of which those are the latest
	Tracks   []Track // the first is the one to look at first
	Sentence string
}

// Cut says so where the line has not all runs of the duel; empty: it has.
func (l *Line) Cut() string {
	if l.All <= len(l.Runs) {
		return ""
	}
	return fmt.Sprintf("Those are the newest %d of %s.", len(l.Runs), units.Plural(l.All, "run"))
}

// Run is a run on the line.
type Run struct {
	logbook.Entry
	Stand   *Stand   // nil where none is known
	Changes []Change // since the run before of which a stand is known
}

// Track is how a challenger stood in a figure from run to run.
type Track struct {
	Contender, State, Point string
	Figure                  figure.Name
	Dots                    []Dot // in the order of the runs
	Shifts                  []Shift
}

// Title says what the track is of: "joined cold, at n 1 000".
func (t *Track) Title() string {
	text := strings.TrimSpace(t.Contender + " " + t.State)
	if t.Point != "" {
		text += ", at " + t.Point
	}
	return text
}

// Dot is a ratio of one of the line's runs.
type Dot struct {
	Run              int // of the line
	Times, Low, High float64
	Known            bool // whether there is an interval
}

// Shift is where a run surely differs from those of the same level before it.
type Shift struct {
	Run     int     // the first of the new level
	Was     float64 // the ratio of the level before, over its runs
	WasRuns int     // that it is of
	Is      Dot
	Changes []Change // since the run before
}

// How sure a shift is. One run in a hundred shifts for nothing.
const (
	shiftAlpha = 0.01
	shiftLevel = 2.576 // of the normal distribution, at that
	interval95 = 1.96
	// longestReach is how many errors off a run is surely elsewhere, however few there are to tell their scatter by: with
	// more, steps of five errors would be missed.
	longestReach = 3.3
	scatterFrom  = 3 // runs of a level from which their scatter is known
)

// LineOf puts the runs of a duel, of which stands are known as far as stand tells them, in the order of time.
func LineOf(duel string, entries []logbook.Entry, stand func(*logbook.Entry) *Stand) *Line {
	l := &Line{Duel: duel, All: len(entries)}
	for _, e := range entries {
		l.Runs = append(l.Runs, Run{Entry: e, Stand: stand(&e)})
	}
	slices.SortStableFunc(l.Runs, func(a, b Run) int { return a.Started.Compare(b.Started) })
	var before *Stand
	for i := range l.Runs {
		r := &l.Runs[i]
		if r.Changes = Changes(before, r.Stand); r.Stand != nil {
			before = r.Stand
		}
	}
	l.tracks()
	l.Sentence = l.say()
	return l
}

// tracks follows what the newest run with figures is spoken of by.
func (l *Line) tracks() {
	for i := len(l.Runs) - 1; i >= 0; i-- {
		s := l.Runs[i].Stand
		if s == nil || len(s.Ratios) == 0 {
			continue
		}
		for _, first := range s.Ratios {
			// a line for each challenger, state and point: the figure that leads
			if !slices.ContainsFunc(l.Tracks, func(t Track) bool { return t.isOf(&first) }) {
				t := Track{Contender: first.Contender, State: first.State, Point: first.Point, Figure: first.Figure}
				l.follow(&t)
				l.Tracks = append(l.Tracks, t)
			}
		}
		break
	}
	slices.SortStableFunc(l.Tracks, func(a, b Track) int { return b.last() - a.last() })
}

func (t *Track) isOf(r *Ratio) bool {
	return t.Contender == r.Contender && t.State == r.State && t.Point == r.Point
}

// last is the run of the latest shift, from 1; 0 without any.
func (t *Track) last() int {
	if len(t.Shifts) == 0 {
		return 0
	}
	return t.Shifts[len(t.Shifts)-1].Run + 1
}

// Latest is the latest shift; nil without any.
func (t *Track) Latest() *Shift {
	if len(t.Shifts) == 0 {
		return nil
	}
	return &t.Shifts[len(t.Shifts)-1]
}

// follow finds the dots of a track, and where it shifts.
func (l *Line) follow(t *Track) {
	var here level
	for i := range l.Runs {
		r := &l.Runs[i]
		if r.Stand == nil {
			continue
		}
		at := slices.IndexFunc(r.Stand.Ratios, func(o Ratio) bool { return t.isOf(&o) && o.Figure == t.Figure })
		if at < 0 {
			continue
		}
		o := &r.Stand.Ratios[at]
		dot := Dot{Run: i, Times: o.Times, Low: o.Low, High: o.High, Known: o.Low > 0 && o.High >= o.Low}
		t.Dots = append(t.Dots, dot)
		if !dot.Known {
			continue
		}
		if here.differs(&dot, r.Stand.Interest) {
			t.Shifts = append(t.Shifts, Shift{
				Run: i, Was: math.Exp(here.centre()), WasRuns: len(here.x), Is: dot, Changes: r.Changes,
			})
			here = level{}
		}
		here.add(&dot)
	}
}

// level is a stretch of runs that do not surely differ: logarithms of their ratios, and how far each may be off.
type level struct{ x, variance []float64 }

// errorOf is the standard error of a dot's logarithm, as its interval has it.
func errorOf(d *Dot) float64 { return max(math.Log(d.High/d.Low)/(2*interval95), 1e-6) }

func (l *level) add(d *Dot) {
	se := errorOf(d)
	l.x, l.variance = append(l.x, math.Log(d.Times)), append(l.variance, se*se)
}

// scatter is the variance between runs that their own intervals do not explain, by the estimate of moments (R.
// DerSimonian and N. Laird, Controlled Clinical Trials 7 (1986) 177); 0 for few runs.
func (l *level) scatter() float64 {
	if len(l.x) < scatterFrom {
		return 0
	}
	centre, sum := l.weighted(0)
	q, squares := 0.0, 0.0
	for i, x := range l.x {
		w := 1 / l.variance[i]
		q += w * (x - centre) * (x - centre)
		squares += w * w
	}
	return max(0, (q-float64(len(l.x)-1))/(sum-squares/sum))
}

// weighted is the mean of the level, and the sum of its weights.
func (l *level) weighted(scatter float64) (mean, sum float64) {
	for i, x := range l.x {
		w := 1 / (l.variance[i] + scatter)
		mean, sum = mean+w*x, sum+w
	}
	return mean / sum, sum
}

func (l *level) centre() float64 {
	mean, _ := l.weighted(l.scatter())
	return mean
}

// differs reports whether a run surely lies elsewhere, by more than what does not matter.
func (l *level) differs(d *Dot, interest float64) bool {
	if len(l.x) == 0 {
		return false
	}
	scatter := l.scatter()
	mean, sum := l.weighted(scatter)
	se := errorOf(d)
	apart, reach := math.Abs(math.Log(d.Times)-mean), shiftLevel
	if scatter > 0 { // which is known by these few runs
		reach = min(distuv.StudentsT{Sigma: 1, Nu: float64(len(l.x) - 1)}.Quantile(1-shiftAlpha/2), longestReach)
	}
	return apart > reach*math.Sqrt(se*se+scatter+1/sum) && apart > math.Log1p(interest)
}

// say puts the line into a sentence: the latest shift, else how steady it is.
func (l *Line) say() string {
	n := 0
	for i := range l.Runs {
		if l.Runs[i].Stand != nil && len(l.Runs[i].Stand.Ratios) > 0 {
			n++
		}
	}
	switch {
	case len(l.Tracks) == 0:
		return units.Plural(len(l.Runs), "run") + ", none of which has a ratio."
	case n == 1:
		return "One run with a verdict; a second one is compared with it."
	}
	t := &l.Tracks[0]
	s := t.Latest()
	if s == nil {
		return fmt.Sprintf("%s, and no ratio of any surely differs from those before.", units.Plural(n, "run"))
	}
	return l.SayShift(t, s)
}

// SayShift puts a shift into words: "joined's lead fell from 4.6x to 3.1x (2.7 to 3.5) since 12 Nov; what changed: its
// version".
func (l *Line) SayShift(t *Track, s *Shift) string {
	was := judge.Assessment{Figure: t.Figure, Ratio: s.Was}
	is := judge.Assessment{Figure: t.Figure, Ratio: s.Is.Times, Low: s.Is.Low, High: s.Is.High}
	how := fmt.Sprintf(" was %s %s and is %s %s now", was.Factor(), t.Figure.Comparative(s.Was > 1), is.Factor(),
		t.Figure.Comparative(is.Ratio > 1))
	if s.Was >= 1 && is.Ratio >= 1 { // a lead is of whoever is better
		verb := "fell"
		if is.Ratio > s.Was {
			verb = "rose"
		}
		how = fmt.Sprintf("'s lead %s from %s to %s", verb, was.Factor(), is.Factor())
	}
	text := fmt.Sprintf("%s%s (%s) %s since %s", t.Title(), how, is.Interval(), at(t.Figure), l.Day(s.Run))
	if len(s.Changes) == 0 {
		return text + "; nothing that is known changed."
	}
	said := Say(s.Changes)
	if len(s.Changes) == 1 && s.Changes[0].What == "version of "+t.Contender {
		said = "its version"
	}
	return text + "; what changed: " + said + "."
}

// at is "at p50", or "in requests/s".
func at(f figure.Name) string {
	if f.At() != "" {
		return strings.TrimSpace(f.At())
	}
	return "in " + f.Label()
}

// Day is the day of a run, with its year where that is not the year of the newest.
func (l *Line) Day(run int) string {
	on, newest := l.Runs[run].Started, l.Runs[len(l.Runs)-1].Started
	if on.Year() != newest.Year() {
		return on.Format("2 Jan 2006")
	}
	return on.Format("2 Jan")
}

// At is how the challenger stood in a run of the line: "4.6x (4.4 to 4.9)", below 1x where it was worse; empty where
// that run has nothing of it.
func (t *Track) At(run int) string {
	for _, d := range t.Dots {
		if d.Run != run {
			continue
		}
		if !d.Known {
			return units.Significant(d.Times) + "x"
		}
		return fmt.Sprintf("%sx (%s to %s)", units.Significant(d.Times), units.Significant(d.Low),
			units.Significant(d.High))
	}
	return ""
}
