package judge

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"paceduel/core/cell"
	"paceduel/core/result"
	"paceduel/core/spans"
	"paceduel/core/units"
)

// several reports whether a shot is more than a single span.
func (in *Inside) several() bool {
	const once = 1.05 // on average
	return len(in.Steps) > 1 || len(in.Steps) == 1 && in.Steps[0].Count > once
}

// insides enters what happens in the contenders' shots, and what moved between them.
func (f *field) insides(v *Verdict) {
	v.Insides, v.Told = map[cell.Cell]*Inside{}, map[cell.Cell][]ToldTime{}
	var all []*Inside
	for _, s := range f.sides() {
		if in := f.inside(s); in != nil {
			v.Insides[s] = in
			all = append(all, in)
		}
		if f.r.Ending != result.Running { // while it runs, what they tell is not decoded
			if told := f.toldTimes(s, v.Insides[s]); len(told) > 0 {
				v.Told[s] = told
			}
		}
	}
	if !slices.ContainsFunc(all, (*Inside).several) {
		v.Insides = nil // a single span each says nothing new
		return
	}
	for _, in := range all {
		in.hold(all)
	}
	for i := range v.Faces {
		for _, state := range f.r.States() {
			if m := f.moved(v, v.Faces[i].Contender, state); m != nil {
				m.Sentence = m.say(v.Baseline)
				v.Moved = append(v.Moved, m)
			}
		}
	}
}

// Name is how the contender is called, with its state where there are several.
func (in *Inside) Name() string { return strings.TrimSpace(in.Cell.Contender + " " + in.Cell.State) }

// Say says what the shot waits for, and what less waiting would bring.
func (in *Inside) Say() string {
	text := fmt.Sprintf("%s takes %s", in.Name(), units.Seconds(in.Length.V))
	top := in.foremost()
	if len(top) == 0 {
		return text + "."
	}
	gain := in.gain()
	inTurn := in.inTurn()
	waiting := in.needlessly(inTurn)
	switch {
	case gain >= leastGain && in.Known && len(waiting) > 1:
		text += fmt.Sprintf(": %s wait for each other, %s, and need not.", units.List(names(waiting)), addends(waiting))
	case top[0].Count > 1.5 && top[0].AtOnce > 1:
		text += fmt.Sprintf(", of which %s %s, %d at once, are %s.", Often(top[0].Count), top[0].Name, top[0].AtOnce,
			units.Seconds(in.alone(top[0])))
	case top[0].Count > 1.5:
		text += fmt.Sprintf(", of which %s %s, one after another, are %s.", Often(top[0].Count), top[0].Name,
			units.Seconds(in.alone(top[0])))
	case len(inTurn) > 1 && onPathOf(inTurn) > in.Length.V/2:
		text += fmt.Sprintf(", of which %s, one after another, are %s.", units.List(names(inTurn)), addends(inTurn))
	default:
		text += fmt.Sprintf(", of which %s is %s.", top[0].Name, units.Seconds(in.alone(top[0])))
	}
	switch {
	case gain >= leastGain && in.Known:
		how := "Together they"
		if len(waiting) < 2 { // it is between the spans of a step that there is needless waiting
			how = "With all at once that need nothing of each other it"
		}
		text += fmt.Sprintf(" %s could take %s%s%s.", how, units.Seconds(in.Together.V), between(in.Together), in.held())
	case gain >= leastGain:
		text += fmt.Sprintf(" If none of its steps needed what stands beside it, it could take %s%s.",
			units.Seconds(in.Together.V), between(in.Together))
	case in.Known && len(in.Steps) > 1:
		text += " Nothing of it waits for what it does not need."
	}
	if h := top[0].Halved; h.V > 0 && !(gain >= leastGain && in.Known) {
		text += fmt.Sprintf(" If %s took half, it would take %s.", top[0].Name, units.Seconds(h.V))
	}
	if share := in.Idle.V / in.Length.V; share >= leastGain {
		text += fmt.Sprintf(" For %s nothing is under way.", units.Seconds(in.Idle.V))
	}
	return text
}

func (in *Inside) held() string {
	h := in.Held
	if h == nil {
		return ""
	}
	off := "as estimated"
	if math.Abs(h.Off) >= 0.005 {
		off = fmt.Sprintf("so that the estimate is %s off", units.Share(math.Abs(h.Off)))
	}
	return fmt.Sprintf("; %s does that and takes %s, %s", h.Contender, units.Seconds(h.Length), off)
}

func between(v Value) string {
	low, high := units.Seconds(v.Low), units.Seconds(v.High)
	if math.IsNaN(v.Low) || low == high {
		return ""
	}
	return fmt.Sprintf(" (%s to %s)", low, high)
}

// Often is how often a shot does something.
func Often(count float64) string {
	if math.Abs(count-math.Round(count)) < 0.05 {
		return fmt.Sprintf("%.0f x", count)
	}
	return fmt.Sprintf("%.1f x", count)
}

// alone is how much of the critical path a step is without its parts.
func (in *Inside) alone(s *InsideStep) float64 {
	own := s.OnPath.V
	for i := range in.Steps {
		if p := in.Steps[i].Parent; p >= 0 && &in.Steps[p] == s {
			own -= in.Steps[i].OnPath.V
		}
	}
	return max(own, 0)
}

// foremost are the steps that the critical path owes most to, without their parts; the first first.
func (in *Inside) foremost() (out []*InsideStep) {
	for i := range in.Steps {
		if s := &in.Steps[i]; in.alone(s) > 0 {
			out = append(out, s)
		}
	}
	slices.SortStableFunc(out, func(a, b *InsideStep) int { return compare(in.alone(b), in.alone(a)) })
	return out
}

// inTurn are the steps that lie on the critical path one after another within the same step: there where they are most
// of it, and on top where it is known which need which.
func (in *Inside) inTurn() (most []*InsideStep) {
	for parent := spans.None; parent < len(in.Steps); parent++ {
		var own []*InsideStep
		for i := range in.Steps {
			if s := &in.Steps[i]; s.Parent == parent && s.OnPath.V > 0.01*in.Length.V {
				own = in.follow(own, s)
			}
		}
		if in.Known && parent == spans.None {
			return own
		}
		if len(own) > 1 && onPathOf(own) > onPathOf(most) {
			most = own
		}
	}
	return most
}

// follow adds a step to those that follow one another, which come in the order in which they begin. Of steps at once
// the one stays that is more of the path.
func (in *Inside) follow(steps []*InsideStep, s *InsideStep) []*InsideStep {
	const overlap = 0.02 // of the shot: heats differ by that
	n := len(steps)
	switch {
	case n == 0 || s.Begin[1] >= steps[n-1].End[1]-overlap*in.Length.V:
		return append(steps, s)
	case s.OnPath.V > steps[n-1].OnPath.V:
		steps[n-1] = s
	}
	return steps
}

// needlessly are those of steps that follow one another of which one does not need the one before it, and that one.
func (in *Inside) needlessly(steps []*InsideStep) (out []*InsideStep) {
	for i := 1; i < len(steps); i++ {
		if in.needs(steps[i], steps[i-1].Path, map[string]bool{}) {
			continue
		}
		if len(out) == 0 || out[len(out)-1] != steps[i-1] {
			out = append(out, steps[i-1])
		}
		out = append(out, steps[i])
	}
	return out
}

// needs reports whether a step needs another one, by itself or by what it needs.
func (in *Inside) needs(s *InsideStep, path string, seen map[string]bool) bool {
	if slices.Contains(s.Needs, path) {
		return true
	}
	seen[s.Path] = true
	for i := range in.Steps {
		if other := &in.Steps[i]; slices.Contains(s.Needs, other.Path) && !seen[other.Path] && in.needs(other, path, seen) {
			return true
		}
	}
	return false
}

func onPathOf(steps []*InsideStep) (sum float64) {
	for _, s := range steps {
		sum += s.OnPath.V
	}
	return sum
}

// mostNamed is how many steps a sentence names.
const mostNamed = 4

func names(steps []*InsideStep) (out []string) {
	for i, s := range steps {
		if i == mostNamed && len(steps) > mostNamed+1 {
			return append(out, fmt.Sprintf("%d more", len(steps)-mostNamed))
		}
		out = append(out, s.Name)
	}
	return out
}

// addends are what steps take, added up in words.
func addends(steps []*InsideStep) string {
	var out []string
	for i, s := range steps {
		if i == mostNamed && len(steps) > mostNamed+1 {
			out = append(out, "…")
			break
		}
		out = append(out, units.Seconds(s.OnPath.V))
	}
	return strings.Join(out, " + ")
}

// say says what became of the baseline's steps.
func (m *Moved) say(baseline string) string {
	name := strings.TrimSpace(m.Contender + " " + m.State)
	groups := []struct {
		how  MoveKind
		verb string
	}{
		{Went, "does without %s"}, {Left, "waits no more for %s"}, {Shrank, "takes less for %s"}, {Came, "has %s on top"},
		{Joined, "waits for %s now"}, {Grew, "takes more for %s"},
	}
	var said []string
	for _, g := range groups {
		var of []string
		for i := range m.Moves {
			move := &m.Moves[i]
			if move.How != g.how || m.within(i) || m.byParts(i) {
				continue
			}
			by := Signed(move.By.V)
			if move.By.V == 0 {
				by = "nobody waits for it"
			}
			of = append(of, fmt.Sprintf("%s (%s)", move.Name, by))
		}
		if len(of) > mostNamed {
			of = append(of[:mostNamed-1], fmt.Sprintf("%d more", len(of)-mostNamed+1))
		}
		if len(of) > 0 {
			said = append(said, fmt.Sprintf(g.verb, units.List(of)))
		}
	}
	whole := fmt.Sprintf("in all %s", Signed(m.Whole.V))
	switch {
	case len(said) == 0:
		return fmt.Sprintf("No step of %s surely moved, compared with %s: %s.", name, baseline, whole)
	case m.Kept:
		return fmt.Sprintf("%s %s, compared with %s. What it saves comes back elsewhere: %s.", name, units.List(said),
			baseline, whole)
	}
	return fmt.Sprintf("%s %s, compared with %s: %s.", name, units.List(said), baseline, whole)
}

// within reports whether a step lies within one that came, went, left the path or joined it whole, which says it
// already.
func (m *Moved) within(i int) bool {
	how := m.Moves[i].How
	if how == Grew || how == Shrank {
		return false
	}
	for j := i - 1; j >= 0; j-- {
		if m.Moves[j].Depth < m.Moves[i].Depth && strings.HasPrefix(m.Moves[i].Path, m.Moves[j].Path+PathSeparator) {
			return m.Moves[j].How == how
		}
	}
	return false
}

// byParts reports whether most of what became of a step is what became of its parts, which say it themselves.
func (m *Moved) byParts(i int) bool {
	move := &m.Moves[i]
	if move.How != Grew && move.How != Shrank {
		return false
	}
	parts := 0.0
	for j := range m.Moves {
		if m.Moves[j].Depth == move.Depth+1 && strings.HasPrefix(m.Moves[j].Path, move.Path+PathSeparator) {
			parts += m.Moves[j].By.V
		}
	}
	return math.Abs(move.By.V-parts) < math.Abs(move.By.V)/2
}

// Signed is a difference in seconds, with its sign.
func Signed(v float64) string {
	if v >= 0 {
		if v == 0 {
			return units.Seconds(0)
		}
		return "+" + units.Seconds(v)
	}
	return "-" + units.Seconds(math.Abs(v))
}
