package judge

import (
	"runtime"
	"slices"

	"golang.org/x/sync/errgroup"

	"paceduel/core/result"
)

// JudgeSweep reaches what may be said of a whole sweep. The error says that the document cannot be read, or that it is
// of no sweep.
func JudgeSweep(r *result.Result) (*Sweep, error) {
	s, err := newSweep(r)
	if err != nil {
		return nil, err
	}
	if r.Ending != result.Running {
		if err := s.judgePoints(); err != nil {
			return nil, err
		}
		s.Cautions = s.cautions()
	}
	if s.Claims, err = s.claims(); err != nil {
		return nil, err
	}
	s.fields = nil
	s.Remarks = s.remarks()
	s.Sentence = s.sentence()
	return s, nil
}

// At is the verdict of a point by itself, except that the words of the figure that decides are those that hold for all
// points together. The error says that the document cannot be read.
func (s *Sweep) At(point int) (*Verdict, error) {
	if s.verdicts != nil {
		return s.verdicts[point], nil
	}
	return s.judgePoint(s.r, point)
}

// Ready is the verdict of a point where that was reached already; nil while it runs.
func (s *Sweep) Ready(point int) *Verdict {
	if s.verdicts == nil {
		return nil
	}
	return s.verdicts[point]
}

// FacingAt is At with another contender in the baseline's place.
func (s *Sweep) FacingAt(point int, base string) (*Verdict, error) {
	turned := *s.r
	turned.Plan.Baseline = base
	other, err := newSweep(&turned)
	if err != nil {
		return nil, err
	}
	return other.judgePoint(&turned, point)
}

func (s *Sweep) judgePoint(r *result.Result, point int) (*Verdict, error) {
	sub := r.AtPoint(point)
	f, err := gather(sub, sub.Ending != result.Running)
	if err != nil {
		return nil, err
	}
	v := f.compare()
	s.resettle(v, r.Sweep.Points[point].At)
	return f.describe(v)
}

// judgePoints reaches the verdicts of all points.
func (s *Sweep) judgePoints() error {
	verdicts := make([]*Verdict, len(s.r.Sweep.Points))
	var work errgroup.Group
	work.SetLimit(runtime.GOMAXPROCS(0))
	for i := range verdicts {
		work.Go(func() (err error) {
			verdicts[i], err = s.judgePoint(s.r, i)
			return err
		})
	}
	err := work.Wait()
	s.verdicts = verdicts
	return err
}

// Upheld reports whether every claim of the plan was upheld; true without any.
func (s *Sweep) Upheld() bool {
	return !slices.ContainsFunc(s.Claims, func(c Claim) bool { return c.Finding != Upheld })
}
