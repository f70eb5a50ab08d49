package judge

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"paceduel/core/figure"
	"paceduel/core/judge/stats"
	"paceduel/core/result"
	"paceduel/core/units"
)

// The bottom line has so much room, on a screen of 142 columns.
const (
	bottomWidth = 138
	bottomLines = 2
)

// overall is the bottom line: what each contender comes to in all that the verdict rests on, in as many words as there
// is room for. Who is which, rung by rung, is told by the standing.
func overall(f *field, v *Verdict) string {
	r := f.r
	if v.Rounds == 0 {
		if r.Ending == result.Failed {
			return "Nothing was measured: " + r.Reason + "."
		}
		return "No round was finished, so nothing can be compared."
	}
	var text string
	for _, say := range []func() string{
		func() string { return inFull(r, v) },
		func() string { return byLead(r, v, true) + brought(v) },
		func() string { return byLead(r, v, true) },
		func() string { return byLead(r, v, false) },
		func() string { return byCount(r, v) },
	} {
		if text = say(); fits(text) {
			break
		}
	}
	if own, least := v.unsettleable(); least > 0 && r.Ending != result.Running {
		longer := text + fmt.Sprintf(
			" %s cannot settle %s together; %d can.", units.Plural(v.Rounds, "round"), units.Plural(own, "figure"), least,
		)
		if fits(longer) {
			text = longer
		}
	}
	return text
}

// fits reports whether a text is short enough for a bottom line, broken at spaces.
func fits(text string) bool {
	lines, used := 1, 0
	for _, word := range strings.Fields(text) {
		n := len([]rune(word))
		switch {
		case used == 0:
			used = n
		case used+1+n > bottomWidth:
			lines, used = lines+1, n
		default:
			used += 1 + n
		}
	}
	return lines <= bottomLines
}

// inFull says of every contender what its own sentence says, the best one first.
func inFull(r *result.Result, v *Verdict) string {
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
	return strings.Join(text, " ") + brought(v)
}

// brief is how a contender stands in a state, as far as a few words say it.
type brief struct {
	name   string
	lead   Assessment
	others []Assessment // that do not have the lead's word
}

// briefs are all contenders in a state, the best first.
func briefs(r *result.Result, v *Verdict, state string) (out []brief) {
	for i := range v.Faces {
		own := &v.Faces[i]
		if len(r.States()) > 1 {
			own = own.of(state)
		}
		said := own.spoken(v.on)
		b := brief{name: own.Contender, lead: leading(said)}
		for _, a := range said {
			if a.Figure != b.lead.Figure && (a.Word != b.lead.Word ||
				a.Figure.Comparative(true) != b.lead.Figure.Comparative(true)) {
				b.others = append(b.others, a)
			}
		}
		out = append(out, b)
	}
	slices.SortStableFunc(out, func(a, b brief) int { return cmp.Compare(b.rank(), a.rank()) })
	return out
}

// leading is the figure by which a contender is told in a few words: the first in which it differs, of those of time
// before others, or else the first of all.
func leading(said []Assessment) Assessment {
	for _, ofTime := range []bool{true, false} {
		for _, a := range said {
			if (a.Word == Better || a.Word == Worse) && (!ofTime || a.Figure.Unit() == units.Second) {
				return a
			}
		}
	}
	if len(said) > 0 {
		return said[0]
	}
	return Assessment{Word: NoWord}
}

// rank orders contenders: by their ratio where they are settled, those that are not between.
func (b brief) rank() float64 {
	switch b.lead.Word {
	case Better, Worse:
		if b.lead.AgainstNone {
			return map[Word]float64{Better: math.Inf(1), Worse: 0}[b.lead.Word]
		}
		return b.lead.Ratio
	case Alike:
		return 1
	}
	return 1 - 1e-9
}

// failing says who fails more or less than the baseline does; empty where nobody.
func failing(r *result.Result, v *Verdict) string {
	var list []string
	for i := range v.Faces {
		name := v.Faces[i].Contender
		if failuresDiffer(r, v.Baseline, name) == "" {
			continue
		}
		share := units.Share(failureShare(r, name))
		if len(list) == 0 {
			list = append(list, name+" fails "+share+" of its shots")
		} else {
			list = append(list, name+" "+share)
		}
	}
	if len(list) == 0 {
		return ""
	}
	return strings.Join(append(list, v.Baseline+" "+units.Share(failureShare(r, v.Baseline))), ", ") + ". "
}

// brought says what warm caches bring.
func brought(v *Verdict) (text string) {
	if len(v.Gains) > 0 && v.Gains[0].Places {
		return ways(v)
	}
	for _, g := range v.Gains {
		if g.Sentence != "" {
			text += " " + g.Sentence
		}
	}
	return text
}

// byLead says of every contender how it stands in the figure that leads, with its interval or without, and where it
// stands otherwise.
func byLead(r *result.Result, v *Verdict, interval bool) string {
	text := failing(r, v)
	for i, state := range r.States() {
		if i > 0 {
			text += " "
		}
		if len(r.States()) > 1 {
			text += inState(r, state)
		}
		of := against(briefs(r, v, state), v.Baseline, interval)
		if len(r.States()) == 1 {
			of = capital(of)
		}
		text += of
	}
	return text
}

// against sets contenders against the baseline in one state. The figure is named once where it is the same for all.
func against(all []brief, base string, interval bool) string {
	common := true
	for _, b := range all {
		common = common && b.lead.Figure == all[0].lead.Figure
	}
	var clauses []string
	rest := map[Word][]string{}
	for _, b := range all {
		a := b.lead
		at, aside := "", b.but()
		if !common {
			at = a.Figure.At()
		}
		if a.Word != Better && a.Word != Worse {
			name := b.name + at
			if aside != "" {
				name += " (" + aside + ")"
			}
			rest[a.Word] = append(rest[a.Word], name)
			continue
		}
		if interval && !a.Counted {
			aside = strings.TrimSuffix(a.Interval()+"; "+aside, "; ")
		}
		clause := b.name + " " + a.Factor() + " " + a.Figure.Comparative(a.Word == Better) + at
		if aside != "" {
			clause += " (" + aside + ")"
		}
		clauses = append(clauses, clause)
	}
	for _, of := range []struct {
		word Word
		says string
	}{
		{Alike, "too close to call"}, {Open, "still open"}, {TooFew, "without enough shots"},
		{NoWord, "without anything to compare"},
	} {
		if names := rest[of.word]; len(names) > 0 {
			clauses = append(clauses, units.List(names)+" "+of.says)
		}
	}
	at := ""
	if common {
		at = all[0].lead.Figure.At()
	}
	return fmt.Sprintf("against %s%s: %s.", base, at, strings.Join(clauses, ", "))
}

// but says where a contender stands otherwise than in the figure that leads: "slower at p99, open in memory".
func (b brief) but() string {
	says := func(a Assessment) string {
		switch a.Word {
		case Better, Worse:
			return a.Figure.Comparative(a.Word == Better)
		case Alike:
			return "alike"
		}
		return "open"
	}
	var order []string
	where := map[string][]string{}
	for _, a := range b.others {
		how, at := says(a), strings.TrimSpace(a.Figure.At())
		if at == "" && a.Word != Better && a.Word != Worse {
			at = "in " + a.Figure.Label()
		}
		if where[how] == nil {
			order = append(order, how)
		}
		where[how] = append(where[how], at)
	}
	var words []string
	for _, how := range order {
		words = append(words, strings.TrimSpace(how+" "+units.List(where[how])))
	}
	return strings.Join(words, ", ")
}

// byCount says how many stand how, and who leads; whatever the number of contenders, it is short.
func byCount(r *result.Result, v *Verdict) string {
	if v.Rounds < stats.MinRounds {
		return fmt.Sprintf(
			"Nothing is settled after %s: an interval needs %d.", units.Plural(v.Rounds, "round"), stats.MinRounds,
		)
	}
	var text []string
	if n := len(v.Faces); failing(r, v) != "" {
		text = append(text, fmt.Sprintf("Not all %d fail as %s does.", n, v.Baseline))
	}
	for _, state := range r.States() {
		all := briefs(r, v, state)
		counts := map[Word]int{}
		mixed := 0
		for _, b := range all {
			counts[b.lead.Word]++
			if slices.ContainsFunc(b.others, func(a Assessment) bool { return a.Word != b.lead.Word }) {
				mixed++
			}
		}
		first := all[0].lead
		better, worse := first.Figure.Comparative(true), first.Figure.Comparative(false)
		var parts []string
		for _, of := range []struct {
			word Word
			says string
		}{
			{Better, better}, {Worse, worse}, {Alike, "too close to call"}, {Open, "still open"},
			{TooFew, "without enough shots"}, {NoWord, "without anything to compare"},
		} {
			if n := counts[of.word]; n > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", n, of.says))
			}
		}
		one := fmt.Sprintf("Of %d contenders, against %s%s: %s", len(all), v.Baseline, first.Figure.At(),
			strings.Join(parts, ", "))
		if first.Word == Better {
			one += fmt.Sprintf("; most of all %s, %s (%s)", all[0].name, first.Factor(), first.Interval())
		}
		if mixed > 0 {
			one += fmt.Sprintf("; %d stand otherwise at other rungs", mixed)
		}
		if len(r.States()) > 1 {
			one = inState(r, state) + "o" + one[1:]
		}
		text = append(text, one+".")
	}
	return strings.Join(text, " ")
}

func capital(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

// Standing is how all contenders stand at all rungs, in words.
type Standing struct {
	Rungs []string
	Lines []StandingLine // of each contender, state by state
}

// StandingLine is one contender in one state.
type StandingLine struct {
	Contender, State string
	Cells            []StandingCell // of each rung
}

// StandingCell is one rung of one contender: "3.4x faster", "still open, leans slower".
type StandingCell struct {
	Text string
	Word Word
}

// Standing sets out what the bottom line sums up: every figure that the verdict rests on, of every contender.
func (v *Verdict) Standing(r *result.Result) (out Standing) {
	for _, state := range r.States() {
		for i := range v.Faces {
			own := &v.Faces[i]
			if len(r.States()) > 1 {
				own = own.of(state)
			}
			line := StandingLine{Contender: own.Contender, State: state}
			names := out.Rungs == nil
			for _, a := range own.Figures {
				if !a.Main {
					continue
				}
				if names {
					out.Rungs = append(out.Rungs, a.Figure.Label())
				}
				line.Cells = append(line.Cells, StandingCell{a.brief(), a.Word})
			}
			out.Lines = append(out.Lines, line)
		}
	}
	return out.withoutEmpty()
}

// withoutEmpty leaves out rungs that nobody has shots for.
func (s Standing) withoutEmpty() (out Standing) {
	keep := func(i int) bool {
		return slices.ContainsFunc(s.Lines, func(l StandingLine) bool {
			return l.Cells[i].Word != TooFew && l.Cells[i].Word != NoWord
		})
	}
	for _, line := range s.Lines {
		next := line
		next.Cells = nil
		for i, c := range line.Cells {
			if keep(i) {
				next.Cells = append(next.Cells, c)
			}
		}
		out.Lines = append(out.Lines, next)
	}
	for i, name := range s.Rungs {
		if keep(i) {
			out.Rungs = append(out.Rungs, name)
		}
	}
	return out
}

// brief is an assessment in two or three words.
func (a Assessment) brief() string {
	switch a.Word {
	case Better, Worse:
		return a.Compared()
	case Alike:
		if a.isTheSame() {
			return theSame
		}
		return "alike"
	case Open:
		if way := a.leans(); way != "" {
			return "open, leans " + way
		}
		return "open"
	case TooFew:
		return "too few shots"
	}
	return units.None
}

// ways says of each place but the first how much of what contenders take from there is the way, from the least to the
// most of them: "From far, the way is 97.1 to 98.7 % of p50."
func ways(v *Verdict) (text string) {
	for i := 0; i < len(v.Gains); {
		place := v.Gains[i].Cold
		var shares []float64
		var fig figure.Name
		for ; i < len(v.Gains) && v.Gains[i].Cold == place; i++ {
			if a, ok := v.Gains[i].spokenGain(v.Decides); ok && a.Word == Better {
				shares, fig = append(shares, 1-1/a.Ratio), a.Figure
			}
		}
		if len(shares) == 0 {
			continue
		}
		share := units.Share(slices.Max(shares))
		if least := units.Share(slices.Min(shares)); least != share {
			share = strings.TrimSuffix(least, " %") + " to " + share
		}
		text += fmt.Sprintf(" From %s, the way is %s of %s.", place, share, fig.Spoken())
	}
	return text
}
