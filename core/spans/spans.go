// Package spans says what happens inside a shot: which steps it has, which of them wait for which, how much of the
// whole each is to blame for, and what the shot could take if less of it waited.
//
// A span is a named stretch of time, as requests of several legs, traces and lines with a time tell it. Everything here
// is plain computation over the spans of shots that are over; nothing reads a clock. Where spans come from is left to
// drivers and receivers, what is said of them to package judge.
package spans

import (
	"cmp"
	"slices"
	"time"
)

// Span is a named stretch of time within a shot; its times count from the shot's start.
type Span struct {
	Name       string
	Begin, End time.Duration
	Parent     int // place of the span that it is a part of, before its own; None: of the shot itself
	// Needs are the places of those whose results it needed. They mean something where its shot says that they are known.
	Needs []int
	// ID is under which a service may have parts of it, and At when it began on the run's clock; both for whoever looks
	// for these.
	ID [8]byte
	At time.Duration
	// CPU is the processor time that a process used, with those of its parts that it waited for; 0: not known.
	CPU time.Duration
}

// None is the parent of spans that are part of the shot itself.
const None = -1

func (s *Span) length() time.Duration { return s.End - s.Begin }

// Shot is the inside of one shot.
type Shot struct {
	Length time.Duration
	Spans  []Span // parents before their parts
	Known  bool   // whether Needs say all that spans need of each other
}

// MaxSpans is how many spans of one shot are looked into; of what has more, only these.
const MaxSpans = 20_000

// maxDepth is how deep parts lie within parts; what lies deeper belongs to what lies there.
const maxDepth = 100

// slack is by how much a span may seem to end after the next one began that waited for it: clocks of two programs, and
// times that were rounded to microseconds.
const slack = 50 * time.Microsecond

// tree is a shot made ready for looking into.
type tree struct {
	*Shot
	// parts of each span by their ends, and by their beginnings; of the shot itself under 0, of others under place + 1
	byEnd, byBegin [][]int
	ends           []time.Duration // of each span when it is replayed
}

// grow arranges the spans of a shot. Spans that do not lie within the shot are cut to it.
func grow(s *Shot) *tree {
	n := len(s.Spans)
	t := &tree{Shot: s, byEnd: make([][]int, n+1), byBegin: make([][]int, n+1), ends: make([]time.Duration, n)}
	depth := make([]int, n)
	for i := range s.Spans {
		sp := &s.Spans[i]
		sp.Begin = min(max(sp.Begin, 0), s.Length)
		sp.End = min(max(sp.End, sp.Begin), s.Length)
		if sp.Parent >= i || sp.Parent < None {
			sp.Parent = None
		}
		if p := sp.Parent; p != None {
			if depth[i] = depth[p] + 1; depth[i] > maxDepth {
				sp.Parent, depth[i] = s.Spans[p].Parent, maxDepth
			}
		}
		t.byEnd[sp.Parent+1] = append(t.byEnd[sp.Parent+1], i)
	}
	for i, p := range t.byEnd {
		t.byBegin[i] = slices.Clone(p)
		slices.SortStableFunc(p, func(a, b int) int {
			return cmp.Or(cmp.Compare(s.Spans[a].End, s.Spans[b].End), cmp.Compare(s.Spans[b].Begin, s.Spans[a].Begin))
		})
		slices.SortStableFunc(t.byBegin[i], func(a, b int) int { return cmp.Compare(s.Spans[a].Begin, s.Spans[b].Begin) })
	}
	return t
}

// Piece is a stretch of the critical path: of the span at a place, or of the shot itself where that is None.
type Piece struct {
	Span       int
	Begin, End time.Duration
}

// CriticalPath is the chain of waiting that a shot's length comes from, from its end to its start: of what was going on
// within something, it follows what ended last before that could go on, then what ended last before that began. What no
// part covers is the thing's own. The pieces lie end to end and add up to the length.
//
// It is the critical path of a trace as by Z. Zhang et al., "CRISP: Critical Path Analysis of Large-Scale Microservice
// Architectures", USENIX ATC 2022.
func (s *Shot) CriticalPath() []Piece {
	t := grow(s)
	var path []Piece
	t.walk(None, 0, s.Length, &path)
	slices.Reverse(path)
	return path
}

// walk follows the path within a span from one moment back to another. A part that was still under way when the one
// after it on the path began has not been waited for.
func (t *tree) walk(span int, from, to time.Duration, path *[]Piece) {
	for _, p := range t.links(span, from, to) {
		if p.Span == span {
			*path = append(*path, p)
		} else {
			t.walk(p.Span, p.Begin, p.End, path)
		}
	}
}

// links are what the path within a span consists of, from its end to its start: parts of it, and what is its own.
func (t *tree) links(span int, from, to time.Duration) (out []Piece) {
	at := to
	parts := t.byEnd[span+1]
	for i := len(parts) - 1; i >= 0 && at > from; i-- {
		part := &t.Spans[parts[i]]
		if part.End > at+slack || part.End <= from || part.length() == 0 {
			continue
		}
		end := min(part.End, at)
		if end < at {
			out = append(out, Piece{span, end, at})
		}
		at = min(max(part.Begin, from), end)
		out = append(out, Piece{parts[i], at, end})
	}
	if at > from {
		out = append(out, Piece{span, from, at})
	}
	return out
}

// Step is all spans of one name within the same step, of one shot.
type Step struct {
	Name   string
	Parent int // place of the step that it is a part of, before its own; None: of the shot itself
	Count  int
	// Total is what its spans took, added up, and Own what of that no part of theirs covered. Covered is the time in which
	// at least one of them was under way.
	Total, Own, Covered time.Duration
	Begin, End          time.Duration // of its first and its last
	CPU                 time.Duration // used by its spans, as far as it is known
	OnPath              time.Duration // how much of the critical path it, with its parts, is
	AtOnce              int           // how many of them were under way together, at most
	// Needs are the places of the steps whose spans its own need, itself among them where they need each other.
	Needs []int
}

// Inside is what became of one shot.
type Inside struct {
	Length time.Duration
	Steps  []Step // by when they first began, parts after what they are parts of
	// Added is what the innermost spans took, added up; where a span has parts, its own time stands beside theirs.
	Added time.Duration
	// Idle is the time in which nothing was under way.
	Idle time.Duration
	// Together is what the shot could take if whatever needs nothing of each other ran together. Where needs are not known
	// it is taken that nothing needs what stands beside it.
	Together time.Duration
	// Halved is by step what the shot could take if each span of it took half; 0: not computed.
	Halved []time.Duration
	of     []int // the step of each span
	onPath []time.Duration
}

// OnPath is how much of the critical path a span of the shot, with its parts, is.
func (in *Inside) OnPath(span int) time.Duration { return in.onPath[span] }

// Of is the step that a span of the shot belongs to.
func (in *Inside) Of(span int) int { return in.of[span] }

// mostHalved is for how many steps it is computed what half of them would bring: those that the path owes most to.
const mostHalved = 12

// Look looks into a shot. It sorts nothing and cuts spans to the shot's length in place.
func Look(s *Shot) *Inside {
	if len(s.Spans) > MaxSpans {
		s.Spans = s.Spans[:MaxSpans]
	}
	t := grow(s)
	in := &Inside{Length: s.Length, of: make([]int, len(s.Spans))}
	in.fold(t)
	var path []Piece
	t.walk(None, 0, s.Length, &path)
	in.onPath = make([]time.Duration, len(s.Spans))
	for _, p := range path {
		for at := p.Span; at != None; at = s.Spans[at].Parent {
			in.onPath[at] += p.End - p.Begin
			in.Steps[in.of[at]].OnPath += p.End - p.Begin
		}
	}
	in.Idle = s.Length - covered(t, t.byEnd[0])
	in.Together = t.together(None)
	in.Halved = make([]time.Duration, len(in.Steps))
	for _, step := range in.foremost() {
		in.Halved[step] = t.halved(func(span int) bool { return in.of[span] == step })
	}
	return in
}

// foremost are the places of the steps that the path owes most to.
func (in *Inside) foremost() (out []int) {
	for i := range in.Steps {
		if in.Steps[i].OnPath > 0 {
			out = append(out, i)
		}
	}
	slices.SortStableFunc(out, func(a, b int) int { return cmp.Compare(in.Steps[b].OnPath, in.Steps[a].OnPath) })
	return out[:min(len(out), mostHalved)]
}

// fold makes steps of spans.
func (in *Inside) fold(t *tree) {
	type key struct {
		parent int
		name   string
	}
	at := map[key]int{}
	spans := map[int][]int{} // of each step
	for i := range t.Spans {
		sp := &t.Spans[i]
		parent := None
		if sp.Parent != None {
			parent = in.of[sp.Parent]
		}
		k := key{parent, sp.Name}
		step, ok := at[k]
		if !ok {
			step = len(in.Steps)
			at[k] = step
			in.Steps = append(in.Steps, Step{Name: sp.Name, Parent: parent, Begin: sp.Begin, End: sp.End})
		}
		in.of[i] = step
		spans[step] = append(spans[step], i)
		own := sp.length() - covered(t, t.byEnd[i+1])
		st := &in.Steps[step]
		st.Count++
		st.Total += sp.length()
		st.Own += own
		st.CPU += sp.CPU
		st.Begin, st.End = min(st.Begin, sp.Begin), max(st.End, sp.End)
		in.Added += own
	}
	for step := range in.Steps {
		slices.SortFunc(spans[step], func(a, b int) int { return cmp.Compare(t.Spans[a].End, t.Spans[b].End) })
		in.Steps[step].Covered = covered(t, spans[step])
		in.Steps[step].AtOnce = atOnce(t, spans[step])
	}
	in.order()
	in.needs(t)
}

// needs enters which steps need which.
func (in *Inside) needs(t *tree) {
	for i := range t.Spans {
		st := &in.Steps[in.of[i]]
		for _, need := range t.Spans[i].Needs {
			if need < 0 || need >= len(in.of) {
				continue
			}
			if of := in.of[need]; !slices.Contains(st.Needs, of) {
				st.Needs = append(st.Needs, of)
			}
		}
	}
}

// order puts steps in the order in which they first began, parts after what they are parts of.
func (in *Inside) order() {
	parents := make([]int, len(in.Steps))
	for i := range in.Steps {
		parents[i] = in.Steps[i].Parent
	}
	to := Ordered(parents, func(a, b int) int { return cmp.Compare(in.Steps[a].Begin, in.Steps[b].Begin) })
	sorted := make([]Step, len(in.Steps))
	for i, place := range to {
		sorted[place] = in.Steps[i]
		if p := in.Steps[i].Parent; p != None {
			sorted[place].Parent = to[p]
		}
	}
	in.Steps = sorted
	for i := range in.of {
		in.of[i] = to[in.of[i]]
	}
}

// covered is the time in which at least one of some spans was under way, whose places come by their ends.
func covered(t *tree, places []int) (sum time.Duration) {
	begin, end := time.Duration(-1), time.Duration(-1)
	for i := len(places) - 1; i >= 0; i-- { // from the last to end backwards
		sp := &t.Spans[places[i]]
		switch {
		case begin < 0:
			begin, end = sp.Begin, sp.End
		case sp.End >= begin:
			begin = min(begin, sp.Begin)
		default:
			sum += end - begin
			begin, end = sp.Begin, sp.End
		}
	}
	if begin >= 0 {
		sum += end - begin
	}
	return sum
}

// atOnce is how many of some spans were under way together, at most. What overlaps by no more than clocks may be off
// was not together.
func atOnce(t *tree, byEnd []int) (most int) {
	byBegin := slices.Clone(byEnd)
	slices.SortFunc(byBegin, func(a, b int) int { return cmp.Compare(t.Spans[a].Begin, t.Spans[b].Begin) })
	ended := 0
	for i, place := range byBegin {
		for ended < len(byEnd) && t.Spans[byEnd[ended]].End <= t.Spans[place].Begin+slack && ended < i {
			ended++
		}
		most = max(most, i+1-ended)
	}
	return most
}

// together is what a span could take if its parts ran together as far as they may.
func (t *tree) together(span int) time.Duration {
	parts := t.byEnd[span+1]
	length := t.Length
	from := time.Duration(0)
	if span != None {
		length, from = t.Spans[span].length(), t.Spans[span].Begin
	}
	if len(parts) == 0 {
		return length
	}
	longest := time.Duration(0)
	if t.Known && span == None {
		done := map[int]time.Duration{}
		byPlace := slices.Clone(parts)
		slices.Sort(byPlace) // what is needed stands before what needs it
		for _, p := range byPlace {
			start := time.Duration(0)
			for _, need := range t.Spans[p].Needs {
				start = max(start, done[need])
			}
			done[p] = start + t.together(p)
			longest = max(longest, done[p])
		}
	} else {
		for _, p := range parts {
			longest = max(longest, t.together(p))
		}
	}
	own := time.Duration(0)
	for _, p := range t.links(span, from, from+length) {
		if p.Span == span {
			own += p.End - p.Begin
		}
	}
	return min(own+longest, length)
}

// halved is what the shot could take if the spans that of picks took half as long, and everything else went on waiting
// for what it had waited for: a span begins as long after the last that had ended before it as it did.
func (t *tree) halved(of func(span int) bool) time.Duration {
	return t.replay(None, 0, t.Length, of)
}

// replay is how long a span takes under that rule.
func (t *tree) replay(span int, from, to time.Duration, of func(int) bool) time.Duration {
	if span != None && of(span) {
		return (to - from) / 2
	}
	byEnd := t.byEnd[span+1]
	if len(byEnd) == 0 {
		return to - from
	}
	for _, p := range byEnd {
		t.ends[p] = -1
	}
	// Moments count from the span's own new start: that of the latest to have ended so far, and of the very latest.
	waited, latest := time.Duration(0), time.Duration(0)
	ended, last := 0, from
	for _, p := range t.byBegin[span+1] {
		part := &t.Spans[p]
		for ended < len(byEnd) && t.Spans[byEnd[ended]].End <= part.Begin+slack && t.ends[byEnd[ended]] >= 0 {
			last, waited = t.Spans[byEnd[ended]].End, max(waited, t.ends[byEnd[ended]])
			ended++
		}
		begin := waited + max(part.Begin-last, 0)
		t.ends[p] = begin + t.replay(p, part.Begin, part.End, of)
		latest = max(latest, t.ends[p])
	}
	return latest + max(to-t.Spans[byEnd[len(byEnd)-1]].End, 0)
}
