package rounds

import (
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
	looked := make([]spans.Shot, len(kept))
	for i := range kept {
		looked[i] = spans.Shot{Length: kept[i].Latency, Spans: kept[i].Spans, Known: kept[i].Known}
	}
	var all []*spans.Inside
	doc.Inside, all = result.LookInside(looked, of)
	return tellSteps(doc, all)
}

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
