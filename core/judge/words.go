package judge

import (
	"cmp"
	"fmt"
	"math"
	"strings"

	"paceduel/core/judge/stats"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Title is the figure's name with its state, where there are two: "p50 cold".
func (a Assessment) Title() string {
	if a.State == "" {
		return Label(a.Figure)
	}
	return Label(a.Figure) + " " + a.State
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

// Apart is the difference in the figure's unit with its interval: "-8.71 ms (-9.12 to -8.20)"; empty when there is none.
func (a Assessment) Apart() string {
	if math.IsNaN(a.Difference) {
		return ""
	}
	signed := func(x float64) string {
		text := Show(a.Figure, x)
		if x > 0 {
			text = "+" + text
		}
		return text
	}
	if math.IsNaN(a.DifferenceLow) {
		return signed(a.Difference)
	}
	return fmt.Sprintf("%s (%s to %s)", signed(a.Difference), signed(a.DifferenceLow), signed(a.DifferenceHigh))
}

// Width is the half-width of the interval as a share: 0.06 for a ratio known to within 6 %. NaN when there is none.
func (a Assessment) Width() float64 { return math.Sqrt(a.High/a.Low) - 1 }

// Say puts an assessment in a few words, for beside the ladder.
func (a Assessment) Say() string {
	switch a.Word {
	case Better, Worse:
		if a.Counted {
			return comparative(a.Figure, a.Word) + ", counted"
		}
		return comparative(a.Figure, a.Word)
	case Alike:
		if a.Counted && a.Ratio == 1 {
			return "the same"
		}
		return string(Alike)
	case TooFew:
		if isLoad(a.Figure) {
			return fmt.Sprintf("too few: needs %s shots a level", units.Count(a.NeedShots))
		}
		return fmt.Sprintf("too few: needs %s shots a heat", units.Count(a.NeedShots))
	case Open:
		if math.IsNaN(a.Low) {
			least := stats.MinRounds
			if a.HeatShots > 0 {
				least = stats.SignedRankFrom
			}
			return fmt.Sprintf("still open: %s, an interval needs %d", units.Plural(a.Rounds, "round"), least)
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
	var start []Assessment // is said first, where the plan has it on the ladder
	for _, a := range f.Figures {
		if !a.Main || a.Word == TooFew || a.Word == NoWord {
			continue
		}
		if _, ok := quantileOf(a.Figure); ok {
			out = append(out, a)
		} else if ofStart(a.Figure) {
			start = append(start, a)
		}
	}
	if len(out) == 0 {
		if a, ok := f.find(plan.Mean); ok && a.Word != NoWord {
			out = append(out, a)
		}
	}
	out = append(start, out...)
	if len(out) == 0 { // of the plan's own rungs, whichever there are
		for _, a := range f.Figures {
			if a.Main && a.Word != TooFew && a.Word != NoWord {
				out = append(out, a)
			}
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
			text = append(text, ratioSentence(f, base, r.Plan.Decides)+besides(f)+moved(r, f))
			continue
		}
		own := f.of(state)
		said := ratioSentence(own, base, r.Plan.Decides)
		for _, opening := range []string{"After", "There"} {
			if rest, ok := strings.CutPrefix(said, opening); ok {
				said = strings.ToLower(opening) + rest
			}
		}
		text = append(text, strings.ToUpper(state[:1])+state[1:]+", "+said+besides(own)+moved(r, own))
	}
	if differ := f.statesDiffer(states, r.Plan.Decides); differ != "" {
		text = append([]string{differ}, text...)
	}
	return strings.Join(text, " ")
}

// of are a face's assessments of one state.
func (f *Face) of(state string) *Face {
	own := &Face{Contender: f.Contender}
	for _, a := range f.Figures {
		if a.State == state {
			own.Figures = append(own.Figures, a)
		}
	}
	return own
}

// plain is a word as it is put in a summary.
func plain(a Assessment) string {
	switch a.Word {
	case Better, Worse:
		return comparative(a.Figure, a.Word)
	case Alike:
		return "alike"
	}
	return ""
}

// statesDiffer sums up what is unlike between cold and warm: "joined is faster warm, alike cold."; empty where nothing is, or
// where either is open.
func (f *Face) statesDiffer(states []string, decides plan.Figure) string {
	if len(states) != 2 {
		return ""
	}
	var words []string
	for _, state := range states {
		said := f.of(state).spoken(decides)
		if len(said) == 0 || plain(said[0]) == "" {
			return ""
		}
		words = append(words, plain(said[0])+" "+state)
	}
	first, second, _ := strings.Cut(words[0], " ")
	other, third, _ := strings.Cut(words[1], " ")
	if first == other && second != third && strings.TrimSuffix(words[0], states[0]) == strings.TrimSuffix(words[1], states[1]) {
		return ""
	}
	return fmt.Sprintf("%s is %s, %s.", f.Contender, words[1], words[0])
}

// middleAndTail names what a face wins in the middle and loses in the tail, or the reverse; empty where it does neither.
func middleAndTail(said []Assessment) string {
	for len(said) > 0 && ofStart(said[0].Figure) {
		said = said[1:]
	}
	if len(said) < 2 {
		return ""
	}
	middle := said[0]
	for i := len(said) - 1; i > 0; i-- {
		tail := said[i]
		if q, ok := quantileOf(tail.Figure); !ok || q < 0.9 || plain(tail) == "" {
			continue
		}
		if plain(middle) == "" || middle.Word == tail.Word {
			return ""
		}
		return fmt.Sprintf("%s in the middle, %s in the tail", plain(middle), plain(tail))
	}
	return ""
}

// besides says what a face costs or saves apart from time: memory always, CPU and bytes where they lean the other way.
func besides(f *Face) string {
	said := f.spoken("")
	lead := Open
	if len(said) > 0 {
		lead = said[0].Word
	}
	var parts []string
	for _, a := range f.Figures {
		if a.Word != Better && a.Word != Worse {
			continue
		}
		against := lead == Better && a.Word == Worse || lead == Worse && a.Word == Better
		interval := ""
		if !a.Counted {
			interval = " (" + a.Interval() + ")"
		}
		switch {
		case a.Figure == plan.PeakBytes && a.Word == Worse:
			parts = append(parts, "holds "+a.Factor()+" the memory"+interval)
		case a.Figure == plan.PeakBytes:
			less := fmt.Sprintf(" (%s to %s)", units.Share(1-1/a.Low), units.Share(1-1/a.High))
			parts = append(parts, "holds "+units.Share(1-1/a.Ratio)+" less memory"+less)
		case a.Figure == plan.CPU && against:
			parts = append(parts, "takes "+a.Factor()+" "+comparative(a.Figure, a.Word)+interval)
		case a.Figure == plan.SentBack && against:
			parts = append(parts, "sends "+a.Factor()+" "+comparative(a.Figure, a.Word)+interval)
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return " It " + units.List(parts) + "."
}

// moved says where what a face wins in one mark it loses in another, so that the sum that the plan makes of them is no better.
func moved(r *result.Result, f *Face) string {
	for _, sum := range r.Plan.Marks {
		parts := r.Plan.Sums[sum]
		whole, ok := f.find(sum)
		if !ok || len(parts) < 2 || whole.Word == Better || whole.Word == NoWord || whole.Word == TooFew {
			continue
		}
		var won, lost []string
		for _, part := range parts {
			switch a, _ := f.find(part); a.Word {
			case Better:
				won = append(won, part.Name())
			case Worse:
				lost = append(lost, part.Name())
			}
		}
		if len(won) == 0 || len(lost) == 0 {
			continue
		}
		how := map[Word]string{Alike: "no different", Worse: "larger", Open: "not known to be smaller"}[whole.Word]
		return fmt.Sprintf(" What it wins in %s it loses in %s: their sum, %s, is %s.", units.List(won), units.List(lost), sum.Name(), how)
	}
	return ""
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
		lead := ""
		if len(parts) == 0 {
			lead = "is "
		}
		if w == Alike || w == Open {
			lead += string(w) + " "
		}
		parts = append(parts, lead+units.List(list))
	}
	text := f.Contender + " "
	if both := middleAndTail(said); both != "" {
		text += "is " + both + ": it "
	}
	text += strings.Join(parts, "; ")
	if !named {
		text += " against " + base
	}
	return text + "."
}

// unsettled words a comparison of too few rounds for any interval; empty when there are enough.
func unsettled(f *Face, said []Assessment, base string) string {
	about := about(f, said)
	if about == "" {
		return ""
	}
	return fmt.Sprintf("After %s %s, as against %s; nothing is settled, an interval needs %d rounds.",
		units.Plural(said[0].Rounds, "round"), about, base, stats.MinRounds)
}

// about says how a contender stands where nothing has an interval: "joined is about 3.1x faster at p50"; empty where
// anything has.
func about(f *Face, said []Assessment) string {
	var list []string
	for _, a := range said {
		if !math.IsNaN(a.Low) {
			return ""
		}
		word := Better
		if a.Ratio < 1 {
			word = Worse
		}
		list = append(list, fmt.Sprintf("%s %s%s", a.Factor(), comparative(a.Figure, word), at(a.Figure)))
	}
	return fmt.Sprintf("%s is about %s", f.Contender, units.List(list))
}

// allUnsettled says once what would else be said of each of several contenders: that there are too few rounds.
func allUnsettled(r *result.Result, v *Verdict) string {
	if len(v.Faces) < 2 || v.Rounds >= stats.MinRounds || len(r.States()) > 1 || r.Plan.Pace.Climb != nil {
		return ""
	}
	var list []string
	for i := range v.Faces {
		f := &v.Faces[i]
		said := f.spoken(v.Decides)
		if len(said) == 0 || failuresDiffer(r, v.Baseline, f.Contender) != "" || besides(f) != "" {
			return ""
		}
		about := about(f, said)
		if about == "" {
			return ""
		}
		list = append(list, about)
	}
	return fmt.Sprintf("After %s, as against %s: %s. Nothing is settled, an interval needs %d rounds.",
		units.Plural(v.Rounds, "round"), v.Baseline, strings.Join(list, "; "), stats.MinRounds)
}

// phrase puts one figure into a sentence: "3.4x faster than per-vessel at p50 (3.1 to 3.7)"; the comparative stands only
// with the first of several.
func phrase(a Assessment, first bool, than string) string {
	at := at(a.Figure)
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
	if open := cmp.Or(allUnsettled(r, v), allOpen(r, v)); open != "" {
		text = []string{open}
	}
	if alike := allAlike(r, v); alike != "" {
		text = append([]string{alike}, text...)
	}
	for _, g := range v.Gains {
		if g.Sentence != "" {
			text = append(text, g.Sentence)
		}
	}
	if own, least := v.unsettleable(); least > 0 && r.Ending != result.Running {
		text = append(text, fmt.Sprintf("%s cannot settle %s together; %d can.", units.Plural(v.Rounds, "round"), units.Plural(own, "figure"), least))
	}
	return strings.Join(text, " ")
}

// allOpen says once what would else be said of each of several contenders: that nothing is settled.
func allOpen(r *result.Result, v *Verdict) string {
	const several = 3
	if len(v.Faces) < several || len(r.States()) > 1 || r.Plan.Pace.Climb != nil {
		return ""
	}
	var at []string
	for i := range v.Faces {
		f := &v.Faces[i]
		said := f.spoken(v.Decides)
		if len(said) == 0 || math.IsNaN(said[0].Low) || failuresDiffer(r, v.Baseline, f.Contender) != "" || besides(f) != "" {
			return ""
		}
		for _, a := range said {
			if a.Word != Open {
				return ""
			}
			if i == 0 {
				at = append(at, strings.TrimSpace(phrase(a, false, "")))
			}
		}
	}
	return fmt.Sprintf("All %d are still open %s against %s.", len(v.Faces), units.List(at), v.Baseline)
}

// allAlike says so where no contender differs from the baseline by more than what is of interest.
func allAlike(r *result.Result, v *Verdict) string {
	for i := range v.Faces {
		f := &v.Faces[i]
		if failuresDiffer(r, v.Baseline, f.Contender) != "" {
			return ""
		}
		for _, state := range r.States() {
			if len(r.States()) == 1 {
				state = ""
			}
			said := f.of(state).spoken(v.Decides)
			if len(said) == 0 || said[0].Word != Alike {
				return ""
			}
			for _, a := range said {
				if a.Word == Better || a.Word == Worse {
					return ""
				}
			}
		}
	}
	return "They are alike: the choice may rest on other grounds."
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
