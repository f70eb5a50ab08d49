package judge

import (
	"fmt"
	"math"
	"strings"

	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Show writes a value of a figure with its unit.
func Show(f plan.Figure, v float64) string {
	switch f {
	case plan.Throughput, plan.Holds:
		return units.Rate(v)
	case HoldsClients:
		if math.IsNaN(v) {
			return units.None
		}
		return units.Significant(v) + " clients"
	}
	return units.Seconds(v)
}

// Label is a figure's name for people.
func Label(f plan.Figure) string {
	switch f {
	case plan.CPU:
		return "CPU/run"
	case plan.Holds, HoldsClients:
		return "load held"
	}
	return string(f)
}

// Title is the figure's name with its state, where there are two: "p50 cold".
func (a Assessment) Title() string {
	if a.State == "" {
		return Label(a.Figure)
	}
	return Label(a.Figure) + " " + a.State
}

// comparative is how a better or worse figure is put.
func comparative(f plan.Figure, w Word) string {
	switch f {
	case plan.Throughput:
		if w == Better {
			return "more throughput"
		}
		return "less throughput"
	case plan.Holds, HoldsClients:
		if w == Better {
			return "more load"
		}
		return "less load"
	case plan.CPU:
		if w == Better {
			return "less CPU"
		}
		return "more CPU"
	}
	if w == Better {
		return "faster"
	}
	return "slower"
}

// Factor is the ratio as it is spoken, never below 1: which way it goes is said by a word beside it.
func (a Assessment) Factor() string {
	if a.Ratio < 1 {
		return units.Times(1 / a.Ratio)
	}
	return units.Times(a.Ratio)
}

// Interval is the 95 % interval in the direction of Factor: "3.1 to 3.7"; empty when there is none.
func (a Assessment) Interval() string {
	if math.IsNaN(a.Low) {
		return ""
	}
	low, high := a.Low, a.High
	if a.Ratio < 1 {
		low, high = 1/a.High, 1/a.Low
	}
	decimals := 1
	switch {
	case low >= 100 || low >= 10 && high-low >= 1:
		decimals = 0
	case low < 10 && (low < 2 || high-low < 0.2):
		decimals = 2
	}
	return fmt.Sprintf("%.*f to %.*f", decimals, low, decimals, high)
}

// Width is the half-width of the interval as a share: 0.06 for a ratio known to within 6 %. NaN when there is none.
func (a Assessment) Width() float64 { return math.Sqrt(a.High/a.Low) - 1 }

// Say puts an assessment in a few words, for beside the ladder.
func (a Assessment) Say() string {
	switch a.Word {
	case Better, Worse:
		return comparative(a.Figure, a.Word)
	case Alike:
		return string(Alike)
	case TooFew:
		if isLoad(a.Figure) {
			return fmt.Sprintf("too few: needs %s shots a level", units.Count(a.NeedShots))
		}
		return fmt.Sprintf("too few: needs %s shots a heat", units.Count(a.NeedShots))
	case Open:
		if math.IsNaN(a.Low) {
			return fmt.Sprintf("still open: %s, an interval needs %d", units.Plural(a.Rounds, "round"), minRounds)
		}
		if a.Corrected && a.Alone != Open {
			return fmt.Sprintf("still open (alone: %s)", a.aloneWords())
		}
		text := fmt.Sprintf("still open, ±%s", units.Share(a.Width()))
		if a.NeedRounds > 0 {
			text += fmt.Sprintf("; ±%s at about %d rounds", units.Share(WantedFrac), a.NeedRounds)
		}
		return text
	}
	return "no shots to compare"
}

func (a Assessment) aloneWords() string {
	if a.Alone == Alike {
		return string(Alike)
	}
	return comparative(a.Figure, a.Alone)
}

// find returns a face's assessment of a figure.
func (f *Face) find(figure plan.Figure) (Assessment, bool) {
	for _, a := range f.Figures {
		if a.Figure == figure {
			return a, true
		}
	}
	return Assessment{}, false
}

// spoken lists a face's latency figures in the order in which they are said: middle first, then tail, then the mean
// where the shots are too few for percentiles.
func (f *Face) spoken(decides plan.Figure) (out []Assessment) {
	for _, a := range f.Figures {
		if isLoad(a.Figure) {
			return []Assessment{a}
		}
	}
	if a, ok := f.find(decides); ok {
		return []Assessment{a}
	}
	for _, figure := range []plan.Figure{plan.P50, plan.P90, plan.P99} {
		if a, ok := f.find(figure); ok && a.Word != TooFew && a.Word != NoWord {
			out = append(out, a)
		}
	}
	if len(out) == 0 {
		if a, ok := f.find(plan.Mean); ok && a.Word != NoWord {
			out = append(out, a)
		}
	}
	return out
}

// sentence compares a contender with the baseline in words, state by state where there are two.
func sentence(field *field, f *Face) string {
	r := field.r
	base := r.Plan.Baseline
	var text []string
	if differ := failuresDiffer(r, base, f.Contender); differ != "" {
		text = append(text, differ+".")
	}
	states := r.States()
	for _, state := range states {
		if r.Plan.Pace.Climb != nil {
			for _, a := range f.Figures {
				if a.State == state {
					text = append(text, climbSentence(field, f, a))
				}
			}
			continue
		}
		if len(states) == 1 {
			text = append(text, ratioSentence(f, base, r.Plan.Decides))
			continue
		}
		own := Face{Contender: f.Contender}
		for _, a := range f.Figures {
			if a.State == state {
				own.Figures = append(own.Figures, a)
			}
		}
		said := ratioSentence(&own, base, r.Plan.Decides)
		for _, opening := range []string{"After", "There"} {
			if rest, ok := strings.CutPrefix(said, opening); ok {
				said = strings.ToLower(opening) + rest
			}
		}
		text = append(text, strings.ToUpper(state[:1])+state[1:]+", "+said)
	}
	return strings.Join(text, " ")
}

func ratioSentence(f *Face, base string, decides plan.Figure) string {
	said := f.spoken(decides)
	if len(said) == 0 {
		return fmt.Sprintf("There is not enough yet to compare %s with %s.", f.Contender, base)
	}
	if text := unsettled(f, said, base); text != "" {
		return text
	}
	groups := map[Word][]Assessment{}
	var order []Word
	for _, a := range said {
		if groups[a.Word] == nil {
			order = append(order, a.Word)
		}
		groups[a.Word] = append(groups[a.Word], a)
	}
	var parts []string
	named := false // the other side, in the first comparison
	for _, w := range order {
		var list []string
		for i, a := range groups[w] {
			than := ""
			if !named && (w == Better || w == Worse) {
				than, named = " than "+base, true
			}
			list = append(list, phrase(a, i == 0, than))
		}
		lead := "is "
		if w == Alike || w == Open {
			lead = "is " + string(w) + " "
		}
		parts = append(parts, lead+units.List(list))
	}
	text := f.Contender + " " + strings.Join(parts, "; ")
	if !named {
		text += " against " + base
	}
	return text + "."
}

// unsettled words a comparison of too few rounds for any interval; empty when there are enough.
func unsettled(f *Face, said []Assessment, base string) string {
	var list []string
	for _, a := range said {
		if !math.IsNaN(a.Low) {
			return ""
		}
		word := Better
		if a.Ratio < 1 {
			word = Worse
		}
		at := "at " + string(a.Figure)
		if a.Figure == plan.Mean {
			at = "in the mean"
		}
		list = append(list, fmt.Sprintf("%s %s %s", a.Factor(), comparative(a.Figure, word), at))
	}
	return fmt.Sprintf("After %s %s is about %s, as against %s; nothing is settled, an interval needs %d rounds.",
		units.Plural(said[0].Rounds, "round"), f.Contender, units.List(list), base, minRounds)
}

// phrase puts one figure into a sentence: "3.4x faster than per-vessel at p50 (3.1 to 3.7)"; the comparative stands only
// with the first of several.
func phrase(a Assessment, first bool, than string) string {
	at := " at " + string(a.Figure)
	switch a.Figure {
	case plan.Mean:
		at = " in the mean"
	case plan.Throughput, plan.CPU, plan.Holds, HoldsClients:
		at = ""
	}
	heats := ""
	if a.HeatShots > 0 {
		heats = fmt.Sprintf("heats of %s shots", units.Count(a.HeatShots))
	}
	if a.Word != Better && a.Word != Worse {
		if at == "" {
			at = " in " + Label(a.Figure)
		}
		if heats != "" {
			heats = " (" + heats + ")"
		}
		return strings.TrimSpace(at) + heats
	}
	if heats != "" {
		heats = ", " + heats
	}
	how := ""
	if first {
		how = " " + comparative(a.Figure, a.Word) + than
	}
	return a.Factor() + how + at + " (" + a.Interval() + heats + ")"
}

// failures counts failed and all shots of a contender's heats that count.
func failures(r *result.Result, name, state string) (failed, shots int64) {
	for _, h := range r.Of(name, state) {
		failed += h.Failed()
		shots += h.Shots()
	}
	return failed, shots
}

func failureShare(r *result.Result, name string) float64 {
	failed, shots := failures(r, name, result.AnyState)
	if shots == 0 {
		return 0
	}
	return float64(failed) / float64(shots)
}

// failuresDiffer says so when two contenders do not fail alike; that comes before any ratio. Empty when they do.
func failuresDiffer(r *result.Result, a, b string) string {
	fa, fb := failureShare(r, a), failureShare(r, b)
	if fa == fb {
		return ""
	}
	say := func(name string, frac float64) string {
		if frac == 0 {
			return name + " none"
		}
		return fmt.Sprintf("%s fails %s of its shots", name, units.Share(frac))
	}
	if fb > fa {
		return say(b, fb) + ", " + say(a, fa)
	}
	return say(a, fa) + ", " + say(b, fb)
}

// overall is the verdict in a sentence or two.
func overall(r *result.Result, v *Verdict) string {
	if v.Rounds == 0 {
		if r.Ending == result.Failed {
			return "Nothing was measured: " + r.Reason + "."
		}
		return "No round was finished, so nothing can be compared."
	}
	var text []string
	for i := range v.Faces {
		text = append(text, v.Faces[i].Sentence)
	}
	text[0], text[v.Best] = text[v.Best], text[0]
	for _, g := range v.Gains {
		if g.Sentence != "" {
			text = append(text, g.Sentence)
		}
	}
	return strings.Join(text, " ")
}

// best is the face of the contender that wins by most, or the first when none wins.
func best(v *Verdict) int {
	best := -1
	for i := range v.Faces {
		if a := lead(&v.Faces[i], v.Decides); v.Faces[i].Holds && (best < 0 || a.Ratio > lead(&v.Faces[best], v.Decides).Ratio) {
			best = i
		}
	}
	return max(best, 0)
}

// lead is the figure that a face is first spoken of by.
func lead(f *Face, decides plan.Figure) Assessment {
	if said := f.spoken(decides); len(said) > 0 {
		return said[0]
	}
	return Assessment{Ratio: math.NaN()}
}

// Lead is the ratio that the verdict is first spoken of by: that of the contender that does best. NaN when there is none.
func (v *Verdict) Lead() float64 {
	best := math.NaN()
	for i := range v.Faces {
		if ratio := lead(&v.Faces[i], v.Decides).Ratio; math.IsNaN(best) || ratio > best {
			best = ratio
		}
	}
	return best
}
