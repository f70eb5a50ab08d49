package chart

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"paceduel/core/history"
	"paceduel/core/judge"
	"paceduel/core/units"
)

// History is the picture of a duel's runs over time: a lane for each challenger, in which every run stands with its
// ratio to the baseline and the interval of it, on a logarithmic scale; marks say what changed between two runs.
type History struct {
	Title, Sentence, Note string
	Runs                  []HistoryRun
	Lanes                 []HistoryLane
}

// HistoryRun is a run along the line.
type HistoryRun struct {
	X     float64 // 0 to 1: runs stand at even distances
	ID    string
	Day   string // empty where it is that of the run before
	Marks string // what changed since the run before: a letter for each
}

// HistoryLane is how one challenger stood.
type HistoryLane struct {
	Title string
	Sign  Sign
	Scale Scale   // of ratios
	One   float64 // where on the scale the baseline is; below 0 or above 1 where it is not in view
	Dots  []HistoryDot
	Says  string // the latest shift, or that there is none
}

// HistoryDot is a run of a lane: places on its scale.
type HistoryDot struct {
	Run          int
	Y, Low, High float64 // Low and High are NaN without an interval
	Shifts       bool    // it surely differs from those before
}

// changeLetters are the marks of what may change, in the order in which they stand.
var changeLetters = []struct{ what, letter string }{
	{"plan", "p"}, {"baseline", "b"}, {"version of Pace Duel", "d"}, {"version of ", "v"}, {"machine", "m"},
	{"kernel", "k"}, {"agents", "a"}, {"other load", "l"},
}

// ChangeKey explains the marks.
const ChangeKey = "p plan   b baseline   v a version   m machine   " +
	"k kernel   a agents   l other load   d Pace Duel's version"

// NewHistory arranges the runs of a duel.
func NewHistory(l *history.Line) *History {
	h := &History{
		Title: l.Duel, Sentence: l.Sentence,
		Note: "how many times better than the baseline, run by run, with the 95 % interval; a gap in the line is where " +
			"a run surely differs from those before (1 %). Below: what changed. " + strings.ReplaceAll(ChangeKey, "   ",
			", ") + ".",
	}
	for i := range l.Runs {
		r := &l.Runs[i]
		one := HistoryRun{X: placeOf(i, len(l.Runs)), ID: r.ID, Day: l.Day(i)}
		if i > 0 && l.Day(i-1) == one.Day {
			one.Day = ""
		}
		for _, c := range r.Changes {
			for _, known := range changeLetters {
				if strings.HasPrefix(c.What, known.what) {
					if !strings.Contains(one.Marks, known.letter) {
						one.Marks += known.letter
					}
					break
				}
			}
		}
		h.Runs = append(h.Runs, one)
	}
	for i := range l.Tracks {
		h.Lanes = append(h.Lanes, laneOf(l, &l.Tracks[i]))
	}
	return h
}

// placeOf is where the i-th of n runs stands, with half a distance at both ends.
func placeOf(i, n int) float64 { return (float64(i) + 0.5) / float64(n) }

// laneOf arranges a track.
func laneOf(l *history.Line, t *history.Track) HistoryLane {
	lane := HistoryLane{Title: t.Title() + ", " + t.Figure.Label(), Sign: SignOf(orderOf(l, t.Contender) + 1)}
	low, high := math.Inf(1), math.Inf(-1)
	for _, d := range t.Dots {
		low, high = min(low, d.Times), max(high, d.Times)
		if d.Known {
			low, high = min(low, d.Low), max(high, d.High)
		}
	}
	lane.Scale = ratioScale(low, high)
	lane.One = lane.Scale.place(1)
	for _, d := range t.Dots {
		dot := HistoryDot{Run: d.Run, Y: lane.Scale.At(d.Times), Low: math.NaN(), High: math.NaN()}
		if d.Known {
			dot.Low, dot.High = lane.Scale.At(d.Low), lane.Scale.At(d.High)
		}
		dot.Shifts = slices.ContainsFunc(t.Shifts, func(s history.Shift) bool { return s.Run == d.Run })
		lane.Dots = append(lane.Dots, dot)
	}
	if s := t.Latest(); s != nil {
		lane.Says = l.SayShift(t, s)
	} else if n := len(t.Dots); n > 1 {
		lane.Says = fmt.Sprintf("%s: none surely differs from those before; the latest is %s.",
			units.Plural(n, "run"), t.At(t.Dots[n-1].Run))
	} else if n == 1 {
		lane.Says = t.At(t.Dots[0].Run) + "."
	}
	return lane
}

// orderOf is the place of a challenger among those of the line, in the order of its newest run.
func orderOf(l *history.Line, name string) int {
	var names []string
	for i := len(l.Runs) - 1; i >= 0 && len(names) == 0; i-- {
		if s := l.Runs[i].Stand; s != nil {
			for _, r := range s.Ratios {
				if !slices.Contains(names, r.Contender) {
					names = append(names, r.Contender)
				}
			}
		}
	}
	return max(slices.Index(names, name), 0)
}

// ratioScale holds ratios closely: what is looked for is a change of some per cent.
func ratioScale(low, high float64) Scale {
	if !(low > 0) || math.IsInf(high, 0) {
		low, high = 1, 2
	}
	const least = 1.1 // from end to end
	if middle := math.Sqrt(low * high); high/low < least {
		low, high = middle/math.Sqrt(least), middle*math.Sqrt(least)
	}
	margin := math.Pow(high/low, 0.06)
	s := Scale{Min: low / margin, Max: high * margin, Log: true}
	for _, v := range []float64{low, math.Sqrt(low * high), high} {
		s.Ticks = append(s.Ticks, Tick{s.At(v), units.Significant(v) + "x"})
	}
	return s
}

// place is At without the ends.
func (s Scale) place(v float64) float64 { return math.Log(v/s.Min) / math.Log(s.Max/s.Min) }

// FaceOff is a pairing as a table with a picture: for each figure the two sides, and the interval of their ratio about
// no change in the middle, on one logarithmic scale.
type FaceOff struct{ Rows []FaceOffRow }

// FaceOffRow is a figure. Places are 0 to 1, better to the right; NaN where they are not known.
type FaceOffRow struct {
	Title, Then, Now, Says string
	Ratio, Low, High       float64
	Sure                   bool
}

// NewFaceOff arranges a pairing.
func NewFaceOff(p *judge.Pairing) *FaceOff {
	f := &FaceOff{}
	reach := math.Log(1.1) // at least
	for i := range p.Figures {
		for _, x := range []float64{p.Figures[i].Ratio, p.Figures[i].Low, p.Figures[i].High} {
			if d := math.Abs(math.Log(x)); !math.IsNaN(d) && !math.IsInf(d, 0) {
				reach = max(reach, d)
			}
		}
	}
	place := func(x float64) float64 { return clamp(0.5 + math.Log(x)/reach/2) }
	for i := range p.Figures {
		a := &p.Figures[i]
		row := FaceOffRow{
			Title: a.Title(), Says: a.InShort(), Ratio: math.NaN(), Low: math.NaN(), High: math.NaN(), Sure: a.Surely(),
		}
		row.Then, row.Now = p.Sides(a)
		if !math.IsNaN(a.Ratio) {
			row.Ratio = place(a.Ratio)
			row.Says = a.Factor() + " " + row.Says
			if row.Says == "1x "+a.InShort() || !a.Surely() {
				row.Says = a.InShort()
			}
		}
		if !math.IsNaN(a.Low) {
			row.Low, row.High = place(a.Low), place(a.High)
		}
		f.Rows = append(f.Rows, row)
	}
	return f
}
