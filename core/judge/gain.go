package judge

import (
	"fmt"
	"math"
	"slices"

	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
)

// gains compares each contender's warm runs with its cold ones, in latencies alone.
func (f *field) gains() (out []Gain) {
	cold, warm := string(plan.Cold), string(plan.Warm)
	if states := f.r.States(); !slices.Contains(states, cold) || !slices.Contains(states, warm) {
		return nil
	}
	for _, e := range f.r.Entrants {
		g := Gain{Contender: e.Name}
		for _, figure := range []plan.Figure{plan.P50, plan.P90, plan.P99, plan.Mean} {
			a := f.assess(figure, side{e.Name, cold}, side{e.Name, warm})
			a.State, a.Main = "", true
			g.Figures = append(g.Figures, a)
		}
		out = append(out, g)
	}
	return out
}

// spokenGain is the figure that a gain is put into words by: the one that decides, else the middle, else the mean.
func (g *Gain) spokenGain(decides plan.Figure) (Assessment, bool) {
	for _, figure := range []plan.Figure{decides, plan.P50, plan.Mean} {
		for _, a := range g.Figures {
			if a.Figure == figure && a.Word != TooFew && a.Word != NoWord {
				return a, true
			}
		}
	}
	return Assessment{}, false
}

// gainSentence says what caching brings a contender.
func gainSentence(g *Gain, decides plan.Figure) string {
	a, ok := g.spokenGain(decides)
	if !ok {
		return ""
	}
	at := at(a.Figure)
	switch a.Word {
	case Better:
		return fmt.Sprintf("Warm, %s is %s faster than cold%s (%s).", g.Contender, a.Factor(), at, a.Interval())
	case Worse:
		return fmt.Sprintf("Warm, %s is %s slower than cold%s (%s).", g.Contender, a.Factor(), at, a.Interval())
	case Alike:
		return fmt.Sprintf("%s gains nothing from its caches%s (%s).", g.Contender, at, a.around())
	}
	if math.IsNaN(a.Low) {
		return ""
	}
	return fmt.Sprintf("What caching brings %s is still open%s (%s).", g.Contender, at, a.around())
}

// around is an interval about 1 as it stands, below and above: "0.97 to 1.02".
func (a Assessment) around() string {
	if math.IsNaN(a.Low) {
		return ""
	}
	return fmt.Sprintf("%.2f to %.2f", a.Low, a.High)
}

// gainRows are the scorecard's lines about caching.
func gainRows(r *result.Result, v *Verdict) []Row {
	if len(v.Gains) == 0 {
		return nil
	}
	row := Row{Name: "warm against cold", Plain: true}
	for _, g := range v.Gains {
		text, amount := units.None, math.NaN()
		if a, ok := g.spokenGain(v.Decides); ok && !math.IsNaN(a.Ratio) {
			amount = a.Ratio
			switch a.Word {
			case Better, Worse:
				text = a.Factor() + " " + comparative(a.Figure, a.Word)
			case Alike:
				text = "no gain"
			default:
				text = "open, " + a.Factor()
			}
		}
		row.Values, row.Amount = append(row.Values, text), append(row.Amount, amount)
	}
	return []Row{row}
}
