package pace

import (
	"context"
	"time"

	"paceduel/core/contender"
	"paceduel/core/tally"
)

// crewed has a crew perform one part of the heat, after either model.
func (h *Heat) crewed(ctx context.Context, stage Stage, recorders []*tally.Recorder, q quota) (span Span, err error) {
	job := &contender.Job{Open: h.Pace.Open()}
	job.Ask = func(i int, shot *contender.Shot) {
		if check := h.checker(stage, i); check != nil {
			check.Ask(shot)
		}
	}
	ended := make([]time.Duration, h.Size) // each client's last shot
	job.Done = func(i int, shot *contender.Shot) {
		if check := h.checker(stage, i); check == nil || check.Take(shot) {
			recorders[0].Record(shot, span.Start)
		}
		if shot.Class != contender.Cut {
			ended[i] = shot.End
		}
	}
	span.Start = h.Clock.Now()
	if job.Open {
		job.Next = h.moments(q, span.Start, &span.Unsent)
	} else {
		job.Next = h.turns(q, span.Start)
	}
	err = h.Crew.Drive(ctx, job)
	now := h.Clock.Now()
	for _, at := range ended {
		if at == 0 {
			at = now // one that found nothing left to do was there all the same
		}
		span.Busy += at - span.Start
	}
	return span, err
}

// turns lets everybody shoot until the quota is used up.
func (h *Heat) turns(q quota, start time.Duration) func(int) (due, left time.Duration, ok bool) {
	rest := q.shots
	return func(int) (time.Duration, time.Duration, bool) {
		if q.span > 0 && h.Clock.Now()-start >= q.span {
			return 0, 0, false
		}
		if q.shots > 0 {
			if rest == 0 {
				return 0, 0, false
			}
			rest--
		}
		return 0, 0, true
	}
}

// moments has shots begun when they are due, until the quota is used up; those whose moment passed before anybody was
// free for them are counted in unsent when the time is over.
func (h *Heat) moments(q quota, start time.Duration, unsent *int64) func(int) (due, left time.Duration, ok bool) {
	schedule := NewSchedule(float64(h.Pace.Rate), h.Pace.Spread, h.Seed)
	at, k := schedule.Next(), 0
	over := func() bool { return q.span > 0 && at >= q.span || q.shots > 0 && k >= q.shots }
	return func(int) (time.Duration, time.Duration, bool) {
		now := h.Clock.Now()
		for q.span > 0 && now-start >= q.span && !over() {
			*unsent++
			at, k = schedule.Next(), k+1
		}
		if over() {
			return 0, 0, false
		}
		due := start + at
		if left := due - now; left > 0 {
			return 0, left, true
		}
		at, k = schedule.Next(), k+1
		return due, 0, true
	}
}
