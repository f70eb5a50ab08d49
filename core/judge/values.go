package judge

import (
	"fmt"
	"math"
	"slices"
	"time"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/quantile"
	"paceduel/core/result"
	"paceduel/core/units"
)

// A percentile q of n shots has n(1-q) shots beyond it: under fewBeyond it is refused, under plainBeyond it is
// qualified by the number of shots.
const (
	fewBeyond   = 5
	plainBeyond = 20
)

// unknown is no value.
var unknown = Value{math.NaN(), math.NaN(), math.NaN()}

func beyond(n int64, q float64) float64 { return float64(n) * (1 - q) }

func needFor(q float64) int64 { return int64(math.Ceil(fewBeyond/(1-q) - 1e-9)) }

// medianFrom is how many shots a median needs.
const medianFrom = 2 * fewBeyond

// nothing is a length of time that is none, in seconds: less than it takes to look at the clock.
const nothing = 10e-9

// Quantile reads a percentile in seconds: the smallest recorded value at or below which q of the shots lie, at most
// 0.1 % off. NaN for an empty histogram.
func Quantile(h *result.Distribution, q float64) float64 {
	return h.Quantile(q)
}

// quantile reads a percentile of a heat in seconds; NaN without shots.
func (h *heat) quantile(q float64) float64 {
	if n := len(h.sorted); n > 0 {
		return h.sorted[quantile.Rank(q, int64(n))-1]
	}
	return Quantile(h.histogram, q)
}

// percentile is the heat's quantile; NaN where too few shots lie beyond it.
func (h *heat) percentile(q float64) float64 {
	if beyond(h.OK, q) < fewBeyond-1e-9 {
		return math.NaN()
	}
	return h.quantile(q)
}

// figure is a heat's figure; NaN where it has none.
func (h *heat) figure(f figure.Name) float64 {
	if h == nil || h.Heat == nil {
		return math.NaN()
	}
	if x, ok := h.known[f]; ok {
		return x
	}
	x := f.Read(single{h})
	if h.known == nil {
		h.known = map[figure.Name]float64{}
	}
	h.known[f] = x
	return x
}

// single is a heat as figures are read from it.
type single struct{ *heat }

func (s single) LatencyQuantile(q float64) float64 { return s.quantile(q) }
func (s single) MeanLatency() float64              { return s.Mean() }
func (s single) ShotRate() float64                 { return s.Throughput() }

// Length of shots one after another is theirs alone: what lies between them is not the contender's.
func (s single) Length() float64 {
	if s.r.Plan.Pace.Sequential() {
		return s.LatencySum.Seconds()
	}
	return s.Wall.Seconds()
}

func (s single) PartOfLatency(fig figure.Name) float64 {
	return s.part(fig)
}

func (s single) StreamQuantile(stream string, q float64) float64 {
	i := s.stream(stream)
	if i < 0 || s.lengths[i] == nil {
		return math.NaN()
	}
	return streamQuantile(s.lengths[i].all, q)
}

func (s single) StreamMean(stream string) float64 {
	i := s.stream(stream)
	if i < 0 || s.lengths[i] == nil {
		return math.NaN()
	}
	return s.Splits[i].Total() / float64(s.lengths[i].count)
}

// stream is the place of a split by the name of a stream, or of a time that is told; -1 without it.
func (h *heat) stream(name string) int {
	return slices.IndexFunc(h.Splits, func(s result.Split) bool { return s.Figure() == figure.Told(name, "") })
}

// streamQuantile reads a percentile of a stream in seconds, its longest for 1; NaN where too few lie beyond it.
func streamQuantile(d *result.Distribution, q float64) float64 {
	if d == nil || d.TotalCount() == 0 || q < 1 && beyond(d.TotalCount(), q) < fewBeyond-1e-9 {
		return math.NaN()
	}
	return Quantile(d, q)
}

func (s single) PerShot(amount string) float64 { return s.amount(amount) / float64(s.Shots()) }

func (s single) PerSecond(amount string) float64 {
	return s.amount(amount) * float64(s.Clients) / atIt(s.r, s.LatencySum.Seconds(), s.Busy.Seconds())
}

// atIt is the time that clients took together for what is counted a second: that of their shots, where they ask again
// at once, and else that of the whole heat, in which they also wait for shots to be due, think, or have not joined yet.
func atIt(r *result.Result, latency, busy float64) float64 {
	if p := &r.Plan.Pace; p.Open() || p.Climb != nil || p.Think > 0 || p.Stagger > 0 {
		return busy
	}
	return latency
}

// amount is what the heat has of an amount in all, in its unit; NaN where it is not known, or none where none says so.
func (s single) amount(name string) float64 {
	if figure.Name(name) == figure.Received {
		return unlessNone(float64(s.Received))
	}
	if x, ok := s.r.Amount(s.Heat, name); ok {
		return x
	}
	return s.toldInAll(name)
}

// toldInAll is what the heat's shots told of an amount that is judged by the second, in all; NaN where they told none.
func (h *heat) toldInAll(name string) float64 {
	for i := range h.Splits {
		if s := &h.Splits[i]; s.Rate && s.Name == name {
			return s.Total()
		}
	}
	return math.NaN()
}

func (s single) Most(amount string) float64 { return unlessNone(s.amount(amount)) }

func (s single) Started(part figure.StartPart) float64 {
	x := s.started(func(s *result.Start) time.Duration { return partOfStart(s, part) })
	if part == figure.StartReady && math.IsNaN(x) { // results of before starts were kept one by one
		var took, times float64
		for _, c := range s.Costs {
			if c.Start {
				took, times = took+c.Took.Seconds(), times+float64(c.Times)
			}
		}
		return unlessNone(took) / times
	}
	return x
}

// partOfStart is a moment of a start, those after it was asked as if that had been at once; 0 stays unknown.
func partOfStart(s *result.Start, part figure.StartPart) time.Duration {
	switch part {
	case figure.StartPrepared:
		return s.Prepared
	case figure.StartOutput:
		return s.Output
	case figure.StartReady:
		return s.Ready
	case figure.StartFirst:
		return asked(s, s.First)
	case figure.StartSecond:
		return asked(s, s.Second)
	}
	return asked(s, s.Settled)
}

// FirstShot is of what is a process of its own each time, and run more than once.
func (s single) FirstShot() float64 {
	if e := s.r.Entrant(s.Contender); e != nil && e.OwnProcess && s.Service == nil && s.OK+s.Warmup > 1 {
		return unlessNone(s.First.Seconds())
	}
	return math.NaN()
}

func (s single) Woken() float64 { return unlessNone(s.Heat.Wake.Seconds()) }

func (s single) Held() float64 { return ascend(s.climb, s.heat).held }

func (s single) FailedShare() float64 { return float64(s.Failed()) / float64(s.Shots()) }

func (s single) Waiting(part figure.WaitPart) float64 {
	if s.Bystander == nil {
		return math.NaN()
	}
	return waiting(part, &s.Bystander.Meanwhile, s.Bystander)
}

// waiting reads what is told of probes.
func waiting(part figure.WaitPart, p *result.Probes, of *result.Bystander) float64 {
	switch part {
	case figure.LongestWait:
		return p.Longest.Seconds()
	case figure.HeldUpShare:
		return p.HeldUp.Seconds() / p.Span.Seconds()
	}
	due := float64(p.Due)
	if of.Ticks {
		due = math.Floor(p.Span.Seconds()/of.Every.Seconds() + 1e-9)
	}
	return max(1-float64(p.OK)/due, 0)
}

// started is the mean of what the heat's starts took, those of the warm-up aside; NaN unless all of them have it.
func (h *heat) started(of func(*result.Start) time.Duration) float64 {
	var sum, n float64
	for i := range h.Starts {
		if s := &h.Starts[i]; !s.Unjudged {
			took := of(s)
			if took <= 0 {
				return math.NaN()
			}
			sum, n = sum+took.Seconds(), n+1
		}
	}
	return sum / n
}

// asked is a moment of a start after it was asked, as if that had been at once; 0 stays unknown.
func asked(s *result.Start, at time.Duration) time.Duration {
	if at == 0 {
		return 0
	}
	return at - s.Idle()
}

// part is the median of a part of the heat's latencies, the mean where the shots are too few for it. NaN without it,
// and where it takes no time.
func (h *heat) part(fig figure.Name) float64 {
	for i := range h.Splits {
		s := &h.Splits[i]
		if s.Figure() != fig {
			continue
		}
		x := s.Total() / float64(h.OK)
		if lengths := h.lengths[i]; lengths != nil {
			if n := lengths.count; n >= medianFrom {
				x = lengths.median
			} else if s.Told && n > 0 { // not every shot has to tell it
				x = s.Total() / float64(n)
			}
		}
		if fig.Row().Constant && x == 0 {
			return 0 // none of what is counted is an answer
		}
		if !(x > 0) || fig.Unit() == units.Second && x < nothing {
			return math.NaN()
		}
		return x
	}
	return math.NaN()
}

// pooled are all heats of a side taken together, as figures are read from them.
type pooled struct {
	f *field
	s cell.Cell
	t totals
}

func (p pooled) LatencyQuantile(q float64) float64 {
	if beyond(int64(p.t.ok), q) < fewBeyond {
		return math.NaN()
	}
	return Quantile(p.f.pooled[p.s], q)
}

func (p pooled) MeanLatency() float64 { return p.t.latency / p.t.ok }

func (p pooled) ShotRate() float64 { return p.t.throughput() }

func (p pooled) PerShot(amount string) float64 { return p.t.amount(amount) / p.t.shots }

func (p pooled) PerSecond(amount string) float64 {
	all := p.t.amount(amount)
	if math.IsNaN(all) {
		all = 0
		for _, h := range p.f.inOrder[p.s] {
			all += h.toldInAll(amount)
		}
	}
	return all * p.t.clients / atIt(p.f.r, p.t.latency, p.t.busy)
}

func (p pooled) PartOfLatency(fig figure.Name) float64 { return p.f.split(p.s, fig) }

func (p pooled) StreamQuantile(stream string, q float64) float64 {
	return streamQuantile(p.f.parts[figureOf{figure.Told(stream, ""), p.s}], q)
}

func (p pooled) StreamMean(stream string) float64 {
	d := p.f.parts[figureOf{figure.Told(stream, ""), p.s}]
	if d == nil {
		return math.NaN()
	}
	var sum float64
	for _, h := range p.f.inOrder[p.s] {
		if i := h.stream(stream); i >= 0 {
			sum += h.Splits[i].Total()
		}
	}
	return sum / float64(d.TotalCount())
}

func (p pooled) FailedShare() float64 { return p.t.failed / p.t.shots }

func (p pooled) Waiting(part figure.WaitPart) float64 {
	var all result.Probes
	var of *result.Bystander
	for _, h := range p.f.inOrder[p.s] {
		if b := h.Bystander; b != nil {
			of = b
			all.Span, all.HeldUp = all.Span+b.Meanwhile.Span, all.HeldUp+b.Meanwhile.HeldUp
			all.Due, all.OK = all.Due+b.Meanwhile.Due, all.OK+b.Meanwhile.OK
			all.Longest = max(all.Longest, b.Meanwhile.Longest)
		}
	}
	if of == nil {
		return math.NaN()
	}
	return waiting(part, &all, of)
}

// What is not read over all shots is that of a heat: the middle one's, or the highest.

func (p pooled) Length() float64                  { return math.NaN() }
func (p pooled) Most(string) float64              { return math.NaN() }
func (p pooled) Started(figure.StartPart) float64 { return math.NaN() }
func (p pooled) FirstShot() float64               { return math.NaN() }
func (p pooled) Woken() float64                   { return math.NaN() }
func (p pooled) Held() float64                    { return math.NaN() }

// unlessNone is a figure of which 0 says that it is not known.
func unlessNone(x float64) float64 {
	if x == 0 {
		return math.NaN()
	}
	return x
}

// Value is a figure of a contender.
type Value struct {
	V         float64 // over all shots that count
	Low, High float64 // lower and upper quartile of its heats; NaN with under four
}

// shotsNeeded says how many shots a heat has to have for a figure.
func shotsNeeded(fig figure.Name, n int64) string {
	if _, stream, ok := fig.OfStream(); ok {
		return fmt.Sprintf("%s of %s a heat", units.Count(n), stream)
	}
	return units.Count(n) + " shots a heat"
}
