package fleet

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"paceduel/core/pace"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/core/shares"
	"paceduel/core/shots"
	"paceduel/core/tally"
	"paceduel/core/units"
)

// deal shares a heat among members.
func deal(members []*member) shares.Deal { return shares.NewDeal(weights(members)) }

// Bounds of what makes an agent late.
const (
	leastLead  = 20 * time.Millisecond // from telling agents of a moment to the moment
	mostLead   = time.Second
	leadOfEach = 100 * time.Microsecond // for each of them
	lateLimit  = 250 * time.Millisecond // after the moment; a heat is stopped for more
)

// underWay is a heat that agents drive.
type underWay struct {
	f    *Fleet
	h    *rounds.Handed
	job  string
	here []*member

	mu      sync.Mutex
	glances map[*member]*seenGlance
	moments [2]time.Duration // of stages, by our clock
}

// seenGlance is the latest glance of a member, and when it came.
type seenGlance struct {
	glance
	at time.Time
}

// Drive implements rounds.Hands.
func (f *Fleet) Drive(ctx context.Context, h *rounds.Handed) (*rounds.Driven, error) {
	u := &underWay{f: f, h: h, job: f.fresh(heat), here: f.at(h.Place), glances: map[*member]*seenGlance{}}
	d, err := u.drive(ctx)
	if err != nil {
		u.cut()
	}
	return d, err
}

func (u *underWay) drive(ctx context.Context) (*rounds.Driven, error) {
	f := u.f
	weights := weights(u.here)
	err := f.each(ctx, u.here, nil, func(ctx context.Context, m *member) (err error) {
		if m.clock, err = f.compare(ctx, m, fewestReadings); err != nil {
			return err
		}
		q := &heatAsk{f.asked(u.job), u.h.Round, u.h.Cell, u.h.Seed, weights, slices.Index(u.here, m)}
		return f.insist(ctx, m, heat, q, &answered{})
	})
	if err != nil {
		return nil, err
	}
	for _, s := range u.stages() {
		if err := u.stage(ctx, s); err != nil {
			return nil, err
		}
	}
	over := map[*member]*waitAnswer{}
	if err := u.all(ctx, done, func(m *member, a *waitAnswer) { over[m] = a }); err != nil {
		return nil, err
	}
	return u.collect(ctx, over)
}

// stages are those that a heat has, but for the silence after it, which is each agent's own.
func (u *underWay) stages() []pace.Stage {
	p := u.f.plan.AtPoint(u.h.Point)
	if p.Pace.WarmsUp() {
		return []pace.Stage{pace.WarmingUp, pace.Judged}
	}
	return []pace.Stage{pace.Judged}
}

// all waits until the heat has come to a phase with everybody.
func (u *underWay) all(ctx context.Context, phase string, reached func(*member, *waitAnswer)) error {
	var meanwhile func()
	if u.h.OnGlance != nil {
		meanwhile = func() { u.h.OnGlance(u.glance()) }
	}
	return u.f.each(ctx, u.here, meanwhile, func(ctx context.Context, m *member) error {
		a, err := u.f.follow(ctx, m, u.job, phase, func(a *waitAnswer) { u.see(m, a) })
		if err != nil {
			return err
		}
		if a.Phase != phase {
			return fmt.Errorf("agent %s was done before it began", m.card.Name)
		}
		u.mu.Lock()
		defer u.mu.Unlock()
		reached(m, a)
		return nil
	})
}

// stage has a stage begin at one moment everywhere, once all are ready for it.
func (u *underWay) stage(ctx context.Context, s pace.Stage) error {
	f := u.f
	if err := u.all(ctx, fmt.Sprint(awaits, int(s)), func(*member, *waitAnswer) {}); err != nil {
		return err
	}
	lead := max(leastLead+time.Duration(len(u.here))*leadOfEach, f.lead)
	for _, m := range u.here {
		lead = max(lead, leastLead+4*m.clock.trip)
	}
	at := f.clock.Now() + lead
	u.moments[s] = at
	var late time.Duration // the latest of them
	err := f.each(ctx, u.here, nil, func(ctx context.Context, m *member) error {
		var a beganAnswer
		if err := f.insist(ctx, m, begin, &beginAsk{f.asked(u.job), s, at + m.clock.ahead}, &a); err != nil {
			return err
		}
		u.mu.Lock()
		defer u.mu.Unlock()
		late = max(late, a.Late)
		return nil
	})
	if late > 0 { // who heard of it too late began late, which is told; the next time there is more time to hear
		f.lead = min(2*lead, mostLead)
	}
	if err != nil {
		return err
	}
	until(ctx, at, f.clock.Now)
	u.h.OnStage(s, at)
	return ctx.Err()
}

// see keeps how a heat goes with a member.
func (u *underWay) see(m *member, a *waitAnswer) {
	u.mu.Lock()
	defer u.mu.Unlock()
	s := u.glances[m]
	if s == nil {
		s = &seenGlance{}
		u.glances[m] = s
	}
	s.at = time.Now()
	if g := a.Glance; g != nil {
		recent := newest(slices.Concat(s.Recent, g.Recent)) // those that were not looked at yet, too
		s.glance = *g
		s.Recent = recent
	}
}

// maxRecent is how many dots of an agent a glance holds.
const maxRecent = 200

// silentAfter is from when on it is told that nothing is heard of an agent.
const silentAfter = 1500 * time.Millisecond

// glance is how the heat goes with all of them. Percentiles are the middle one of the agents' for p50, and the highest
// for p99: they are to watch by.
func (u *underWay) glance() (out rounds.HandsGlance) {
	u.mu.Lock()
	defer u.mu.Unlock()
	var middle []time.Duration
	for _, m := range u.here {
		one := rounds.AgentGlance{Agent: m.card.Name}
		if s := u.glances[m]; s != nil {
			one.Shots, one.Rate, one.P50, one.P99 = s.Shots, s.Rate, s.P50, s.P99
			if silent := time.Since(s.at); silent > max(silentAfter, 2*u.f.glance) {
				one.Silent = silent
			}
			out.Stage = max(out.Stage, s.Stage)
			out.Shots += s.Shots
			out.Rate += s.Rate
			out.P99 = max(out.P99, s.P99)
			if s.P50 > 0 {
				middle = append(middle, s.P50)
			}
			for _, d := range s.Recent {
				d.At -= m.clock.ahead
				out.Recent = append(out.Recent, d)
			}
			s.Recent = nil
		}
		out.Agents = append(out.Agents, one)
	}
	if len(middle) > 0 {
		slices.Sort(middle)
		out.P50 = middle[len(middle)/2]
	}
	slices.SortFunc(out.Recent, func(a, b result.Dot) int { return cmp.Compare(a.At, b.At) })
	return out
}

// cut ends the heat with everybody that can be reached, and does not wait for others.
func (u *underWay) cut() {
	ctx, cancel := context.WithTimeout(context.Background(), goodbye)
	defer cancel()
	u.f.each(ctx, u.here, nil, func(ctx context.Context, m *member) error {
		u.f.ask(ctx, m, cut, u.f.asked(u.job), &answered{}) // who does not hear of it lets go by itself
		return nil
	})
}

// atOnce is how many agents hand over at a time, so that not all of it lies in memory.
const atOnce = 8

// collect has everybody hand over what they recorded, and adds it up.
func (u *underWay) collect(ctx context.Context, over map[*member]*waitAnswer) (*rounds.Driven, error) {
	f := u.f
	out := &rounds.Driven{Span: pace.Span{Start: u.moments[pace.Judged]}}
	out.Shares = make([]result.Share, len(u.here))
	places := make(chan struct{}, atOnce)
	err := f.each(ctx, u.here, nil, func(ctx context.Context, m *member) error {
		after, err := f.compare(ctx, m, fewestAfter)
		if err != nil {
			return err
		}
		select {
		case places <- struct{}{}:
		case <-ctx.Done():
			return ctx.Err()
		}
		defer func() { <-places }()
		var d driven
		if err := f.bring(ctx, m, u.job, over[m], &d); err != nil {
			return err
		}
		if err := d.check(); err != nil {
			return fmt.Errorf("what agent %s handed over cannot be: %w", m.card.Name, err)
		}
		share, err := u.add(m, &d, after, out)
		out.Shares[slices.Index(u.here, m)] = share
		return err
	})
	return out, err
}

// add adds what a member recorded to the whole.
func (u *underWay) add(m *member, d *driven, after offset, out *rounds.Driven) (s result.Share, err error) {
	clock, drift := between(m.clock, after)
	late := d.Began[pace.Judged] - (u.moments[pace.Judged] + m.clock.ahead)
	if late > u.f.late {
		return s, fmt.Errorf("agent %s began %s late", m.card.Name, units.Duration(late))
	}
	recorders := [3]*tally.Recorder{}
	for i, p := range []*tally.Parcel{d.Warm, d.Judged, d.Woken} {
		if recorders[i], err = p.Unpack(u.h.Shape); err != nil {
			return s, fmt.Errorf("what agent %s handed over cannot be: %w", m.card.Name, err)
		}
	}
	judged := recorders[1]
	s = result.Share{
		Agent: m.card.Name, OK: judged.Counts[shots.OK], Unsent: d.Span.Unsent, Within: clock.within, Drift: drift,
		Began: max(late, 0), Conditions: d.Conditions, LagP99: judged.Lags.Quantile(0.99), Late: judged.Lags.Late,
		P50: judged.Quantile(0.5), P90: judged.Quantile(0.9), P99: judged.Quantile(0.99),
		Parts: judged.PartMedians(),
	}
	for class := shots.Cut + 1; class < shots.Classes; class++ {
		if n := judged.Counts[class]; n > 0 {
			if s.Failures == nil {
				s.Failures = map[string]int64{}
			}
			s.Failures[class.String()] = n
		}
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	for i, into := range []*tally.Recorder{u.h.Warm, u.h.Judged, u.h.Woken} {
		into.Add(recorders[i], -clock.ahead)
	}
	span := &out.Span
	span.End = max(span.End, d.Span.End-clock.ahead, span.Start)
	span.Busy += d.Span.Busy
	span.Unsent += d.Span.Unsent
	for i, n := range d.Span.UnsentAt {
		if i == len(span.UnsentAt) {
			span.UnsentAt = append(span.UnsentAt, 0)
		}
		span.UnsentAt[i] += n
	}
	out.Sampled += d.Sampled
	m.clock = after
	return s, nil
}
