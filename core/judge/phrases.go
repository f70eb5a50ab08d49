package judge

import (
	"fmt"
	"math"
	"strings"

	"paceduel/core/judge/stats"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Title is the figure's name with its state, where there are two: "p50 cold".
func (a Assessment) Title() string {
	if a.State == "" {
		return a.Figure.Label()
	}
	return a.Figure.Label() + " " + a.State
}

// Factor is the ratio as it is spoken, never below 1: which way it goes is said by a word beside it.
func (a Assessment) Factor() string {
	if a.Ratio < 1 {
		return units.Times(1 / a.Ratio)
	}
	return units.Times(a.Ratio)
}

// Compared says by how much and which way: "3.1x faster", or where there is no ratio "fewer findings, 0 against 1 280".
func (a Assessment) Compared() string {
	how := a.Figure.Comparative(a.Word == Better)
	if a.AgainstNone {
		return how + ", " + a.against()
	}
	return a.Factor() + " " + how
}

// against are the two values where one is none.
func (a Assessment) against() string {
	own, base := a.Figure.Show(a.Contender.V), a.Figure.Show(a.Baseline.V)
	if at := strings.LastIndex(base, " "); at > 0 {
		own = strings.TrimSuffix(own, base[at:]) // the unit once
	}
	return own + " against " + base
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

// Apart is the difference in the figure's unit with its interval: "-8.71 ms (-9.12 to -8.20)"; empty when there is
// none.
func (a Assessment) Apart() string {
	if math.IsNaN(a.Difference) {
		return ""
	}
	signed := func(x float64) string {
		if math.Abs(x) < 1e-9*max(math.Abs(a.Baseline.V), math.Abs(a.Contender.V)) {
			x = 0 // what is left of adding up
		}
		text := a.Figure.Show(x)
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

// Say puts an assessment in a few words, for beside the ladder.
func (a Assessment) Say() string {
	switch a.Word {
	case Better, Worse:
		if a.AgainstNone {
			return a.Compared()
		}
		if a.Counted {
			return a.Figure.Comparative(a.Word == Better) + ", counted"
		}
		return a.Figure.Comparative(a.Word == Better)
	case Alike:
		if a.isTheSame() {
			return theSame
		}
		return string(Alike)
	case TooFew:
		if a.Figure.IsLoad() {
			return fmt.Sprintf("too few: needs %s shots a level", units.Count(a.NeedShots))
		}
		return "too few: needs " + shotsNeeded(a.Figure, a.NeedShots)
	case Open:
		if a.AgainstNone && a.Rounds >= stats.MinRounds {
			return "still open, " + a.against()
		}
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
		text := "still open"
		switch {
		case a.disagrees():
			text += ", typical heats lean the other way"
		case a.leans() != "":
			text += ", leans " + a.leans()
		}
		text += ", ±" + units.Share(a.Width())
		if a.NeedRounds > 0 {
			text += fmt.Sprintf("; ±%s at about %d rounds", units.Share(WantedFrac), a.NeedRounds)
		}
		return text
	}
	return "no shots to compare"
}

// theSame is said of what is alike in every heat.
const theSame = "the same"

func (a Assessment) isTheSame() bool { return a.Counted && (a.Ratio == 1 || a.Difference == 0) }

// leans says which way a figure that is still open leans; empty where it does not. It is tilted then, and ratio,
// difference and the typical heats as they are shown say the same.
func (a Assessment) leans() string {
	apart := a.Difference
	if a.Figure.MoreIsBetter() {
		apart = -apart
	}
	better := a.Ratio > 1
	if !a.tilted || a.AgainstNone || a.Factor() == "1x" || a.disagrees() || better && apart > 0 || !better && apart < 0 {
		return ""
	}
	return a.Figure.Comparative(better)
}

// disagrees reports whether the typical heats, as they are shown, differ the other way than the typical round does: one
// that can be settled never does, but for chance.
func (a Assessment) disagrees() bool {
	if a.Figure.Show(a.Baseline.V) == a.Figure.Show(a.Contender.V) || a.Factor() == "1x" {
		return false
	}
	isBetter := a.Contender.V < a.Baseline.V
	if a.Figure.MoreIsBetter() {
		isBetter = a.Contender.V > a.Baseline.V
	}
	return isBetter != (a.Ratio > 1)
}

func (a Assessment) aloneWords() string {
	if a.Alone == Alike {
		return string(Alike)
	}
	return a.Figure.Comparative(a.Alone == Better)
}

// around is an interval about 1 as it stands, below and above: "0.97 to 1.02".
func (a Assessment) around() string {
	if math.IsNaN(a.Low) {
		return ""
	}
	return fmt.Sprintf("%.2f to %.2f", a.Low, a.High)
}

// load writes a level of a climb, as "2400/s" or "12 clients".
func load(c *result.Climb, v float64) string {
	if c.Open {
		return units.Rate(v)
	}
	return units.Significant(v) + " clients"
}

// Sentence is the stake in words.
func (s *Stake) Sentence(base string) string {
	who := s.Contender
	if s.State != "" {
		who += " " + s.State
	}
	verb := "saves"
	saved := s.Saved
	if saved.V < 0 {
		verb, saved = "costs", Bound{-saved.V, -saved.High, -saved.Low}
	}
	open := ""
	if math.IsNaN(s.Own.Low) {
		open = ", for which there is no interval yet"
	}
	return fmt.Sprintf(
		"%s: %s %s, %s %s; it %s %s%s.", s.What, base, s.Show(s.Baseline), who, s.Show(s.Own), verb, s.Show(saved), open,
	)
}

// Show writes a bound: "14.2 min (13.8 to 14.6)".
func (s *Stake) Show(b Bound) string {
	text := s.show(b.V)
	if math.IsNaN(b.Low) || b.Low == b.High {
		return text
	}
	return fmt.Sprintf("%s (%s to %s)", text, s.bare(b.Low), s.bare(b.High))
}

func (s *Stake) show(x float64) string {
	switch s.unit {
	case minutes:
		return units.Significant(x) + " min"
	case servers:
		return units.Plural(int(x), "server")
	case money:
		text := units.Significant(x)
		if x == math.Trunc(x) && math.Abs(x) < 1e6 {
			text = units.Count(int64(x))
		}
		return strings.TrimSpace(text + " " + s.currency)
	}
	return units.Seconds(x)
}

// bare is what show writes without a unit that was just said.
func (s *Stake) bare(x float64) string {
	if s.unit == seconds {
		return s.show(x)
	}
	unit := map[stakeUnit]string{minutes: "min", servers: "servers", money: s.currency}[s.unit]
	return strings.TrimSpace(strings.TrimSuffix(strings.TrimSuffix(s.show(x), unit), " server"))
}

// String writes a place for people: "2" or "2 to 3".
func (r Rank) String() string {
	if r.First == r.Last {
		return fmt.Sprint(r.First)
	}
	return fmt.Sprintf("%d to %d", r.First, r.Last)
}

// Sentence is the ranking in words.
func (r *Ranking) Sentence() string {
	var places []string
	apart := false
	for _, p := range r.Places {
		apart = apart || p.First > 1 || p.Last < len(r.Places)
		places = append(places, fmt.Sprintf("%s %s (%s)", p, p.Contender, r.Figure.Show(p.Value)))
	}
	text := "By " + r.Figure.Label()
	if r.State != "" {
		text += ", " + r.State
	}
	if !apart {
		return text + fmt.Sprintf(" no two of the %d can be told apart yet.", len(r.Places))
	}
	return text + ": " + units.List(places) + "."
}

// Say puts it in words: "72x as long as later ones (70 to 74)".
func (b Beginning) Say() string { return b.AsLong(" as later ones") }

// AsLong is how many times as long the first one took, with the interval: "72x as long (70 to 74)".
func (b Beginning) AsLong(than string) string {
	text := units.Times(b.Ratio) + " as long" + than
	if within := (Assessment{Ratio: max(b.Ratio, 1), Low: b.Low, High: b.High}).Interval(); within != "" {
		text += " (" + within + ")"
	}
	return text
}
