package judge

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/judge/stats"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Meanwhile is who waited while a contender worked, as its bystander saw it. Times are in seconds.
type Meanwhile struct {
	cell.Cell
	Does          string // what the bystander asks
	Ticks         bool
	Every, Within float64
	Work          Value // what the contender's shots take
	Figure        figure.Name
	P50, P99      Value // of the waits; NaN where there are too few
	Quiet         Value // half of the waits before the contender worked
	QuietP99      Value
	Longest       Value // of the typical heat
	Highest       float64
	HeldUp        float64 // share of the time, over all heats
	Missed        float64 // share of what was due
	Sentence      string
}

// meanwhile enters who waited meanwhile.
func (f *field) meanwhile(v *Verdict) {
	work := f.ofWork()
	for _, s := range f.sides() {
		var of *result.Bystander
		highest := 0.0
		for _, h := range f.inOrder[s] {
			if h.Bystander != nil {
				of = h.Bystander
				highest = max(highest, of.Meanwhile.Longest.Seconds())
			}
		}
		if of == nil {
			continue
		}
		stream := func(q figure.Name, name string) Value { return f.typical(figure.Of(q, name), s) }
		m := &Meanwhile{
			Cell: s, Does: of.Does, Ticks: of.Ticks, Every: of.Every.Seconds(), Within: of.Within.Seconds(),
			Work: f.typical(work, s), Figure: work, Longest: f.typical(figure.Silence, s), Highest: highest,
			P50: stream(figure.P50, result.BystanderStream), P99: stream(figure.P99, result.BystanderStream),
			Quiet: stream(figure.P50, result.QuietStream), QuietP99: stream(figure.P99, result.QuietStream),
			HeldUp: f.value(figure.HeldUp, s).V, Missed: f.value(figure.Missed, s).V,
		}
		m.Sentence = m.say()
		v.Meanwhile = append(v.Meanwhile, m)
	}
	v.MeanwhileSentence = f.tradeOff(v, work)
}

// ofWork is the figure by which the contenders' own work stands beside what others wait: a latency.
func (f *field) ofWork() figure.Name {
	lead := f.leading()
	if _, _, ofStream := lead.OfStream(); ofStream || lead.Unit() != units.Second || lead == figure.Silence {
		lead = figure.Mean
	}
	return lead
}

// say says who waits while the contender works.
func (m *Meanwhile) say() string {
	who := strings.TrimSpace(m.Contender + " " + m.State)
	if m.Ticks {
		text := fmt.Sprintf("While %s works, a line that is due every %s is up to %s late", who, units.Seconds(m.Every),
			units.Seconds(m.Longest.V))
		if m.Missed > 0 {
			text += fmt.Sprintf(", and %s of them do not come", units.Share(m.Missed))
		}
		return text + "."
	}
	text := fmt.Sprintf("While %s works, a bystander waits %s in the middle", who, units.Seconds(m.P50.V))
	if math.IsNaN(m.P50.V) {
		text = fmt.Sprintf("While %s works, a bystander waits", who)
	}
	if !math.IsNaN(m.Quiet.V) && !math.IsNaN(m.P50.V) {
		text += fmt.Sprintf(" (%s when it is quiet)", units.Seconds(m.Quiet.V))
	}
	text += fmt.Sprintf(" and %s at the longest", units.Seconds(m.Longest.V))
	switch {
	case m.HeldUp > 0:
		text += fmt.Sprintf("; for %s of the time somebody waits longer than %s", units.Share(m.HeldUp),
			units.Seconds(m.Within))
	default:
		text += fmt.Sprintf("; nobody waits longer than %s", units.Seconds(m.Within))
	}
	if m.Missed > 0.0005 {
		text += fmt.Sprintf(", and %s never have an answer", units.Share(m.Missed))
	}
	return text + "."
}

// tradeOff says who lets others in soonest, and at what cost.
func (f *field) tradeOff(v *Verdict, work figure.Name) string {
	if len(v.Meanwhile) == 0 {
		return ""
	}
	known := slices.DeleteFunc(slices.Clone(v.Meanwhile), func(m *Meanwhile) bool {
		return math.IsNaN(m.Longest.V) || math.IsNaN(m.Work.V)
	})
	if len(known) < 2 {
		return v.Meanwhile[0].Sentence
	}
	by := func(of func(*Meanwhile) float64) *Meanwhile {
		return slices.MinFunc(known, func(a, b *Meanwhile) int { return compare(of(a), of(b)) })
	}
	kindest := by(func(m *Meanwhile) float64 { return m.Longest.V })
	quickest := by(func(m *Meanwhile) float64 { return m.Work.V })
	worst := slices.MaxFunc(known, func(a, b *Meanwhile) int { return compare(a.Longest.V, b.Longest.V) })
	surely, _, _ := f.surely(figure.Silence, worst.Cell, kindest.Cell)
	if !surely {
		return fmt.Sprintf("Nobody surely lets others in sooner: the longest waits are %s with %s and %s with %s.",
			units.Seconds(kindest.Longest.V), kindest.name(), units.Seconds(worst.Longest.V), worst.name())
	}
	cost := fmt.Sprintf("%s works as fast as any", kindest.name())
	if slower, low, high := f.surely(work, kindest.Cell, quickest.Cell); slower && kindest != quickest {
		factor := kindest.Work.V / quickest.Work.V
		cost = fmt.Sprintf("%s takes %s as long as %s (%s to %s)", kindest.name(), units.Times(factor), quickest.name(),
			units.Times(low), strings.TrimSuffix(units.Times(high), "x"))
	}
	how := "%s, and in the typical heat nobody waits longer than %s; %s lets nobody in for %s."
	if kindest.Ticks {
		how = "%s, and in the typical heat no line is later than %s; %s is silent for %s."
	}
	return fmt.Sprintf(how, cost, units.Seconds(kindest.Longest.V), worst.name(), units.Seconds(worst.Longest.V))
}

func (m *Meanwhile) name() string { return strings.TrimSpace(m.Contender + " " + m.State) }

// surely reports whether a figure of one cell is more than that of another by the interval of the rounds' ratios, and
// that interval.
func (f *field) surely(fig figure.Name, more, less cell.Cell) (yes bool, low, high float64) {
	if more == less {
		return false, 0, 0
	}
	d, _ := f.differences(fig, more, less)
	low, high, ok := stats.NewSample(d).Interval(f.alpha)
	return ok && low > 0, math.Exp(low), math.Exp(high)
}
