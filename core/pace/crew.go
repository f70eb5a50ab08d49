package pace

import (
	"context"
	"runtime"
	"time"

	"paceduel/core/contender"
	"paceduel/core/shots"
	"paceduel/core/tally"
)

// leaveRoom has Go's runtime run two threads at a time even where there is one processor for us: a crew keeps its turn
// while it waits, for milliseconds, and whom it waits for may be in this process, as when it is found out what driving
// costs at least.
func leaveRoom() {
	if runtime.GOMAXPROCS(0) < 2 {
		runtime.GOMAXPROCS(2)
	}
}

// crewed has a crew perform one part of the heat, after either model.
func (h *Heat) crewed(ctx context.Context, stage Stage, recorders []*tally.Recorder, q quota) (span Span, err error) {
	job := &contender.Job{Open: h.Pace.Open()}
	job.Ask = func(i int, shot *shots.Shot) {
		if check := h.checker(stage, i); check != nil {
			check.Ask(shot)
		}
	}
	var waits *clientPace
	var last time.Duration                 // when a shot last ended
	ended := make([]time.Duration, h.Size) // each client's last shot
	job.Done = func(i int, shot *shots.Shot) {
		if check := h.checker(stage, i); check == nil || check.Take(shot) {
			recorders[0].Record(shot, span.Start)
		}
		last = shot.End
		if shot.Class != shots.Cut {
			ended[i] = shot.End
		}
		if waits != nil {
			waits.answered(i, shot.End)
		}
	}
	span.Start = h.Clock.Now()
	if job.Open {
		job.Next = h.moments(stage, q, &span)
	} else {
		// A client shoots again when its last shot has ended, so that there is no need to look at the clock once more; but
		// for those who think.
		now := func() time.Duration { return max(last, span.Start) }
		if waits = h.clientPace(stage, h.Size, span.Start); waits != nil {
			now = h.Clock.Now
			job.Ready = func(i int) time.Duration { return waits.next[i] }
		}
		job.Next, job.Over = turns(h.share(q), span.Start, now)
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

// turns lets everybody shoot until the quota is used up, which over reports.
func turns(
	q quota, start time.Duration, now func() time.Duration,
) (next func(int) (due, left time.Duration, ok bool), over func() bool) {
	rest := q.shots
	over = func() bool {
		return q.span > 0 && now()-start >= q.span || q.shots > 0 && rest == 0
	}
	next = func(int) (time.Duration, time.Duration, bool) {
		if over() {
			return 0, 0, false
		}
		rest--
		return 0, 0, true
	}
	return next, over
}

// moments has shots begun when they are due, until the quota is used up; those whose moment passed before anybody was
// free for them are counted in unsent when the time is over.
func (h *Heat) moments(stage Stage, q quota, span *Span) func(int) (due, left time.Duration, ok bool) {
	start, miss := span.Start, h.misses(stage, span)
	following := h.dueTimes(stage)
	at, k := following()
	over := func() bool { return q.span > 0 && at >= q.span || q.shots > 0 && k >= q.shots }
	return func(int) (time.Duration, time.Duration, bool) {
		now := h.Clock.Now()
		for q.span > 0 && now-start >= q.span && !over() {
			miss(at)
			at, k = following()
		}
		if over() {
			return 0, 0, false
		}
		due := start + at
		if left := due - now; left > 0 {
			return 0, left, true
		}
		at, k = following()
		return due, 0, true
	}
}
