package traces

import (
	"cmp"
	"slices"
	"time"

	"paceduel/core/spans"
)

// Shot is a sampled shot, as the spans that came of it are found and placed.
type Shot struct {
	Trace      [16]byte
	Start, End time.Duration // on the run's clock
	Length     time.Duration // its latency
	// Spans are those that the client knows itself, with their identifiers; none for a single request, whose identifier
	// is the second half of the trace's.
	Spans []spans.Span
	Known bool // whether their needs are
}

// Report is what became of the sampled shots of a heat.
type Report struct {
	Sampled int64 // shots
	Lost    int64 // of these, shots of which no span came
	Orphans int64 // spans whose parent did not come; they stand in the shot itself
	// Shifted is by how much the clock of a process was off from ours at most: its spans did not lie within what they are
	// part of, and were put into its middle.
	Shifted time.Duration
	// Grain is that of the coarsest clock among those that sent spans: their beginnings are told in multiples of it; 0
	// where all are exact. Spans are then put one after another where that can be.
	Grain  time.Duration
	Counts // of what came since the last report
}

// clocks may differ by so much before spans are moved: what is rounded to microseconds, and a socket's buffer.
const sameClock = 20 * time.Microsecond

// grains are those in which some clocks tell the beginning of spans: JavaScript has milliseconds alone.
var grains = []time.Duration{time.Millisecond, 100 * time.Microsecond, 10 * time.Microsecond}

// grainOf is that of the spans of a shot; 0 where they begin at any nanosecond.
func grainOf(sent []span) time.Duration {
	for _, grain := range grains {
		if !slices.ContainsFunc(sent, func(s span) bool { return s.begin%int64(grain) != 0 }) {
			return grain
		}
	}
	return 0
}

// Gather gives each shot of a contender what came of it. Shots of which nothing came are left out. before is what had
// come when the heat began.
func (r *Receiver) Gather(p Prefix, shots []Shot, before Counts) (inside []spans.Shot, report Report) {
	chosen := make(map[[16]byte]bool, len(shots))
	for i := range shots {
		chosen[shots[i].Trace] = true
	}
	came := r.takeOut(p, chosen)
	// Civil time may have been set since the clock was started.
	zero := time.Now().UnixNano() - int64(r.clock.Now())
	report.Sampled = int64(len(shots))
	circles := int64(0)
	for i := range shots {
		t := came[shots[i].Trace]
		if t == nil {
			report.Lost++
			continue
		}
		g := gathering{shot: &shots[i], zero: zero, shift: map[string]time.Duration{}, report: &report}
		inside = append(inside, g.gather(t))
		circles += g.circles
	}
	report.Counts = r.Counts().minus(before)
	report.Broken += circles
	return inside, report
}

// gathering is one shot that gets its spans.
type gathering struct {
	shot   *Shot
	zero   int64
	shift  map[string]time.Duration // of a process's clock
	report *Report
	out    []spans.Span
	parts  map[[8]byte][]int // of a span, by its identifier
	sent   []span
	grain  time.Duration
	// circles counts spans that are part of each other in a circle, and so of nothing.
	circles int64
}

// ourselves stands for the process that shots are performed by, which none that sends spans is called.
const ourselves = "\x00"

// frame is what a span lies within: on the run's clock, and by how much the shot's own time differs from that.
type frame struct {
	place      int // in out
	begin, end time.Duration
	own        time.Duration // to be added
	process    string
}

func (g *gathering) gather(t *trace) spans.Shot {
	g.sent, g.parts, g.grain = t.spans, map[[8]byte][]int{}, grainOf(t.spans)
	for i := range g.sent {
		g.parts[g.sent[i].parent] = append(g.parts[g.sent[i].parent], i)
	}
	if g.grain == 0 { // else they stand in the order in which they ended, as they were sent
		for _, list := range g.parts {
			slices.SortFunc(list, func(a, b int) int { return cmp.Compare(g.sent[a].begin, g.sent[b].begin) })
		}
	}
	g.report.Grain = max(g.report.Grain, g.grain)
	s := g.shot
	late := s.Length - (s.End - s.Start)
	if len(s.Spans) > 0 { // pauses were taken out of them; what lies between them has no place of its own
		late = 0
	}
	whole := frame{place: spans.None, begin: s.Start, end: s.End, own: late - s.Start, process: ourselves}
	g.out = append(g.out, s.Spans...)
	if len(s.Spans) == 0 {
		g.under([8]byte(s.Trace[8:]), whole)
	}
	for i, own := range s.Spans {
		g.under(own.ID, frame{
			place: i, begin: own.At, end: own.At + own.End - own.Begin, own: own.Begin - own.At,
			process: ourselves,
		})
	}
	// What is left has parents that did not come, or none.
	for i := range g.sent {
		parent := g.sent[i].parent
		if n := len(g.parts[parent]); n > 0 && !t.have[parent] {
			g.report.Orphans += int64(n)
			g.under(parent, whole)
		}
	}
	for _, list := range g.parts {
		g.circles += int64(len(list))
	}
	return spans.Shot{Length: s.Length, Spans: g.out, Known: s.Known && len(s.Spans) > 0}
}

// under places all spans that are part of one, and theirs. Each is placed once, so that circles end.
func (g *gathering) under(parent [8]byte, in frame) {
	type task struct {
		parent [8]byte
		in     frame
	}
	todo := []task{{parent, in}}
	for len(todo) > 0 {
		next := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		list := g.parts[next.parent]
		delete(g.parts, next.parent)
		last := next.in.begin // when the latest of them ended
		for _, i := range list {
			own := g.place(&g.sent[i], next.in, last)
			last = max(last, own.end)
			todo = append(todo, task{g.sent[i].id, own})
		}
	}
}

// unrounded is where a span most likely began whose clock tells its beginning in whole grains and its length exactly:
// where the one before it ended, if that can be and it then ends within what it is part of; else beside it.
func unrounded(begin, long, grain time.Duration, in frame, last time.Duration) time.Duration {
	low := min(max(begin, in.begin), begin+grain)
	switch {
	case last <= low:
		return low
	case last < begin+grain && last+long <= in.end+sameClock:
		return last
	}
	return max(low, min(last-long, begin+grain))
}

// place puts a span into what it lies within. A process whose clock is off is moved as a whole, by what the first span
// of it takes to lie in the middle of what it is part of.
func (g *gathering) place(s *span, in frame, last time.Duration) frame {
	begin, end := time.Duration(s.begin-g.zero), time.Duration(s.end-g.zero)
	if s.process != in.process {
		if _, known := g.shift[s.process]; !known {
			by := time.Duration(0)
			if off := sameClock + g.grain; begin < in.begin-off || end > in.end+off {
				by = in.begin - begin
				if room := (in.end - in.begin) - (end - begin); room > 0 {
					by += room / 2
				}
				g.report.Shifted = max(g.report.Shifted, max(by, -by))
			}
			g.shift[s.process] = by
		}
	}
	by := g.shift[s.process]
	begin, end = begin+by, end+by
	if g.grain > 0 {
		begin = unrounded(begin, end-begin, g.grain, in, last)
		end = begin + time.Duration(s.end-s.begin)
	}
	g.out = append(g.out, spans.Span{
		Name: s.name, Begin: begin + in.own, End: end + in.own, Parent: in.place,
	})
	return frame{place: len(g.out) - 1, begin: begin, end: end, own: in.own, process: s.process}
}
