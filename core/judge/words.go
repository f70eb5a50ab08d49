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

// sentence compares a contender with the baseline in words, state by state where there are two.
func sentence(field *field, f *Face) string {
	r := field.r
	base, on := r.Plan.Baseline, basisOf(r)
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
			text = append(text, ratioSentence(f, base, on)+besides(f, on)+moved(r, f))
			continue
		}
		own := f.of(state)
		said := ratioSentence(own, base, on)
		for _, opening := range []string{"After", "There"} {
			if rest, ok := strings.CutPrefix(said, opening); ok {
				said = strings.ToLower(opening) + rest
			}
		}
		text = append(text, strings.ToUpper(state[:1])+state[1:]+", "+said+besides(own, on)+moved(r, own))
	}
	if differ := f.statesDiffer(states, on); differ != "" {
		text = append([]string{differ}, text...)
	}
	return strings.Join(text, " ")
}

// plain is a word as it is put in a summary.
func plain(a Assessment) string {
	switch a.Word {
	case Better, Worse:
		return a.Figure.Comparative(a.Word == Better)
	case Alike:
		return "alike"
	}
	return ""
}

// statesDiffer sums up what is unlike between cold and warm: "joined is faster warm, alike cold."; empty where nothing
// is, or where either is open.
func (f *Face) statesDiffer(states []string, on basis) string {
	if len(states) != 2 {
		return ""
	}
	var words []string
	for _, state := range states {
		said := f.of(state).spoken(on)
		if len(said) == 0 || plain(said[0]) == "" {
			return ""
		}
		words = append(words, plain(said[0])+" "+state)
	}
	first, second, _ := strings.Cut(words[0], " ")
	other, third, _ := strings.Cut(words[1], " ")
	if first == other && second != third &&
		strings.TrimSuffix(words[0], states[0]) == strings.TrimSuffix(words[1], states[1]) {
		return ""
	}
	return fmt.Sprintf("%s is %s, %s.", f.Contender, words[1], words[0])
}

// middleAndTail names what a face wins in the middle and loses in the tail, or the reverse; empty where it does
// neither.
func middleAndTail(said []Assessment) string {
	for len(said) > 0 && said[0].Figure.Row().OfStart {
		said = said[1:]
	}
	if len(said) < 2 {
		return ""
	}
	middle := said[0]
	for i := len(said) - 1; i > 0; i-- {
		tail := said[i]
		if q, ok := tail.Figure.Quantile(); !ok || q < 0.9 || plain(tail) == "" {
			continue
		}
		if plain(middle) == "" || middle.Word == tail.Word {
			return ""
		}
		return fmt.Sprintf("%s in the middle, %s in the tail", plain(middle), plain(tail))
	}
	return ""
}

// spokenOf reports whether a figure is among those that were said.
func spokenOf(said []Assessment, fig figure.Name) bool {
	return slices.ContainsFunc(said, func(a Assessment) bool { return a.Figure == fig })
}

// besides says what a face costs or saves apart from time: memory always, CPU and bytes unless they lean the way of
// what was said.
func besides(f *Face, on basis) string {
	said := f.spoken(on)
	lead := Open
	if len(said) > 0 {
		lead = said[0].Word
	}
	var parts []string
	for _, a := range f.Figures {
		if a.Word != Better && a.Word != Worse {
			continue
		}
		aside := a.Figure.Row().Aside
		with := lead == a.Word // it leans the way of what was said
		if aside == nil || !aside.Always && with || spokenOf(said, a.Figure) {
			continue
		}
		interval := ""
		if !a.Counted {
			interval = " (" + a.Interval() + ")"
		}
		switch {
		case aside.Less != "" && a.Word == Better:
			interval = fmt.Sprintf(" (%s to %s)", units.Share(1-1/a.Low), units.Share(1-1/a.High))
			parts = append(parts, aside.Verb+" "+units.Share(1-1/a.Ratio)+" "+aside.Less+interval)
		default:
			what := cmp.Or(aside.What, a.Figure.Comparative(a.Word == Better))
			parts = append(parts, aside.Verb+" "+a.Factor()+" "+what+interval)
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return " It " + units.List(parts) + "."
}

// moved says where what a face wins in one mark it loses in another, so that the sum that the plan makes of them is no
// better.
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
				won = append(won, part.Spoken())
			case Worse:
				lost = append(lost, part.Spoken())
			}
		}
		if len(won) == 0 || len(lost) == 0 {
			continue
		}
		how := map[Word]string{Alike: "no different", Worse: "larger", Open: "not known to be smaller"}[whole.Word]
		return fmt.Sprintf(
			" What it wins in %s it loses in %s: their sum, %s, is %s.", units.List(won), units.List(lost), sum.Spoken(), how,
		)
	}
	return ""
}

func ratioSentence(f *Face, base string, on basis) string {
	said := f.spoken(on)
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
	// What is settled comes first.
	slices.SortStableFunc(order, func(a, b Word) int { return open(a) - open(b) })
	var parts []string
	named := false // the other side, in the first comparison
	for _, w := range order {
		var list []string
		last := ""
		for _, a := range groups[w] {
			than, how := "", a.Figure.Comparative(w == Better)
			if !named && (w == Better || w == Worse) {
				than, named = " than "+base, true
			}
			list = append(list, phrase(a, how != last, than))
			last = how
		}
		lead := ""
		if len(parts) == 0 {
			lead = "is "
			if how := groups[w][0].Figure.Comparative(w == Better); (w == Better || w == Worse) && isOfThings(how) {
				lead = "has "
			}
		}
		if w == Alike || w == Open {
			lead += string(w) + " "
		}
		part := lead + units.List(list)
		if w == Open {
			part += leaning(groups[w])
		}
		parts = append(parts, part)
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

// open is 1 for a word that settles nothing.
func open(w Word) int {
	if w == Better || w == Worse {
		return 0
	}
	return 1
}

// leaning says which way open figures lean, where all of them do and it is one.
func leaning(open []Assessment) string {
	way := ""
	for _, a := range open {
		how := a.leans()
		if how == "" || way != "" && how != way {
			return ""
		}
		way = how
	}
	return ", leaning " + way
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
	var list, same []string
	for _, a := range said {
		switch {
		case !math.IsNaN(a.Low):
			return ""
		case a.Factor() == "1x":
			same = append(same, strings.TrimSpace(cmp.Or(a.Figure.At(), "in "+a.Figure.Label())))
		default:
			list = append(list, a.Factor()+" "+a.Figure.Comparative(a.Ratio > 1)+a.Figure.At())
		}
	}
	if len(same) > 0 {
		list = append(list, "the same "+units.List(same))
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
		said := f.spoken(v.on)
		if len(said) == 0 || failuresDiffer(r, v.Baseline, f.Contender) != "" || besides(f, v.on) != "" {
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

// phrase puts one figure into a sentence: "3.4x faster than per-vessel at p50 (3.1 to 3.7)"; the comparative stands
// only with the first of several.
func phrase(a Assessment, first bool, than string) string {
	at := a.Figure.At()
	heats := ""
	if a.HeatShots > 0 {
		heats = fmt.Sprintf("heats of %s shots", units.Count(a.HeatShots))
	}
	if a.Word != Better && a.Word != Worse {
		if at == "" {
			at = " in " + a.Figure.Label()
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
		how = " " + a.Figure.Comparative(a.Word == Better) + than
	}
	if a.AgainstNone {
		how = a.Figure.Comparative(a.Word == Better) + than
		return how + at + " (" + a.against() + heats + ")"
	}
	return a.Factor() + how + at + " (" + a.Interval() + heats + ")"
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

// allOpen says once what would else be said of each of several contenders: that nothing is settled.
func allOpen(r *result.Result, v *Verdict) string {
	const several = 3
	if len(v.Faces) < several || len(r.States()) > 1 || r.Plan.Pace.Climb != nil {
		return ""
	}
	var at []string
	for i := range v.Faces {
		f := &v.Faces[i]
		said := f.spoken(v.on)
		if len(said) == 0 || math.IsNaN(said[0].Low) || failuresDiffer(r, v.Baseline, f.Contender) != "" ||
			besides(f, v.on) != "" {
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
			said := f.of(state).spoken(v.on)
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

// climbSentence says what each side holds, then by how much they differ.
func climbSentence(f *field, face *Face, a Assessment) string {
	c := f.r.Plan.Pace.Climb
	state := a.State
	hold := func(name string) string {
		_, first, last, n, _ := f.climbed(cell.Of(name, state))
		held := f.typical(a.Figure, cell.Of(name, state))
		switch {
		case 2*first > n:
			return fmt.Sprintf("%s does not even hold %s", name, load(c, c.Levels[0]))
		case 2*last > n:
			return fmt.Sprintf("%s holds %s (the highest that was tried)", name, load(c, held.V))
		}
		return fmt.Sprintf("%s holds %s", name, load(c, held.V))
	}
	limit := fmt.Sprintf("under %s at %s", units.Duration(c.Under), c.At)
	text := fmt.Sprintf("%s %s; %s", hold(face.Contender), limit, hold(f.r.Plan.Baseline))
	switch {
	case a.Word == TooFew:
		return fmt.Sprintf(
			"Too few shots at a level to say what %s holds: %s needs %s.", face.Contender, c.At, units.Count(a.NeedShots),
		)
	case a.Word == NoWord:
		return fmt.Sprintf("There is not enough yet to compare %s with %s.", face.Contender, f.r.Plan.Baseline)
	case math.IsNaN(a.Low):
		return text + fmt.Sprintf(". Nothing is settled: an interval needs %d rounds.", stats.MinRounds)
	case a.Word == Better || a.Word == Worse:
		return fmt.Sprintf("%s: %s %s (%s).", text, a.Factor(), a.Figure.Comparative(a.Word == Better), a.Interval())
	}
	return fmt.Sprintf("%s; as loads they are %s (%s).", text, a.Word, a.around())
}

// isOfThings reports whether a comparative counts: more throughput is had, faster is been.
func isOfThings(comparative string) bool {
	first, _, of := strings.Cut(comparative, " ")
	return of && (first == "more" || first == "less" || first == "fewer")
}

// placeSentence says how much of what a contender takes from afar is the way: what it does not take from the first
// place.
func placeSentence(g *Gain, a *Assessment) string {
	at := a.Figure.At()
	switch a.Word {
	case Better:
		way := units.Share(1 - 1/a.Ratio)
		return fmt.Sprintf("From %s, %s is answered %s later than from %s%s (%s): the way is %s of it.", g.Cold,
			g.Contender,
			a.Factor(), g.Warm, at, a.Interval(), way)
	case Worse:
		return fmt.Sprintf("From %s, %s is answered %s sooner than from %s%s (%s).", g.Cold, g.Contender, a.Factor(),
			g.Warm,
			at, a.Interval())
	case Alike:
		return fmt.Sprintf("From %s, %s is answered as soon as from %s%s (%s).", g.Cold, g.Contender, g.Warm, at,
			a.around())
	}
	if math.IsNaN(a.Low) {
		return ""
	}
	return fmt.Sprintf("Whether %s is answered later from %s than from %s is still open%s (%s).", g.Contender, g.Cold,
		g.Warm, at, a.around())
}

// inState begins a sentence about a state: "Cold, ", "From near, ".
func inState(r *result.Result, state string) string {
	if r.IsPlace(state) {
		return "From " + state + ", "
	}
	return strings.ToUpper(state[:1]) + state[1:] + ", "
}

// gainSentence says what caching brings a contender.
func gainSentence(g *Gain, decides figure.Name) string {
	a, ok := g.spokenGain(decides)
	if !ok {
		return ""
	}
	if g.Places {
		return placeSentence(g, &a)
	}
	at := a.Figure.At()
	warm, cold, gains, helps := "Warm", "cold", "gains nothing from its caches", "caching helps"
	switch g.Warm {
	case plan.Awake:
		warm, cold, gains, helps = "Awake", "asleep", "is as fast asleep as awake", "being awake helps"
	case plan.Returning:
		warm, cold = "On a returning visit", "on a first one"
	}
	switch a.Word {
	case Better:
		return fmt.Sprintf("%s, %s is %s faster than %s%s (%s).", warm, g.Contender, a.Factor(), cold, at, a.Interval())
	case Worse:
		return fmt.Sprintf("%s, %s is %s slower than %s%s (%s).", warm, g.Contender, a.Factor(), cold, at, a.Interval())
	case Alike:
		return fmt.Sprintf("%s %s%s (%s).", g.Contender, gains, at, a.around())
	}
	if math.IsNaN(a.Low) {
		return ""
	}
	return fmt.Sprintf("Whether %s %s is still open%s (%s).", helps, g.Contender, at, a.around())
}
