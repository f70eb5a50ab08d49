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
	if r.Ending == result.Running {
		return LookSweep(r)
	}
	s, err := newSweep(r, true)
	if err != nil {
		return nil, err
	}
	if err := s.judgePoints(); err != nil {
		return nil, err
	}
	s.Cautions = s.cautions()
	return s.say()
}

// LookSweep is JudgeSweep without the points' own verdicts and their cautions, which take most of the time.
func LookSweep(r *result.Result) (*Sweep, error) {
	s, err := newSweep(r, false)
	if err != nil {
		return nil, err
	}
	return s.say()
}

// say puts a sweep into words.
func (s *Sweep) say() (_ *Sweep, err error) {
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
	return s.judgePoint(point)
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
	other, err := newSweep(&turned, false)
	if err != nil {
		return nil, err
	}
	other.fields = nil
	return other.judgePoint(point)
}

// judgePoint reaches the verdict of a point, from what was gathered of it where that is still there.
func (s *Sweep) judgePoint(point int) (_ *Verdict, err error) {
	var f *field
	if s.fields != nil {
		f = s.fields[point]
	} else {
		sub := s.r.AtPoint(point)
		if f, err = gather(sub, sub.Ending != result.Running); err != nil {
			return nil, err
		}
	}
	v := f.compare()
	s.resettle(v, s.r.Sweep.Points[point].At)
	return f.describe(v)
}

// judgePoints reaches the verdicts of all points.
func (s *Sweep) judgePoints() error {
	verdicts := make([]*Verdict, len(s.r.Sweep.Points))
	var work errgroup.Group
	work.SetLimit(runtime.GOMAXPROCS(0))
	for i := range verdicts {
		work.Go(func() (err error) {
			verdicts[i], err = s.judgePoint(i)
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
