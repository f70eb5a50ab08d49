package rounds

import (
	"context"
	"slices"

	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/spans"
	"paceduel/core/tally"
	"paceduel/core/traces"
	"paceduel/core/units"
)

// Times is the unit in which it is counted how often a shot did a step.
const Times units.Unit = "times"

// traced is what a contender's service sent of a heat's shots.
type traced struct {
	shots  []spans.Shot
	report traces.Report
}

// beginTraces takes down what had come before the heat, where its shots are traced.
func (h *heat) beginTraces() {
	if from, _ := h.ground.Traces(); from != nil {
		h.sentBefore = from.Counts()
	}
}

// collectTraces waits for the spans of the heat's sampled shots, while the service is there to send them.
func (h *heat) collectTraces(ctx context.Context) {
	from, prefix := h.ground.Traces()
	if from == nil {
		return
	}
	kept, _ := tally.Insides(h.judged)
	ids := make([][16]byte, len(kept))
	sampled := make([]traces.Shot, len(kept))
	for i := range kept {
		k := &kept[i]
		ids[i] = k.Trace
		sampled[i] = traces.Shot{
			Trace: k.Trace, Start: k.Start, End: k.End, Length: k.Latency, Spans: k.Spans, Known: k.Known,
		}
	}
	if len(ids) > 0 {
		from.Settle(ctx, ids) // after an interrupt there is what came
	}
	h.traced = &traced{}
	h.traced.shots, h.traced.report = from.Gather(prefix, sampled, h.sentBefore)
}

// inside looks into the shots of a heat of which it is known what happened in them.
func (h *heat) inside(doc *result.Heat) error {
	kept, of := tally.Insides(h.judged)
	var looked []spans.Shot
	if h.traced != nil {
		looked = h.traced.shots
		r := &h.traced.report
		doc.Traced = &result.Traced{
			Sampled: r.Sampled, Lost: r.Lost, Spans: r.Spans, Orphans: r.Orphans, Shifted: r.Shifted, Grain: r.Grain,
			Foreign: r.Foreign,
			Late:    r.Late, Doubled: r.Doubled, Broken: r.Broken + r.Refused, Dropped: r.Dropped,
		}
	} else {
		for i := range kept {
			looked = append(looked, spans.Shot{Length: kept[i].Latency, Spans: kept[i].Spans, Known: kept[i].Known})
		}
	}
	if len(looked) == 0 {
		h.insideOfWarmup(doc)
		return nil
	}
	var all []*spans.Inside
	doc.Inside, all = result.LookInside(looked, max(of, int64(len(looked))))
	return tellSteps(doc, all)
}

// insideOfWarmup looks into runs that were not judged, where only these are known inside: processes are followed there
// alone, since that costs a run some microseconds for each.
func (h *heat) insideOfWarmup(doc *result.Heat) {
	kept, _ := tally.Insides(h.warm)
	var looked []spans.Shot
	for i := range kept {
		looked = append(looked, spans.Shot{Length: kept[i].Latency, Spans: kept[i].Spans})
	}
	if h.entry.Shape.OwnProcess && len(looked) > 0 {
		doc.Inside, _ = result.LookInside(looked, int64(len(looked)))
		doc.Inside.Unjudged = true
	}
}

// tellSteps makes figures of the steps: for each name what its spans took in a shot, and how many there were. A time
// that shots have told already, as legs do, stays as it is.
func tellSteps(doc *result.Heat, all []*spans.Inside) error {
	type one struct{ took, count tally.Amounts }
	byName := map[string]*one{}
	var names []string
	for _, in := range all {
		took, count := map[string]int64{}, map[string]int64{}
		for i := range in.Steps {
			s := &in.Steps[i]
			took[s.Name] += int64(s.Total)
			count[s.Name] += int64(s.Count)
		}
		for name := range took {
			if byName[name] == nil {
				byName[name] = &one{}
				names = append(names, name)
			}
			byName[name].took.Add(took[name])
			byName[name].count.Add(count[name] * int64(often.PerUnit()))
		}
	}
	slices.Sort(names)
	for _, name := range names[:min(len(names), mostTold)] {
		known := slices.ContainsFunc(doc.Splits, func(s result.Split) bool {
			return s.Told && s.Name == name && (s.Unit == units.Second || s.Unit == "")
		})
		if !known {
			if err := tell(doc, name, units.Second, &byName[name].took); err != nil {
				return err
			}
		}
		if err := tell(doc, name, often, &byName[name].count); err != nil {
			return err
		}
	}
	return nil
}

// often is the unit in which it is counted how often a shot did a step.
const often = plan.HowOften

// mostTold is of how many names of steps there are figures.
const mostTold = 64

func tell(doc *result.Heat, name string, unit units.Unit, of *tally.Amounts) (err error) {
	s := result.Split{Name: name, Told: true, Step: true, Unit: unit, PerUnit: unit.PerUnit(), Sum: of.Sum}
	if s.Lengths, err = result.EncodeHistogram(of.Histogram()); err != nil {
		return err
	}
	doc.Splits = append(doc.Splits, s)
	return nil
}
