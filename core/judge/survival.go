package judge

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"paceduel/core/cell"
	"paceduel/core/judge/stats"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Survival is what is left of a contender that was ended while it worked.
type Survival struct {
	Contender string
	Crashes   int
	Promised  int64          // records that had been acknowledged, in all of them
	Tearing   int            // crashes that left torn records
	Losing    int            // crashes in which acknowledged records were lost
	Chance    [2]float64     // of a crash that loses something, at 95 %: see stats.Chance
	Lost      Value          // the share of what had been acknowledged, over crashes
	Least     int64          // records lost in one crash
	Most      int64          // likewise
	Torn      int64          // records that cannot be read, of all crashes
	Doubled   int64          // likewise, that are there once more
	Beyond    int64          // likewise, that nobody asked for
	Again     Value          // seconds until it served again; NaN for what does not serve
	Failed    int            // crashes of which it is not known what they left
	Why       string         // of the first of these
	All       []result.Crash // in their order
	Sentence  string
}

// survival enters what is left after crashes.
func (f *field) survival(v *Verdict) {
	for _, e := range f.r.Entrants {
		s := &Survival{Contender: e.Name, Least: math.MaxInt64}
		var shares, again []float64
		for i := range f.r.Crashes {
			c := f.r.Crashes[i]
			switch {
			case c.Contender != e.Name:
				continue
			case c.Err != "":
				s.Failed++
				if s.Why == "" {
					s.Why = c.Err
				}
				continue
			}
			s.All = append(s.All, c)
			s.Crashes++
			s.Promised += c.Acknowledged
			if c.Torn > 0 {
				s.Tearing++
			}
			lost := c.Lost()
			if lost > 0 {
				s.Losing++
			}
			s.Least, s.Most = min(s.Least, lost), max(s.Most, lost)
			s.Torn, s.Doubled, s.Beyond = s.Torn+c.Torn, s.Doubled+c.Doubled, s.Beyond+c.Beyond()
			if c.Acknowledged > 0 {
				shares = append(shares, float64(lost)/float64(c.Acknowledged))
			}
			if c.Again > 0 {
				again = append(again, c.Again.Seconds())
			}
		}
		if s.Crashes+s.Failed == 0 {
			continue
		}
		s.Chance = stats.Chance(s.Losing, s.Crashes)
		s.Lost = f.over(len(shares), func(i int) float64 { return shares[i] })
		s.Again = f.over(len(again), func(i int) float64 { return again[i] })
		s.Sentence = s.say()
		v.Survival = append(v.Survival, s)
	}
	v.SurvivalSentence = f.survivors(v)
}

// say says what is left of a contender.
func (s *Survival) say() string {
	if s.Crashes == 0 {
		return fmt.Sprintf("%s was ended %s, and what was left is not known: %s.", s.Contender,
			units.Plural(s.Failed, "time"), s.Why)
	}
	crashes := s.crashes()
	var text string
	switch {
	case s.Promised == 0: // what is ended before it has promised anything can only be half done
		return s.halfDone(crashes)
	case s.Losing == 0:
		text = fmt.Sprintf("%s loses none of its acknowledged records in %s: at 95 %%, at most %s of crashes lose any",
			s.Contender, crashes, units.Share(s.Chance[1]))
	case s.Least == s.Most:
		text = fmt.Sprintf("%s loses %s that it had acknowledged in each of %s", s.Contender,
			units.Plural(int(s.Most), "record"), crashes)
	default:
		text = fmt.Sprintf("%s loses up to %s of its last acknowledged records in a crash, and some in %d of %s", s.Contender,
			units.Count(s.Most), s.Losing, crashes)
	}
	if s.Losing > 0 && !math.IsNaN(s.Lost.V) {
		text += fmt.Sprintf(", %s of what it had acknowledged%s", units.Share(s.Lost.V), withinShares(s.Lost))
	}
	var more []string
	for _, odd := range []struct {
		n   int64
		how string
	}{{s.Torn, "torn"}, {s.Doubled, "doubled"}, {s.Beyond, "there that nobody had asked for"}} {
		if odd.n > 0 {
			more = append(more, fmt.Sprintf("%s %s", units.Count(odd.n), odd.how))
		}
	}
	if len(more) > 0 {
		text += "; " + units.List(more)
	}
	if !math.IsNaN(s.Again.V) {
		text += fmt.Sprintf("; it serves again after %s", units.Seconds(s.Again.V))
	}
	if s.Failed > 0 {
		text += fmt.Sprintf("; of %s more it is not known: %s", units.Plural(s.Failed, "time"), s.Why)
	}
	return text + "."
}

func (s *Survival) crashes() string {
	return units.Plural(s.Crashes, "crash")
}

// halfDone says what is left of what was ended before it had promised anything.
func (s *Survival) halfDone(crashes string) string {
	chance := stats.Chance(s.Tearing, s.Crashes)
	if s.Tearing == 0 {
		return fmt.Sprintf("%s leaves nothing half-written in %s: at 95 %%, at most %s of crashes leave anything so.",
			s.Contender, crashes, units.Share(chance[1]))
	}
	return fmt.Sprintf("%s is left half-written in %d of %s (at 95 %%, in %s to %s of all).", s.Contender, s.Tearing,
		crashes, strings.TrimSuffix(units.Share(chance[0]), " %"), units.Share(chance[1]))
}

func withinShares(v Value) string {
	if math.IsNaN(v.Low) {
		return ""
	}
	return fmt.Sprintf(" (%s to %s)", strings.TrimSuffix(units.Share(v.Low), " %"), units.Share(v.High))
}

// survivors says who keeps what had been promised, beside what speed that costs.
func (f *field) survivors(v *Verdict) string {
	known := slices.DeleteFunc(slices.Clone(v.Survival), func(s *Survival) bool { return s.Crashes == 0 })
	if len(known) == 0 {
		if len(v.Survival) > 0 {
			return v.Survival[0].Sentence
		}
		return ""
	}
	if !slices.ContainsFunc(known, func(s *Survival) bool { return s.Promised > 0 }) {
		most := slices.MaxFunc(known, func(a, b *Survival) int { return a.Tearing*b.Crashes - b.Tearing*a.Crashes })
		return most.Sentence
	}
	worst := slices.MaxFunc(known, func(a, b *Survival) int { return cmp.Compare(a.Most, b.Most) })
	if worst.Losing == 0 {
		least := slices.MinFunc(known, func(a, b *Survival) int { return a.Crashes - b.Crashes })
		return fmt.Sprintf("None of them loses an acknowledged record when its process dies: at 95 %%, at most %s of "+
			"crashes lose any.", units.Share(least.Chance[1]))
	}
	var keeps []string
	for _, s := range known {
		if s.Losing == 0 {
			keeps = append(keeps, s.Contender)
		}
	}
	text := fmt.Sprintf("%s loses up to %s of the last acknowledged records when its process dies", worst.Contender,
		units.Count(worst.Most))
	if speed := f.faster(v, worst.Contender, keeps); speed != "" {
		text = fmt.Sprintf("%s is %s and loses up to %s of the last acknowledged records when its process dies",
			worst.Contender, speed, units.Count(worst.Most))
	}
	if len(keeps) > 0 {
		verb := "loses"
		if len(keeps) > 1 {
			verb = "lose"
		}
		text += fmt.Sprintf("; %s %s none", units.List(keeps), verb)
	}
	return text + "."
}

// faster says by how much whoever loses is surely faster than the quickest who does not; empty where it is not.
func (f *field) faster(v *Verdict, loser string, keeps []string) string {
	fig := f.ofWork()
	state := f.r.States()[0]
	best := ""
	ratio, low, high := 0.0, 0.0, 0.0
	for _, k := range keeps {
		own, other := cell.Of(loser, state), cell.Of(k, state)
		yes, l, h := f.surely(fig, other, own)
		x := f.typical(fig, other).V / f.typical(fig, own).V
		if !yes {
			return ""
		}
		if best == "" || x < ratio {
			best, ratio, low, high = k, x, l, h
		}
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf("%s faster than %s (%s to %s)", units.Times(ratio), best, strings.TrimSuffix(units.Times(low), "x"),
		strings.TrimSuffix(units.Times(high), "x"))
}

// Few is what is left in few words, for beside a picture.
func (s *Survival) Few() string {
	if s.Crashes == 0 {
		return "not known: " + s.Why
	}
	text := fmt.Sprintf("%s, %d lost something", s.crashes(), s.Losing)
	if s.Most > 0 {
		text += fmt.Sprintf(", %s to %s records", units.Count(s.Least), units.Count(s.Most))
	}
	if s.Torn > 0 {
		text += fmt.Sprintf(", %s torn", units.Count(s.Torn))
	}
	if !math.IsNaN(s.Again.V) {
		text += ", serves again after " + units.Seconds(s.Again.V)
	}
	return text
}
