package rounds

import (
	"cmp"
	"slices"

	"paceduel/core/result"
	"paceduel/core/spans"
	"paceduel/core/tally"
	"paceduel/core/units"
)

// Times is the unit in which it is counted how often a shot did a step.
const Times units.Unit = "times"

// inside looks into the shots of a heat of which it is known what happened in them.
func (h *heat) inside(doc *result.Heat) error {
	kept, of := tally.Insides(h.judged)
	if len(kept) == 0 {
		return nil
	}
	known := true
	all := make([]*spans.Inside, len(kept))
	for i := range kept {
		k := &kept[i]
		all[i] = spans.Look(&spans.Shot{Length: k.Latency, Spans: k.Spans, Known: k.Known})
		known = known && k.Known
	}
	sum, steps := spans.Summarize(all)
	in := &result.Inside{
		Shots: int64(sum.Shots), Of: of, Known: known, Length: result.Quarters(sum.Length),
		Added: result.Quarters(sum.Added), Idle: result.Quarters(sum.Idle), Together: result.Quarters(sum.Together),
	}
	for i := range sum.Steps {
		s := &sum.Steps[i]
		in.Steps = append(in.Steps, result.InsideStep{
			Name: s.Name, Parent: s.Parent, Shots: int64(s.Shots), Spans: int64(s.Spans), AtOnce: s.AtOnce,
			Total: result.Quarters(s.Total), Own: result.Quarters(s.Own), Covers: result.Quarters(s.Covered),
			Begin: result.Quarters(s.Begin), End: result.Quarters(s.End), OnPath: result.Quarters(s.OnPath),
			Halved: result.Quarters(s.Halved),
		})
	}
	in.Real = realShots(kept, all, steps)
	doc.Inside = in
	return tellSteps(doc, all)
}

// realShots are single shots of those that were looked into, as they were.
func realShots(kept []tally.Inside, all []*spans.Inside, steps [][]int) (out []result.RealShot) {
	byLength := make([]int, len(all))
	for i := range byLength {
		byLength[i] = i
	}
	slices.SortFunc(byLength, func(a, b int) int { return cmp.Compare(all[a].Length, all[b].Length) })
	n := len(all)
	for _, one := range []struct {
		name  string
		place int
		least int // of how many shots there have to be
	}{{result.AtMiddle, (n - 1) / 2, 1}, {result.AtP90, n * 9 / 10, 20}, {result.AtP99, n * 99 / 100, 200},
		{result.AtSlowest, n - 1, 2}} {
		if n < one.least {
			continue
		}
		at := byLength[one.place]
		shot := result.RealShot{At: one.name, Latency: all[at].Length}
		for i, sp := range kept[at].Spans {
			if len(shot.Spans) == mostReal {
				shot.Left = len(kept[at].Spans) - mostReal
				break
			}
			step := steps[at][all[at].Of(i)]
			shot.Spans = append(shot.Spans, [3]int64{int64(step), int64(sp.Begin), int64(sp.End)})
		}
		out = append(out, shot)
	}
	return out
}

// mostReal is how many spans of a real shot are kept.
const mostReal = 500

// tellSteps makes figures of the steps: for each name what its spans took in a shot, and how many there were. A time
// that shots have told already, as legs do, stays as it is.
func tellSteps(doc *result.Heat, all []*spans.Inside) error {
	type one struct {
		took  tally.Amounts
		count tally.Amounts
	}
	byName := map[string]*one{}
	var names []string
	several := false
	for _, in := range all {
		took, count := map[string]int64{}, map[string]int64{}
		for i := range in.Steps {
			s := &in.Steps[i]
			took[s.Name] += int64(s.Total)
			count[s.Name] += int64(s.Count)
		}
		for name := range took {
			if byName[name] == nil {
				if len(names) == mostTold {
					continue
				}
				byName[name] = &one{}
				names = append(names, name)
			}
			byName[name].took.Add(took[name])
			byName[name].count.Add(count[name] * int64(Times.PerUnit()))
			several = several || count[name] > 1
		}
	}
	slices.Sort(names)
	for _, name := range names {
		known := slices.ContainsFunc(doc.Splits, func(s result.Split) bool {
			return s.Told && s.Name == name && (s.Unit == units.Second || s.Unit == "")
		})
		if !known {
			if err := tell(doc, result.Split{Name: name, Unit: units.Second, PerUnit: units.Second.PerUnit()},
				&byName[name].took); err != nil {
				return err
			}
		}
		if several || !doc.Inside.Known {
			if err := tell(doc, result.Split{Name: name, Unit: Times, PerUnit: Times.PerUnit()},
				&byName[name].count); err != nil {
				return err
			}
		}
	}
	return nil
}

// mostTold is of how many names of steps there are figures.
const mostTold = 64

func tell(doc *result.Heat, s result.Split, of *tally.Amounts) (err error) {
	s.Told, s.Sum = true, of.Sum
	if s.Lengths, err = result.EncodeHistogram(of.Histogram()); err != nil {
		return err
	}
	doc.Splits = append(doc.Splits, s)
	return nil
}
