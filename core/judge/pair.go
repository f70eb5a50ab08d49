package judge

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/judge/stats"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Pairing is a contender of one run and one of another, face to face. The rounds of two runs are not paired, and what
// else changed between them is in the figures. Where both runs have the baseline it is the bridge: each contender is
// held to it in its own run, and what is compared is by how much each is better.
type Pairing struct {
	Point     string // of a sweep, in words; empty without one
	State     string // of caches; empty where there is but one
	Then, Now string // the contenders
	Bridge    string // the baseline that both are held to; empty: times themselves are compared
	Figures   []Paired
	Sentence  string
	Note      string // how the words were reached

	on basis
}

// Paired is a figure of a pairing. Its ratio says how many times better Now is than Then; with a bridge it is the ratio
// of their ratios, as if the baseline of both runs had been the same. Baseline and Contender are the figures of the
// typical heats of then and now. Differences and numbers of shots are not told.
type Paired struct {
	Assessment
	// Before and After are by how much each is better than the baseline of its own run; empty without a bridge.
	Before, After Assessment
}

// Corner names one side of a pairing: a run, and a contender of it.
type Corner struct {
	Run       *result.Result
	Contender string
}

// Pairings holds a contender of one run to one of another: in each state, and at each point of a sweep, that both have.
// The error says that they have nothing in common, or that a document cannot be read.
func Pairings(then, now Corner) (out []*Pairing, err error) {
	for _, c := range []Corner{then, now} {
		if c.Run.Entrant(c.Contender) == nil {
			var names []string
			for _, e := range c.Run.Entrants {
				names = append(names, e.Name)
			}
			return nil, fmt.Errorf("run %s has no contender %q; it has %s", c.Run.ID, c.Contender, units.List(names))
		}
	}
	for _, at := range sharedPoints(then.Run, now.Run) {
		own := []Corner{{then.at(at), then.Contender}, {now.at(at), now.Contender}}
		fields := make([]*field, len(own))
		for i := range own {
			if fields[i], err = gather(own[i].Run, true); err != nil {
				return nil, err
			}
		}
		for _, state := range own[1].Run.States() {
			if !slices.Contains(own[0].Run.States(), state) {
				continue
			}
			p := &Pairing{Point: at, State: state, Then: then.Contender, Now: now.Contender, Bridge: bridge(own[0], own[1])}
			if len(own[1].Run.States()) == 1 {
				p.State = ""
			}
			p.hold(fields[0], fields[1], state)
			out = append(out, p)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("runs %s and %s have no state and no point in common", then.Run.ID, now.Run.ID)
	}
	return out, nil
}

// sharedPoints are the points that two runs have, in words; one without words of two runs without a sweep.
func sharedPoints(then, now *result.Result) (out []string) {
	if then.Sweep == nil && now.Sweep == nil {
		return []string{""}
	}
	if then.Sweep == nil || now.Sweep == nil {
		return nil
	}
	for i := range now.Sweep.Points {
		at := now.Sweep.Say(now.Sweep.Points[i].At)
		if pointOf(then, at) >= 0 {
			out = append(out, at)
		}
	}
	return out
}

func pointOf(r *result.Result, at string) int {
	return slices.IndexFunc(r.Sweep.Points, func(p result.Point) bool { return r.Sweep.Say(p.At) == at })
}

// at is the corner's run at a point.
func (c Corner) at(point string) *result.Result {
	if c.Run.Sweep == nil {
		return c.Run
	}
	return c.Run.AtPoint(pointOf(c.Run, point))
}

// bridge is the baseline that both runs have, unless one of the two contenders is it: then there is nothing to be held
// to.
func bridge(then, now Corner) string {
	base := now.Run.Plan.Baseline
	if then.Run.Plan.Baseline != base || then.Contender == base && now.Contender == base {
		return ""
	}
	return base
}

// hold fills in the figures, with their words, and the sentence.
func (p *Pairing) hold(then, now *field, state string) {
	own, others := now.figures()
	thenOwn, thenOthers := then.figures()
	known := append(thenOwn, thenOthers...)
	alpha := min(then.alpha, now.alpha)
	for _, fig := range append(own[:len(own):len(own)], others...) {
		if !slices.Contains(known, fig) {
			continue
		}
		isOwn := slices.Contains(own, fig)
		if one, ok := p.figure(fig, then, now, state); ok && (isOwn || one.Word != TooFew) {
			one.Main, one.Level, one.interest = isOwn, 1-alpha, now.interest(fig)
			p.Figures = append(p.Figures, one)
		}
	}
	slices.SortStableFunc(p.Figures, func(a, b Paired) int { return a.Figure.Place() - b.Figure.Place() })
	var all []*Assessment
	for i := range p.Figures {
		if a := &p.Figures[i].Assessment; a.sample != nil {
			if a.Low, a.High = math.NaN(), math.NaN(); a.sample.Len() > 0 {
				a.Ratio = math.Exp(a.sample.Centre())
			}
			a.tilted = tilted(a.sample)
			if low, high, ok := a.sample.Interval(alpha); ok {
				a.Low, a.High = math.Exp(low), math.Exp(high)
			}
			if a.Counted {
				a.Word = told(a)
				continue
			}
			all = append(all, a)
		}
	}
	decides := now.r.Plan.Decides
	if then.r.Plan.Decides != decides {
		decides = ""
	}
	p.Note = settleAll(all, decides, alpha)
	for i := range p.Figures {
		p.Figures[i].sample = nil
	}
	p.on = basis{decides, decides == "" && len(now.r.Plan.Rungs) > 0}
	p.Sentence = p.say()
}

// figure is a figure of both, still without its word; ok is false where one of the two has none of it.
func (p *Pairing) figure(fig figure.Name, then, now *field, state string) (one Paired, ok bool) {
	one.Assessment = Assessment{
		Figure: fig, State: p.State, Ratio: math.NaN(), Low: math.NaN(), High: math.NaN(), Difference: math.NaN(),
		DifferenceLow: math.NaN(), DifferenceHigh: math.NaN(), Noise: math.NaN(), Word: Open,
	}
	a, thenSample := p.side(fig, then, p.Then, state)
	b, nowSample := p.side(fig, now, p.Now, state)
	for _, s := range []Assessment{a, b} {
		if s.Word == TooFew {
			one.Word, one.NeedShots = TooFew, max(one.NeedShots, s.NeedShots)
		}
		one.HeatShots = max(one.HeatShots, s.HeatShots)
	}
	one.Baseline, one.Contender = a.Contender, b.Contender
	if one.Word == TooFew {
		return one, true
	}
	isBase := func(f *field, name string) bool { return p.Bridge != "" && name == f.r.Plan.Baseline }
	if thenSample == nil && !isBase(then, p.Then) || nowSample == nil && !isBase(now, p.Now) {
		return one, false
	}
	if p.Bridge != "" {
		one.Before, one.After = a, b
	}
	shift := stats.NewShift(thenSample, nowSample)
	one.Rounds, one.sample, one.Counted = shift.Len(), shift, a.Counted && b.Counted
	return one, true
}

// side is a figure of one side by itself, and how much better than the baseline it is in each round, or, without a
// bridge, how good it is; nil where that is not known. Of the baseline itself there is nothing to be known.
func (p *Pairing) side(fig figure.Name, f *field, name, state string) (Assessment, *stats.Sample) {
	own := cell.Of(name, state)
	base := own
	if p.Bridge != "" {
		base = cell.Of(f.r.Plan.Baseline, state)
	}
	a := f.assess(fig, base, own)
	if a.sample == nil && a.Word != TooFew || a.AgainstNone || a.Word == TooFew {
		return a, nil
	}
	if p.Bridge != "" {
		if base == own {
			return a, nil
		}
		return a, a.sample.(*stats.Sample)
	}
	logs, _ := f.logs(fig, own)
	if len(logs) == 0 {
		return a, nil
	}
	if !fig.MoreIsBetter() {
		for i := range logs {
			logs[i] = -logs[i]
		}
	}
	return a, stats.NewSample(logs).Blurred(relative(f.grain(fig, own), a.Contender.V))
}

// Spoken are the figures that the pairing is spoken of by, the leading one first.
func (p *Pairing) Spoken() (out []*Paired) {
	face := Face{}
	for i := range p.Figures {
		face.Figures = append(face.Figures, p.Figures[i].Assessment)
	}
	for _, a := range face.spoken(p.on) {
		out = append(out, p.Of(a.Figure))
	}
	return out
}

// Of is a figure of the pairing; nil without it.
func (p *Pairing) Of(fig figure.Name) *Paired {
	for i := range p.Figures {
		if p.Figures[i].Figure == fig {
			return &p.Figures[i]
		}
	}
	return nil
}

// say puts the pairing into a sentence or two.
func (p *Pairing) say() string {
	spoken := p.Spoken()
	if len(spoken) == 0 {
		return "The two have no figure in common that can be compared."
	}
	var parts []string
	for _, one := range spoken[:min(len(spoken), spokenPairs)] {
		parts = append(parts, p.sayFigure(one))
	}
	text := strings.Join(parts, "; ") + "."
	return strings.ToUpper(text[:1]) + text[1:]
}

// spokenPairs is how many figures the sentence of a pairing is made of.
const spokenPairs = 2

func (p *Pairing) sayFigure(a *Paired) string {
	at := strings.TrimSpace(cmp.Or(a.Figure.At(), "in "+a.Figure.Label()))
	who, later := strings.TrimSpace(p.Then+" "+p.State), ""
	if p.Then != p.Now {
		later = strings.TrimSpace(p.Now+" "+p.State) + " "
	}
	if p.Bridge == "" {
		return fmt.Sprintf("%s %s had %s then and %shas %s now: %s", at, who, a.Figure.Show(a.Baseline.V), later,
			a.Figure.Show(a.Contender.V), a.Changed())
	}
	return fmt.Sprintf("as against %s, %s was %s %s then and %sis %s now: %s", p.Bridge, who, a.Before.standing(), at,
		later, a.After.standing(), a.Changed())
}

// standing says how a contender stands to its baseline: "4.6x faster", "1x".
func (a Assessment) standing() string {
	switch {
	case math.IsNaN(a.Ratio) || a.Ratio == 0: // it is not known, or was not even asked for
		return units.None
	case a.Factor() == "1x":
		return "1x"
	}
	return a.Factor() + " " + a.Figure.Comparative(a.Ratio > 1)
}

// Changed says by how much the later one is better or worse: "1.48x slower than it was (1.28 to 1.72)".
func (a *Paired) Changed() string {
	within := ""
	if i := a.Interval(); i != "" {
		within = " (" + i + ")"
	}
	switch a.Word {
	case Better, Worse:
		return a.Compared() + within
	case Alike:
		return fmt.Sprintf("no different, within %.3g %%", a.interest*100)
	case TooFew:
		return a.Say()
	}
	if within == "" {
		return fmt.Sprintf("still open, an interval needs %d rounds of both", stats.MinRounds)
	}
	return fmt.Sprintf("%s%s, which is still open", a.standing(), within)
}

// Surely reports whether the figure surely changed for the better or for the worse.
func (a *Paired) Surely() bool { return a.Word == Better || a.Word == Worse }

// Shared are the contenders that two runs have both, in the order of the later one; the twin of the baseline aside.
func Shared(then, now *result.Result) (names []string) {
	for _, e := range now.Entrants {
		if old := then.Entrant(e.Name); old != nil && !e.Mirror && !strings.HasSuffix(e.Name, plan.MirrorSuffix) {
			names = append(names, e.Name)
		}
	}
	return names
}

// Gains are by how much a contender was better than another in each round, in logarithms, in the figure that a run is
// looked at by, or in one that is named; which is told. The state is the run's first.
func Gains(r *result.Result, fig figure.Name, than, contender string) (figure.Name, []float64, error) {
	for _, name := range []string{than, contender} {
		if r.Entrant(name) == nil {
			return "", nil, fmt.Errorf("%q is not a contender of this run", name)
		}
	}
	f, err := gather(r, true)
	if err != nil {
		return "", nil, err
	}
	if fig == "" {
		fig = f.leading()
	}
	d, _ := f.differences(fig, cell.Of(than, r.States()[0]), cell.Of(contender, r.States()[0]))
	return fig, d, nil
}

// Sides are what a figure is then and now: by how much each is better than the bridge, or the figures themselves.
func (p *Pairing) Sides(a *Paired) (then, now string) {
	if p.Bridge == "" {
		return a.Figure.Show(a.Baseline.V), a.Figure.Show(a.Contender.V)
	}
	return a.Before.standing(), a.After.standing()
}

// InShort is the figure's word for a table: "slower", "the same", "too close to call", "still open".
func (a *Paired) InShort() string {
	switch a.Word {
	case Better, Worse:
		return a.Figure.Comparative(a.Word == Better)
	case TooFew:
		return a.Say()
	}
	if a.isTheSame() {
		return theSame
	}
	return string(a.Word)
}
