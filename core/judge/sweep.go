package judge

import (
	"cmp"
	"fmt"
	"math"
	"runtime"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/judge/curve"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Sweep is what may be said of a run with a sweep: who wins where, how figures grow and which values are best. What may
// be said of one point by itself is that point's Verdict.
type Sweep struct {
	Sentence   string // the whole in two or three sentences
	Baseline   string
	Contenders []string // in the order of the plan, mirrors aside; all lines are in this order
	Decides    figure.Name
	Note       string        // how words were reached
	Slices     []Slice       // at least one
	Figures    []figure.Name // that there are lines of, in the order in which they are shown
	Remarks    []Remark      // the findings one by one, the most telling first
	Claims     []Claim
	Cautions   []Caution
	Rounds     int // complete ones at the point that has the fewest
	// Comparisons are those of the figure that decides, over all points; Settled are those that have their word.
	Comparisons, Settled int

	r        *result.Result
	words    map[cell.Cell]Word     // of the figure that decides, by contender; none of the baseline
	values   map[figureOf][]float64 // by figure and cell: those of rounds 1 and on; NaN where a round has none
	curves   curves                 // that were asked for
	fields   []*field               // by point; nil once they have served
	verdicts []*Verdict             // by point; nil while it runs
}

// Slice is a stretch of a sweep along one parameter: the other's value and the state of caches are fixed.
type Slice struct {
	Axis   int    // the parameter
	Fixed  string // the other one's value, as people call it; empty without another
	State  string // of caches; empty where there is but one
	Points []int  // of the result's sweep, in the order of the axis
}

// Scale is what lines of a figure are drawn as.
type Scale int

// The scales.
const (
	AsMeasured      Scale = iota
	ForEach               // divided by the parameter: for each row, for each byte
	InAll                 // of all shots of a heat together
	AgainstBaseline       // how many times better than the baseline
)

// Curve is a figure of all contenders along a slice. Its lines share their points.
type Curve struct {
	Figure  figure.Name
	Scale   Scale
	Lines   []*curve.Line    // by contender
	Typical [][]curve.Amount // by contender and point: that of the typical heat with its 95 % interval
	Places  []curve.Place    // by point
	Turns   []curve.Turn     // none where the parameter has no numbers
	Laws    []*curve.Law     // by contender; nil where none fits, and on other scales than as measured
	Bests   []curve.Best     // by contender
	Knees   []int            // by contender: the point from which on one more step brings little; -1 without one
}

// newSweep holds contenders to the baseline at every point in the figure that decides, and gives it its words. Splits
// are left as they are unless they are asked for.
func newSweep(r *result.Result, splits bool) (*Sweep, error) {
	if r.Sweep == nil {
		return nil, fmt.Errorf("this run was not swept over anything")
	}
	s := &Sweep{
		Baseline: r.Plan.Baseline, Decides: r.Plan.Decides, r: r, words: map[cell.Cell]Word{},
		values: map[figureOf][]float64{}, fields: make([]*field, len(r.Sweep.Points)),
	}
	if s.Decides == "" { // a climb: what it holds
		s.Decides = ownFigures(r)[0]
	}
	for _, e := range r.Entrants {
		if !e.Mirror {
			s.Contenders = append(s.Contenders, e.Name)
		}
	}
	held := make([]*Verdict, len(s.fields))
	var work errgroup.Group
	work.SetLimit(runtime.GOMAXPROCS(0))
	for i := range s.fields {
		work.Go(func() (err error) {
			if s.fields[i], err = gather(r.AtPoint(i), splits); err == nil {
				held[i] = s.fields[i].holdIn([]figure.Name{s.Decides}, nil)
			}
			return err
		})
	}
	if err := work.Wait(); err != nil {
		return nil, err
	}
	s.settle(held)
	s.read()
	s.Slices = s.slicesOf()
	return s, nil
}

// settle gives the comparisons of the figure that decides words that hold for all points together.
func (s *Sweep) settle(held []*Verdict) {
	var all []*Assessment
	alpha := level
	s.Rounds = math.MaxInt
	for i, v := range held {
		s.Rounds = min(s.Rounds, v.Rounds)
		alpha = s.fields[i].alpha
		for j := range v.Faces {
			for k := range v.Faces[j].Figures {
				switch a := &v.Faces[j].Figures[k]; {
				case a.Figure != s.Decides || a.sample == nil:
				case a.Counted:
					a.Word = told(a)
				default:
					all = append(all, a)
				}
			}
		}
	}
	if len(all) > 0 {
		settleTogether(all, s.fields[0].alpha)
	}
	for i, v := range held {
		at := s.r.Sweep.Points[i].At
		for j := range v.Faces {
			for _, a := range v.Faces[j].Figures {
				if a.Figure != s.Decides {
					continue
				}
				s.words[cell.Cell{Contender: v.Faces[j].Contender, State: a.State, Point: at}] = a.Word
				s.Comparisons++
				if a.Word == Better || a.Word == Worse || a.Word == Alike {
					s.Settled++
				}
			}
		}
	}
	s.Note = fmt.Sprintf(
		"%s carries the verdict: its words hold for all %s over all points together at %s (Holm); other figures are shown "+
			"at %s each", s.Decides.Label(), units.Plural(len(all), "comparison"), units.Share(1-alpha), units.Share(1-alpha),
	)
}

// resettle gives the comparisons of one point the words that they have in the whole sweep.
func (s *Sweep) resettle(v *Verdict, at cell.Point) {
	for i := range v.Faces {
		for j := range v.Faces[i].Figures {
			a := &v.Faces[i].Figures[j]
			word, ok := s.words[cell.Cell{Contender: v.Faces[i].Contender, State: a.State, Point: at}]
			if a.Figure == s.Decides && ok && word != a.Word {
				a.Alone, a.Corrected, a.Word = byItself(a), true, word
			}
		}
	}
	v.Note = s.Note
}

// byItself is the word that a figure has by itself.
func byItself(a *Assessment) Word {
	if a.Corrected {
		return a.Alone
	}
	return a.Word
}

// read takes the values of all figures from the heats, round by round.
func (s *Sweep) read() {
	last := 0
	for _, f := range s.fields {
		last = max(last, f.last())
	}
	found := map[figure.Name]bool{}
	for i, f := range s.fields {
		own, others := f.figures()
		for _, fig := range slices.Concat(own, others) {
			for _, c := range f.sides() {
				values, some := make([]float64, last), false
				for round := range values {
					values[round] = f.heats[c][round+1].figure(fig)
					if q, ok := fig.Quantile(); ok && beyond(f.fewest(fig, c), q) < fewBeyond-1e-9 {
						values[round] = math.NaN()
					}
					some = some || values[round] > 0
				}
				if !some {
					continue
				}
				c.Point = s.r.Sweep.Points[i].At
				s.values[figureOf{fig, c}] = values
				if !found[fig] {
					found[fig] = true
					s.Figures = append(s.Figures, fig)
				}
			}
		}
	}
	slices.SortStableFunc(s.Figures, func(a, b figure.Name) int { return a.Place() - b.Place() })
}

// slicesOf are the stretches that there are lines along: with two parameters one for each value of the other one.
func (s *Sweep) slicesOf() (out []Slice) {
	params := s.r.Sweep.Parameters
	axis := max(slices.IndexFunc(params, func(p result.Parameter) bool { return p.Numbers() }), 0)
	fixed := []result.Value{{}}
	if len(params) > 1 {
		fixed = params[1-axis].Values
	}
	for _, state := range s.r.States() {
		for _, v := range fixed {
			one := Slice{Axis: axis}
			if len(params) > 1 {
				one.Fixed = params[1-axis].Name + " " + v.String()
			}
			if len(s.r.States()) > 1 {
				one.State = state
			}
			for _, along := range inOrder(&params[axis]) {
				values := map[string]string{params[axis].Name: along.Text}
				if len(params) > 1 {
					values[params[1-axis].Name] = v.Text
				}
				if at := s.r.Sweep.Find(cell.At(values)); at >= 0 {
					one.Points = append(one.Points, at)
				}
			}
			if len(one.Points) > 0 {
				out = append(out, one)
			}
		}
	}
	return out
}

// inOrder are a parameter's values as its axis has them: numbers rising, words as the plan has them.
func inOrder(p *result.Parameter) []result.Value {
	if !p.Numbers() {
		return p.Values
	}
	return slices.SortedStableFunc(slices.Values(p.Values), func(a, b result.Value) int {
		return cmp.Compare(a.Number, b.Number)
	})
}

// Parameter is the one that a slice is along.
func (s *Sweep) Parameter(of *Slice) *result.Parameter { return &s.r.Sweep.Parameters[of.Axis] }

// Value is the value of a slice's parameter at one of its points.
func (s *Sweep) Value(of *Slice, point int) result.Value {
	p := s.Parameter(of)
	v, _ := p.Find(s.r.Sweep.Points[of.Points[point]].At.Values()[p.Name])
	return v
}

// curveKey is what a curve is of.
type curveKey struct {
	slice  int
	figure figure.Name
	scale  Scale
}

// curves keeps curves that were asked for: pictures, tables and words are made of the same.
type curves struct {
	mu   sync.Mutex
	made map[curveKey]*Curve
}

// Curve is a figure along a slice on a scale, which is not to be changed; nil where there is none on that scale. It may
// be asked for by several at once.
func (s *Sweep) Curve(slice int, fig figure.Name, scale Scale) *Curve {
	s.curves.mu.Lock()
	defer s.curves.mu.Unlock()
	key := curveKey{slice, fig, scale}
	if c, ok := s.curves.made[key]; ok {
		return c
	}
	c := s.newCurve(slice, fig, scale)
	if s.curves.made == nil {
		s.curves.made = map[curveKey]*Curve{}
	}
	s.curves.made[key] = c
	return c
}

func (s *Sweep) newCurve(slice int, fig figure.Name, scale Scale) *Curve {
	of := &s.Slices[slice]
	measured := s.lines(of, fig)
	out := &Curve{Figure: fig, Scale: scale, Lines: s.scaled(of, fig, measured, scale)}
	if out.Lines == nil {
		return nil
	}
	p := s.Parameter(of)
	out.Places = s.places(slice, fig, measured)
	laws := make([]*curve.Law, len(measured))
	for i, l := range measured {
		if grown(p) {
			laws[i] = l.Fit(grows(p))
		}
	}
	if p.Numbers() {
		out.Turns = curve.Turns(measured, laws, out.Places)
	}
	for i, l := range out.Lines {
		typical := make([]curve.Amount, len(l.Values))
		for i := range typical {
			typical[i] = l.Typical(i)
		}
		var law *curve.Law
		if scale == AsMeasured {
			law = laws[i]
		}
		knee := -1
		if at, ok := l.Knee(kneeShare); ok && p.Numbers() {
			knee = at
		}
		out.Typical, out.Laws = append(out.Typical, typical), append(out.Laws, law)
		out.Bests, out.Knees = append(out.Bests, l.FindBest()), append(out.Knees, knee)
	}
	return out
}

// kneeShare is what a step brings at least while it is worth it.
const kneeShare = 0.05

// grown reports whether laws of growth are tried over a parameter.
func grown(p *result.Parameter) bool { return p.Numbers() && plan.Counts(p.Counts) != plan.Other }

func grows(p *result.Parameter) curve.Grows {
	if plan.Counts(p.Counts).AtOnce() {
		return curve.AtOnce
	}
	return curve.Things
}

// lines are a figure of all contenders along a slice, as measured.
func (s *Sweep) lines(of *Slice, fig figure.Name) []*curve.Line {
	p := s.Parameter(of)
	lines := make([]*curve.Line, len(s.Contenders))
	for i, name := range s.Contenders {
		l := &curve.Line{Log: p.Log, More: fig.MoreIsBetter()}
		for j, at := range of.Points {
			x := float64(j)
			if p.Numbers() {
				x = s.Value(of, j).Number
			}
			l.X = append(l.X, x)
			l.Values = append(l.Values, s.series(fig, cell.Cell{
				Contender: name, State: s.stateOf(of), Point: s.r.Sweep.Points[at].At,
			}))
		}
		lines[i] = l
	}
	return lines
}

func (s *Sweep) stateOf(of *Slice) string {
	if of.State == "" {
		return s.r.States()[0]
	}
	return of.State
}

// series are a cell's values round by round; all NaN where it has none.
func (s *Sweep) series(fig figure.Name, c cell.Cell) []float64 {
	if values, ok := s.values[figureOf{fig, c}]; ok {
		return values
	}
	none := make([]float64, len(s.r.Order))
	for _, values := range s.values {
		none = make([]float64, len(values))
		break
	}
	for i := range none {
		none[i] = math.NaN()
	}
	return none
}

// scaled are lines on a scale; nil where they have none there.
func (s *Sweep) scaled(of *Slice, fig figure.Name, lines []*curve.Line, scale Scale) []*curve.Line {
	if scale == AsMeasured {
		return lines
	}
	if !s.Scales(of, fig)[scale] {
		return nil
	}
	base := slices.Index(s.Contenders, s.Baseline)
	out := make([]*curve.Line, len(lines))
	for i, l := range lines {
		next := &curve.Line{X: l.X, Log: l.Log, More: l.More || scale == AgainstBaseline}
		for p, values := range l.Values {
			own := make([]float64, len(values))
			for r, v := range values {
				switch {
				case scale == AgainstBaseline && l.More:
					own[r] = v / lines[base].Values[p][r]
				case scale == AgainstBaseline:
					own[r] = lines[base].Values[p][r] / v
				case scale == ForEach && l.More:
					own[r] = v * l.X[p]
				case scale == ForEach:
					own[r] = v / l.X[p]
				default:
					own[r] = v * float64(s.shotsOfHeat(of.Points[p]))
				}
			}
			next.Values = append(next.Values, own)
		}
		out[i] = next
	}
	return out
}

// Scales says on which scales there are lines of a figure.
func (s *Sweep) Scales(of *Slice, fig figure.Name) map[Scale]bool {
	p := s.Parameter(of)
	positive := p.Numbers() && !slices.ContainsFunc(p.Values, func(v result.Value) bool { return v.Number <= 0 })
	counts := plan.Counts(p.Counts)
	perShot := fig == figure.Mean || fig == figure.CPU || fig == figure.Received
	known := !slices.ContainsFunc(of.Points, func(i int) bool { return s.shotsOfHeat(i) < 2 })
	return map[Scale]bool{
		AsMeasured: true, AgainstBaseline: true,
		ForEach: positive && (counts == plan.Items || counts == plan.OfBytes),
		InAll:   perShot && known,
	}
}

// shotsOfHeat is how many shots the plan gives a heat at a point; 0 where that depends.
func (s *Sweep) shotsOfHeat(point int) int64 { return plannedShots(&s.r.Sweep.Points[point].Pace) }

// places says who is best at the points of a slice, standings holding for the whole sweep together.
func (s *Sweep) places(slice int, fig figure.Name, lines []*curve.Line) []curve.Place {
	whole := make([]*curve.Line, len(lines))
	for i := range whole {
		whole[i] = &curve.Line{More: fig.MoreIsBetter()}
	}
	from := 0
	for i := range s.Slices {
		own := lines
		if i == slice {
			from = len(whole[0].Values)
		} else {
			own = s.lines(&s.Slices[i], fig)
		}
		for j, l := range own {
			whole[j].Values = append(whole[j].Values, l.Values...)
		}
	}
	places := curve.Places(whole, s.interest(fig))
	return places[from : from+len(lines[0].Values)]
}

func (s *Sweep) interest(fig figure.Name) float64 {
	if own, ok := s.r.Plan.Interests[fig]; ok {
		return own
	}
	return s.r.Plan.Interest
}
