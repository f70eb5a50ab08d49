package judge

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"paceduel/core/cell"
	"paceduel/core/plan"
	"paceduel/core/result"
)

// Measured is a duel that somebody else has measured: heats with their samples. Check says whether it can be judged.
type Measured struct {
	Baseline string
	Interest float64 // the smallest difference worth telling apart, a share
	Seed     uint64  // of the choice of samples in which humps are looked for
	Heats    []MeasuredHeat
}

// MeasuredHeat is one heat of such a duel.
type MeasuredHeat struct {
	Round     int // from 1
	Order     int // within its round; for whoever reads it, nothing rests on it
	Contender string
	Elapsed   float64   // from first to last shot, in seconds; 0 where it is not known
	Samples   []float64 // latencies of the successful shots, in seconds; MeasuredVerdict sorts them
	Failed    int64     // shots besides
}

// contenders are the names in the order in which they appear, the baseline first.
func (m *Measured) contenders() []string {
	names := []string{m.Baseline}
	for i := range m.Heats {
		if !slices.Contains(names, m.Heats[i].Contender) {
			names = append(names, m.Heats[i].Contender)
		}
	}
	return names
}

// Check says what is wrong with a duel, in words; nil when it can be judged.
func (m *Measured) Check() error {
	if len(m.Heats) == 0 {
		return fmt.Errorf("there are no heats")
	}
	if !(m.Interest >= 0 && m.Interest <= 1) {
		return fmt.Errorf("a smallest difference of %g is none: write it as a ratio from 1 to 2, as 1.02", 1+m.Interest)
	}
	type place struct {
		round     int
		contender string
	}
	seen := map[place]bool{}
	hasBaseline := false
	for i := range m.Heats {
		h := &m.Heats[i]
		at := place{h.Round, h.Contender}
		switch {
		case h.Contender == "":
			return fmt.Errorf("heat %d names no contender", i+1)
		case h.Round < 1 || h.Round > plan.MaxRounds:
			return fmt.Errorf("heat %d is in round %d: rounds count from 1 to %d", i+1, h.Round, plan.MaxRounds)
		case seen[at]:
			return fmt.Errorf("heat %d: %s has two heats in round %d", i+1, h.Contender, h.Round)
		case !(h.Elapsed >= 0 && h.Elapsed < 1e9) || h.Failed < 0:
			return fmt.Errorf("heat %d has impossible figures", i+1)
		}
		for j, x := range h.Samples {
			if !(x >= 0 && x < 1e9) {
				return fmt.Errorf("heat %d: sample %d is %g: latencies are seconds, not negative", i+1, j+1, x)
			}
		}
		seen[at] = true
		hasBaseline = hasBaseline || h.Contender == m.Baseline
	}
	switch n := len(m.contenders()); {
	case m.Baseline == "" || !hasBaseline:
		return fmt.Errorf("the baseline %q has no heats", m.Baseline)
	case n < plan.MinContenders || n > plan.MaxContenders:
		return fmt.Errorf("%d contenders: a duel has %d to %d", n, plan.MinContenders, plan.MaxContenders)
	}
	return nil
}

// MeasuredVerdict judges a duel that Check found nothing wrong with, as Judge does a run of ours: the same figures,
// intervals, words and cautions, as far as samples tell. It has no sentences and no scorecard.
func MeasuredVerdict(m *Measured) *Verdict {
	f := m.field()
	v := f.compare()
	v.Cautions = slices.Concat(courseCautions(f.r, v), roundCautions(f.r, v), shotCautions(v), f.disturbances(v))
	return v
}

// field arranges the samples for comparison; the heats of the result that it stands on have no histograms.
func (m *Measured) field() *field {
	r := &result.Result{Ending: result.Done, Seed: m.Seed, Plan: result.Plan{Baseline: m.Baseline, Interest: m.Interest}}
	for _, name := range m.contenders() {
		r.Entrants = append(r.Entrants, result.Entrant{Name: name})
	}
	heats := make([]*MeasuredHeat, len(m.Heats))
	for i := range heats {
		heats[i] = &m.Heats[i]
	}
	slices.SortStableFunc(heats, func(a, b *MeasuredHeat) int { return cmp.Compare(a.Round, b.Round) })
	r.Heats = make([]result.Heat, len(heats))
	f := newField(r)
	f.measured = true
	for i, h := range heats {
		slices.Sort(h.Samples)
		sum := 0.0
		for _, x := range h.Samples {
			sum += x
		}
		r.Heats[i] = result.Heat{
			Round: h.Round, Cell: cell.Of(h.Contender, ""), Clients: 1, OK: int64(len(h.Samples)),
			LatencySum: duration(sum), Busy: duration(h.Elapsed), Wall: duration(h.Elapsed),
		}
		if h.Failed > 0 {
			r.Heats[i].Failures = map[string]int64{"failed": h.Failed}
		}
		f.enter(cell.Of(h.Contender, ""), &heat{Heat: &r.Heats[i], r: r, sorted: h.Samples})
	}
	return f
}

func duration(s float64) time.Duration { return time.Duration(math.Round(s * 1e9)) }
