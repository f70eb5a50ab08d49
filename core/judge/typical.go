package judge

import (
	"time"

	"paceduel/core/figure"
	"paceduel/core/judge/stats"
	"paceduel/core/result"
)

// TypicalStart is the middle of a side's starts, part by part, those of warm-ups aside, and how many there were. A part
// that not every start has is 0; none comes before the one that it follows.
func TypicalStart(r *result.Result, name, state string) (typical result.Start, n int) {
	var all []*result.Start
	for _, h := range r.Of(name, state) {
		for i := range h.Starts {
			if s := &h.Starts[i]; !s.Unjudged {
				all = append(all, s)
			}
		}
	}
	middle := func(of func(*result.Start) time.Duration) time.Duration {
		var each []float64
		for _, s := range all {
			if took := of(s); took > 0 {
				each = append(each, float64(took))
			}
		}
		if len(each) == 0 || len(each) < len(all) {
			return 0
		}
		return time.Duration(stats.Median(each))
	}
	typical = result.Start{
		Prepared: middle(
			func(s *result.Start) time.Duration { return s.Prepared },
		), Output: middle(func(s *result.Start) time.Duration { return s.Output }),
		Ready: middle(
			func(s *result.Start) time.Duration { return s.Ready },
		), Asked: middle(func(s *result.Start) time.Duration { return s.Asked }),
		First: middle(
			func(s *result.Start) time.Duration { return asked(s, s.First) },
		), FirstTook: middle(func(s *result.Start) time.Duration { return s.FirstTook }),
		Second: middle(
			func(s *result.Start) time.Duration { return asked(s, s.Second) },
		), SecondTook: middle(func(s *result.Start) time.Duration { return s.SecondTook }),
		Settled: middle(func(s *result.Start) time.Duration { return asked(s, s.Settled) }),
		Shot:    int64(middle(func(s *result.Start) time.Duration { return time.Duration(s.Shot) })),
	}
	for _, pair := range [][2]*time.Duration{
		{&typical.Ready, &typical.First}, {&typical.First, &typical.Second}, {&typical.Second, &typical.Settled},
	} {
		if *pair[1] > 0 {
			*pair[1] = max(*pair[1], *pair[0])
		}
	}
	if len(all) > 0 {
		for i := range all[0].Marks {
			own := all[0].Marks[i]
			own.Value = typicalMark(all, own.Figure())
			typical.Marks = append(typical.Marks, own)
		}
	}
	return typical, len(all)
}

// typicalMark is the middle of what starts told in one mark; 0 where not all of them did.
func typicalMark(all []*result.Start, fig figure.Name) float64 {
	var each []float64
	for _, s := range all {
		for i := range s.Marks {
			if m := &s.Marks[i]; m.Figure() == fig && m.Value > 0 {
				each = append(each, m.Value)
				break
			}
		}
	}
	if len(each) == 0 || len(each) < len(all) {
		return 0
	}
	return stats.Median(each)
}

// beginning is how long the first shot of a heat took, where that says something; NaN elsewhere.
func (h *heat) beginning() float64 {
	if n := len(h.Starts); n == 1 && h.Starts[0].SecondTook > 0 {
		return h.Starts[0].FirstTook.Seconds()
	}
	return h.figure(figure.FirstRun)
}
