package chart

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/judge/curve"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Axis is how values are set out along an axis.
type Axis int

// The ways.
const (
	Fitting Axis = iota // whichever suits the values
	Linear
	Logarithmic
)

// SweepLook is how a figure over a parameter is looked at. It is comparable.
type SweepLook struct {
	Slice  int
	Figure figure.Name
	Scale  judge.Scale
	X, Y   Axis
	Hidden uint16    // contenders that are left out, a bit each in the order of the plan
	Part   Stretched // of the axis; none: all of it
}

// Hides reports whether a contender is left out.
func (l SweepLook) Hides(i int) bool { return l.Hidden&(1<<i) != 0 }

// SweepLines is a figure of all contenders over a parameter. Places across are fractions of the part in view: what lies
// below 0 or beyond 1 is out of sight.
type SweepLines struct {
	Title, Sentence, Note string
	Conditions            []string
	Parameter             string
	FigureLabel           string // with its scale: "mean for each row"
	Along                 []SweepTick
	LogX                  bool
	Scale                 Scale
	One                   float64 // where the baseline lies; NaN unless lines are held to it
	Lines                 []SweepLine
	Turns                 []SweepTurn
	Leads                 []SweepLead // by point
	Curve                 *judge.Curve
	Look                  SweepLook
}

// SweepTick is a point of the parameter.
type SweepTick struct {
	At   float64
	Text string
}

// SweepLine is one contender. Laws are lists of places, nearly smooth.
type SweepLine struct {
	Name     string
	Sign     Sign
	Index    int // in the order of the plan
	Baseline bool
	Points   []SweepSpot // of each point; those without a value have a Y below 0
	Law      []SweepSpot // within what was measured
	Beyond   []SweepSpot // the law's, beyond it
	Best     int         // the point with the best value; -1 where that says nothing
	Knee     int         // the point from which on one more step brings little; -1 without one
	Note     string      // what the line comes to
}

// SweepSpot is a value at a place, with the interval about it.
type SweepSpot struct {
	X, Y, Low, High float64 // Low and High are Y without an interval
	Text            string  // the value
}

// SweepTurn is where one contender takes over from another.
type SweepTurn struct {
	At, Low, High float64
	Text          string // the value with its interval
}

// SweepLead is who is best at a point.
type SweepLead struct {
	At       float64
	Standing curve.Standing
	Signs    []Sign // the one who is ahead, or those that are even
	Text     string // in words: "mapped, 2.4x (2.1 to 2.7)"
}

// lawPoints is how many places a law is drawn through.
const lawPoints = 32

// NewSweepLines sets a figure out over a parameter; nil where it has no values on that scale.
func NewSweepLines(s *judge.Sweep, r *result.Result, look SweepLook) *SweepLines {
	c := s.Curve(look.Slice, look.Figure, look.Scale)
	if c == nil {
		return nil
	}
	of := &s.Slices[look.Slice]
	p := s.Parameter(of)
	l := &SweepLines{
		Title: r.Plan.Name, Sentence: s.Sentence, Parameter: p.Name, Curve: c, Look: look, One: math.NaN(),
		FigureLabel: s.Labelled(of, look.Figure, look.Scale),
		Note:        "bands: 95 % intervals of typical heats; thin: the law that fits, dashed beyond what was measured",
		Conditions:  sweepConditions(r, s),
	}
	if where := s.Where(of); where != "" {
		l.FigureLabel += ", " + where
	}
	place, back := l.across(c, p, look)
	for i := range of.Points {
		l.Along = append(l.Along, SweepTick{place(c.Lines[0].X[i]), s.Value(of, i).String()})
	}
	l.Scale = l.upward(s, c, look, back(1))
	for i, name := range s.Contenders {
		if look.Hides(i) {
			continue
		}
		line := SweepLine{
			Name: name, Sign: SignFor(r, name), Index: i, Baseline: name == s.Baseline, Best: -1, Knee: c.Knees[i],
			Note: s.LineNote(look.Slice, c, i),
		}
		if s.Telling(look.Slice, c, i) {
			line.Best = c.Bests[i].Point
		}
		for j, a := range c.Typical[i] {
			spot := l.spot(place(c.Lines[i].X[j]), a)
			spot.Text = s.ShowOn(look.Figure, look.Scale, a.V)
			line.Points = append(line.Points, spot)
		}
		if law := c.Laws[i]; law != nil {
			line.Law, line.Beyond = l.law(law, c.Lines[i].X, place, back)
		}
		l.Lines = append(l.Lines, line)
	}
	if look.Scale == judge.AgainstBaseline {
		l.One = l.Scale.At(1)
	}
	for _, t := range c.Turns {
		if look.Hides(t.From) || look.Hides(t.To) || !t.At.Known() {
			continue
		}
		l.Turns = append(l.Turns, SweepTurn{
			place(t.At.V), place(t.At.Low), place(t.At.High), s.PlaceOn(of, t.At),
		})
	}
	for i, at := range c.Places {
		l.Leads = append(l.Leads, lead(s, r, c, i, at, place(c.Lines[0].X[i])))
	}
	return l
}

// lead says who is best at a point.
func lead(s *judge.Sweep, r *result.Result, c *judge.Curve, point int, at curve.Place, x float64) SweepLead {
	out := SweepLead{At: x, Standing: at.Standing}
	best := s.BestAt(c, point)
	out.Text = best[0]
	if best[1] != units.None {
		out.Text += ", " + best[1]
	}
	switch at.Standing {
	case curve.Ahead:
		out.Signs = []Sign{SignFor(r, s.Contenders[at.Leader])}
	case curve.Even:
		for _, i := range at.Equals {
			out.Signs = append(out.Signs, SignFor(r, s.Contenders[i]))
		}
	}
	return out
}

// across says where values of the parameter lie, and back which value lies at a place.
func (l *SweepLines) across(c *judge.Curve, p *result.Parameter, look SweepLook) (place, back func(float64) float64) {
	x := c.Lines[0].X
	first, last := x[0], x[len(x)-1]
	l.LogX = p.Numbers() && first > 0 && (look.X == Logarithmic || look.X == Fitting && c.Lines[0].Log)
	to, from := func(v float64) float64 { return v }, func(v float64) float64 { return v }
	if l.LogX {
		to, from = math.Log, math.Exp
	}
	low, high := to(first), to(last)
	room := max(high-low, 1e-9)
	const side, beyond = 0.04, 0.12 // shares of the axis: at the edges, and for what lies beyond the last point
	low -= side * room
	high += side * room
	for i, law := range c.Laws {
		if law != nil && !look.Hides(i) {
			high += (beyond - side) * room
			break
		}
	}
	part := look.Part
	if part.To <= part.From {
		part = Stretched{0, 1}
	}
	place = func(v float64) float64 {
		if math.IsNaN(v) || l.LogX && v <= 0 {
			return math.NaN()
		}
		share := (to(v) - low) / (high - low)
		return (share - part.From) / (part.To - part.From)
	}
	back = func(at float64) float64 {
		return from(low + (part.From+at*(part.To-part.From))*(high-low))
	}
	return place, back
}

// upward is the scale of the values in view, as far as laws carry them: end is the value of the parameter at the end.
func (l *SweepLines) upward(s *judge.Sweep, c *judge.Curve, look SweepLook, end float64) Scale {
	var values []float64
	add := func(v float64) {
		if v > 0 && !math.IsInf(v, 0) {
			values = append(values, v)
		}
	}
	for i := range c.Typical {
		if look.Hides(i) {
			continue
		}
		if law := c.Laws[i]; law != nil {
			add(law.At(end).V)
		}
		for j, a := range c.Typical[i] {
			if at := l.Along[j].At; at < 0 || at > 1 {
				continue
			}
			add(a.V)
			add(a.Low)
			add(a.High)
		}
	}
	if look.Scale == judge.AgainstBaseline {
		values = append(values, 1)
	}
	const wide = 12 // times: a linear axis would press the lower ones to the ground
	log := look.Y == Logarithmic
	if look.Y == Fitting && len(values) > 0 {
		log = slices.Max(values)/slices.Min(values) >= wide
	}
	return NewScale(values, log, func(v float64) string { return s.ShowOn(look.Figure, look.Scale, v) })
}

func (l *SweepLines) spot(x float64, a curve.Amount) SweepSpot {
	if !a.Known() {
		return SweepSpot{X: x, Y: -1, Low: -1, High: -1}
	}
	out := SweepSpot{X: x, Y: l.Scale.At(a.V)}
	out.Low, out.High = out.Y, out.Y
	if a.Sure() {
		out.Low, out.High = l.Scale.At(a.Low), l.Scale.At(a.High)
	}
	return out
}

// law is the line of a law over what is in view.
func (l *SweepLines) law(law *curve.Law, x []float64, place, back func(float64) float64) (within, beyond []SweepSpot) {
	if at := place(x[0]); at >= 0 {
		within = append(within, l.spot(at, law.At(x[0])))
	}
	for i := range lawPoints + 1 {
		at := float64(i) / lawPoints
		v := back(at)
		if v <= x[0] {
			continue
		}
		a := law.At(v)
		if spot := l.spot(at, a); v <= x[len(x)-1] {
			within = append(within, spot)
		} else {
			if len(beyond) == 0 && len(within) > 0 {
				end := l.spot(place(x[len(x)-1]), law.At(x[len(x)-1]))
				within, beyond = append(within, end), append(beyond, end)
			}
			beyond = append(beyond, spot)
		}
	}
	return within, beyond
}

// sweepConditions are what a picture of a sweep says of how it was run.
func sweepConditions(r *result.Result, s *judge.Sweep) []string {
	return []string{
		s.Note,
		fmt.Sprintf("%s at %s; rounds of all cells, shuffled; seed %d; %s, %s (%d cores); run %s", s.Pace(),
			units.Plural(len(r.Sweep.Points), "point"), r.Seed, r.Started.Format("2 Jan 2006 15:04"), r.Host.CPU, r.Host.Cores,
			r.ID),
	}
}

// Nearest is the point that lies nearest to a place in view.
func (l *SweepLines) Nearest(at float64) (point int) {
	for i := range l.Along {
		if math.Abs(l.Along[i].At-at) < math.Abs(l.Along[point].At-at) {
			point = i
		}
	}
	return point
}

// SweepMap is who wins where over two parameters: a cell for each value of both.
type SweepMap struct {
	Title, Sentence, Note string
	Conditions            []string
	Across, Down          string   // the parameters
	Columns, Rows         []string // their values
	Cells                 [][]SweepCell
	State                 string
}

// SweepCell is one combination.
type SweepCell struct {
	Point int // of the result's sweep; -1 where it was not run
	SweepLead
	Strength float64 // by how much the best is ahead, 0 to 1 of what is the most in the map
}

// NewSweepMaps are the maps of a sweep over two parameters, one for each state of caches; none of one over one.
func NewSweepMaps(s *judge.Sweep, r *result.Result, fig figure.Name) (maps []*SweepMap) {
	if len(r.Sweep.Parameters) < 2 {
		return nil
	}
	for _, state := range r.States() {
		m := &SweepMap{
			Title: r.Plan.Name, Sentence: s.Sentence, Conditions: sweepConditions(r, s),
			Note: "signs: who is ahead by " + fig.Label() + "; the fuller, the further; ?: still open; ≈: too close to call",
		}
		if len(r.States()) > 1 {
			m.State = state
		}
		most := 0.0
		for i := range s.Slices {
			of := &s.Slices[i]
			if of.State != m.State {
				continue
			}
			c := s.Curve(i, fig, judge.AsMeasured)
			if c == nil {
				continue
			}
			m.Across = s.Parameter(of).Name
			if m.Columns == nil {
				for j := range of.Points {
					m.Columns = append(m.Columns, s.Value(of, j).String())
				}
			}
			m.Down = r.Sweep.Parameters[1-of.Axis].Name
			m.Rows = append(m.Rows, strings.TrimPrefix(of.Fixed, m.Down+" "))
			row := make([]SweepCell, len(of.Points))
			for j := range of.Points {
				row[j] = SweepCell{Point: of.Points[j], SweepLead: lead(s, r, c, j, c.Places[j], 0)}
				if by := c.Places[j].By; by.Known() && c.Places[j].Standing == curve.Ahead {
					row[j].Strength = math.Log(max(by.V, 1))
					most = max(most, row[j].Strength)
				}
			}
			m.Cells = append(m.Cells, row)
		}
		for _, row := range m.Cells {
			for j := range row {
				if most > 0 {
					row[j].Strength /= most
				}
			}
		}
		maps = append(maps, m)
	}
	return maps
}
