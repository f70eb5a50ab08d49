package rounds

import (
	"cmp"
	"slices"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"paceduel/core/contender"
	"paceduel/core/meter"
	"paceduel/core/pace"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/tally"
)

// recorderSet are the recorders of a heat, one for each client or one for a crew: of its warm-up, of its judged part,
// and of the shot after a silence.
type recorderSet struct {
	warm, judged []*tally.Recorder
	woken        *tally.Recorder
}

// recorderKey is for how many a set is, of which shape their shots are, and how many of these each can keep.
type recorderKey struct {
	n     int
	shape *shots.Shape
	keep  int
}

// recorders returns a set of n for each part of a heat, emptied.
func (h *heat) recorders(n int) *recorderSet {
	r := h.r
	keep := tally.MaxShots
	if r.cfg.OnShots == nil {
		keep = mostDrawn
	}
	if p := h.at.plan.Pace; max(p.Repeat, p.Shots) > 0 {
		keep = min(keep, max(p.Repeat, p.Shots))
	}
	if r.hand != nil {
		keep = max(keep/r.hand.parts, leastDots)
	}
	key := recorderKey{n, h.entry.Shape, keep}
	set := r.sets[key]
	if set == nil {
		r.dropLarge(key)
		set = r.makeRecorders(key)
		r.sets[key] = set
	}
	set.woken.Reset(0)
	sorted, _ := h.entry.Driver.(contender.Sorted)
	for i := range n {
		set.warm[i].Reset(0)
		set.judged[i].Reset(r.result.Seed + uint64(r.done*n+i))
		if sorted != nil {
			set.judged[i].Sort(sorted.Sorts())
		}
	}
	return set
}

// mostDrawn is how many shots of a heat are kept one by one when nobody wants them but for the picture, which shows
// fewer.
const mostDrawn = 8 * mostDots

func (r *runner) makeRecorders(key recorderKey) *recorderSet {
	n, shape, keep, ring := key.n, key.shape, key.keep, ringOf(key.n)
	all := n // who record the heat, those elsewhere among them
	if r.hand != nil {
		all *= r.hand.parts
	}
	if r.cfg.Glance < 0 {
		ring = 1
	}
	set := &recorderSet{woken: tally.NewRecorder(shape, 0, 1)}
	for range n {
		set.warm = append(set.warm, tally.NewRecorder(shape, 0, ring).KeepFirst(tally.MaxEarly/all).KeepInsides(unjudged))
		set.judged = append(set.judged, tally.NewRecorder(shape, keep/n+1, ring).KeepFirst(tally.MaxEarly/all).KeepInsides(
			tally.MaxInsides/all+1))
	}
	return set
}

// unjudged is of how many runs of each client's warm-up it is kept what happened inside.
const unjudged = 8

// ringOf is how many shots of each of n recorders a watcher can look back on.
func ringOf(n int) int { return max(1<<14/n, 64) }

// record turns what is known of a heat that is over into the document's heat.
func (h *heat) record() (result.Heat, error) {
	m, p := tally.Merge(h.judged), h.at.plan.Pace
	doc := result.Heat{
		Round: h.round, Cell: h.cell, At: h.span.Start, Wall: h.span.End - h.span.Start, Clients: pace.Clients(p),
		OK: m.Counts[shots.OK], LatencySum: m.Latency, Busy: max(
			m.Elapsed-h.span.Aside, 0,
		), Sent: m.Sent, Received: m.Received,
		LeftBehind: m.LeftBehind +
			h.swept, Service: h.service, Sampled: h.sampled, Conditions: result.Conditions(h.conditions),
		Costs: h.seen.Costs, Changes: h.seen.Changes, Starts: append(h.seen.Starts, h.starts...),
		ColdLeft: h.seen.Check.ColdLeft, WarmLacks: h.seen.Check.WarmMissing, Unfilled: h.seen.Check.Unfilled,
	}
	least := leastDots
	if h.at.point != "" {
		least = leastSwept
	}
	dots := min(max(allDots/max(h.r.result.Planned(), 1), least), mostDots)
	doc.Dots = pick(tally.Points(h.judged), dots)
	var marks plan.Marks
	if s, ok := h.entry.Contender.Settings.(plan.Marker); ok {
		marks = s.Marked()
	}
	if h.at.point != "" {
		for i := range m.Parts {
			if !m.Parts[i].Told {
				m.Parts[i].Histogram = coarse(m.Parts[i].Histogram)
			}
		}
	}
	if err := encode(&doc, m, h.span.UnsentAt, marks, h.entry.Shape.ToldMore); err != nil {
		return result.Heat{}, err
	}
	doc.Backlog, doc.Shares = h.piled, h.shares
	if err := cmp.Or(h.inside(&doc), h.watching.document(&doc)); err != nil {
		return result.Heat{}, err
	}
	doc.Course = thinned(len(m.Course), func(i int) result.Moment { return result.Moment(m.Course[i]) })
	h.timed(&doc, m, p)
	h.amounts(&doc, m)
	if h.account != nil {
		doc.Account, doc.AccountShots = h.account, doc.Warmup+m.Shots()+h.woken.Total()
	}
	doc.QueryPlan = h.queryPlan
	for class := shots.Cut + 1; class < shots.Classes; class++ {
		if n := m.Counts[class]; n > 0 {
			if doc.Failures == nil {
				doc.Failures = map[string]int64{}
			}
			doc.Failures[class.String()] = n
		}
	}
	doc.Causes = append(doc.Causes, m.Causes...)
	h.streams(&doc, m)
	h.beginnings(&doc)
	if s := h.entry.Ground.Service; s != nil && s.Fresh != plan.EveryRun && len(doc.Starts) > 0 {
		h.follow(&doc, &doc.Starts[len(doc.Starts)-1])
	}
	if h.r.cfg.OnShots != nil {
		kept, sampled := tally.Kept(h.judged)
		h.r.cfg.OnShots(&doc, h.entry.Shape, kept, sampled)
	}
	return doc, nil
}

// streams says which of what shots tell has percentiles of its own: effects of relays, sorts of shots.
func (h *heat) streams(doc *result.Heat, m *tally.Merged) {
	var names []string
	if s, ok := h.entry.Contender.Settings.(plan.Streaming); ok {
		names = s.Streams()
	}
	for _, s := range m.Sorts {
		doc.Sorts = append(doc.Sorts, result.Sort(s))
		names = append(names, s.Name)
	}
	for i := range doc.Splits {
		s := &doc.Splits[i]
		s.Stream = s.Stream || s.Told && slices.Contains(names, s.Name)
	}
}

// coarseDigits are those that our own parts of latencies keep in a sweep, which has so many heats that they weigh more
// than all else. Latencies themselves, and what contenders tell, keep theirs.
const coarseDigits = 2

func coarse(h *hdrhistogram.Histogram) *hdrhistogram.Histogram {
	out := hdrhistogram.New(h.LowestTrackableValue(), h.HighestTrackableValue(), coarseDigits)
	for _, bar := range h.Distribution() {
		if bar.Count > 0 {
			out.RecordValues((bar.From+bar.To)/2, bar.Count) // within the same range
		}
	}
	return out
}

// encode writes the histograms; marks are those of the plan that the contender has, more what its kind tells of which
// more is better.
func encode(doc *result.Heat, m *tally.Merged, unsentAt []int64, marks plan.Marks, more []string) (err error) {
	if doc.Latencies, err = result.EncodeHistogram(m.Latencies); err != nil {
		return err
	}
	for _, p := range m.Parts {
		split := result.Split{Name: p.Name, Told: p.Told, Sum: p.Sum}
		if p.Told {
			split.Unit, split.PerUnit = p.Unit, p.PerUnit
			split.More = marks[p.Name].MoreIsBetter() || slices.Contains(more, p.Name)
			split.Rate = marks[p.Name].ByTheSecond()
		}
		if split.Lengths, err = result.EncodeHistogram(p.Histogram); err != nil {
			return err
		}
		doc.Splits = append(doc.Splits, split)
	}
	for _, b := range m.Buckets {
		doc.Buckets = append(doc.Buckets, result.Bucket{b.Shots, b.Failed, int64(b.Latency), int64(b.Max)})
	}
	for i, st := range m.Steps {
		own := result.Step{OK: st.Histogram.TotalCount(), Failed: st.Failed}
		if i < len(unsentAt) {
			own.Unsent = unsentAt[i]
		}
		if own.Latencies, err = result.EncodeHistogram(st.Histogram); err != nil {
			return err
		}
		doc.Steps = append(doc.Steps, own)
	}
	return nil
}

// timed says over which time throughput is, and at a set rate what became of shots that were due.
func (h *heat) timed(doc *result.Heat, m *tally.Merged, p plan.Pace) {
	busy := h.span.Busy
	if p.Think > 0 || p.Stagger > 0 || p.Climb != nil {
		doc.Busy, busy = doc.Wall*time.Duration(doc.Clients), 1 // who thinks, or has not joined yet, is there
	}
	if p.Open() {
		doc.Due, doc.Unsent = m.Shots()+h.span.Unsent, h.span.Unsent
		doc.LagP50, doc.LagP99, doc.LagMax, doc.Late = m.Lags.Quantile(0.5), m.Lags.Quantile(0.99), m.Lags.Max, m.Lags.Late
		doc.Busy = doc.Wall * time.Duration(doc.Clients) // throughput is what was answered within the heat
	} else if busy > 1 {
		doc.Busy = busy
	}
	for i, w := range h.warm {
		doc.Warmup += w.Total()
		if h.judged[i].Total() == 0 && busy == 0 {
			doc.Busy += doc.Wall // a client that found nothing left to do was there all the same
		}
	}
}

// amounts enters what was counted: of the kind what its shape declares, of a kind that starts no processes what its
// service used. The most memory is known of shots that were not judged.
func (h *heat) amounts(doc *result.Heat, m *tally.Merged) {
	shape := h.entry.Shape
	for i := range shape.Amounts {
		if n := m.Amounts[i]; n != 0 || shape.Amounts[i].Name == shots.CPU {
			doc.SetAmount(shape.Amounts[i].Name, n)
		}
	}
	doc.PeakGrain = m.Grain
	if s := h.service; s != nil && shape.Amount(shots.CPU) < 0 {
		doc.SetAmount(shots.CPU, int64(s.CPU))
		doc.SetAmount(shots.Memory, s.Peak)
		if s.Exact { // the kernel's mark
			doc.PeakGrain = meter.MarkGrain()
		}
	}
	if l := h.library; l != nil {
		doc.SetAmount(shots.CPU, int64(l.used))
		doc.SetAmount(shots.Memory, l.Held())
	}
	if at := shape.Amount(shots.Memory); at >= 0 {
		for _, w := range h.warm {
			if w.Amounts[at] > doc.Peak() {
				doc.SetAmount(shots.Memory, w.Amounts[at])
				doc.PeakGrain = w.Grain
			}
		}
	}
}
