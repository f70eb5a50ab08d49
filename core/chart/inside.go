package chart

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"paceduel/core/cell"
	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Typical is no single shot, but what the shots of a contender have in the middle.
const Typical = "typical"

// Whose are the shots that may be shown, in the order in which one leads to the next.
var Whose = []string{Typical, result.AtMiddle, result.AtP90, result.AtP99, result.AtSlowest}

// Inside is the picture of what happens in a shot of each contender: its steps in rows from a common zero, what is on
// the critical path set off from what is not.
type Inside struct {
	Title, Sentence, Note string
	Conditions            []string
	Which                 string // shot, one of Whose
	Scale                 Scale  // of the whole
	From, To              float64
	Ticks                 []Tick // of what is in view
	Lanes                 []InsideLane
	Line                  float64 // what is read off, in seconds
	Deepest               int     // how deep the deepest steps lie
}

// InsideLane is one contender in one state of caches.
type InsideLane struct {
	Side
	State string
	Took  string      // the shot
	Rows  []InsideRow // none where nothing is known
	Lacks string      // why there are none, where it is known what happens inside
	Read  string      // what is under way at the line, in words
	Notes []string    // what the sums come to
}

// InsideRow is a step, or one that has others folded into it.
type InsideRow struct {
	Label  string
	Depth  int
	Folded int // how many steps within it are not shown
	Bars   []InsideBar
	// Early and Late are where the step began in a quarter of the shots and ended in three quarters; equal to the bar's
	// ends for a real shot.
	Early, Late float64
	Took        string // its spans, added up
	Count       string // how often it is done, and how; empty: once
	Path        string // its share of the critical path; empty: none
	Apart       bool   // it is told how long it took and not when: it is drawn from zero
	begin, end  float64
	onPath      float64
}

// InsideBar is a stretch, 0 to 1 of what is in view.
type InsideBar struct {
	From, To float64
	OnPath   bool
}

// AllSteps is a depth at which nothing is folded.
const AllSteps = 100

// InsideLook is what of a picture of the inside is in view.
type InsideLook struct {
	Which    string  // of the shots; empty: the typical one
	Depth    int     // steps that lie deeper are folded
	From, To float64 // of the scale; both 0: all
	Line     float64 // what is read off, 0 to 1 of what is in view
}

// window is the stretch of the scale in view.
func (l InsideLook) window() (from, to float64) {
	if l.To <= l.From {
		return 0, 1
	}
	return l.From, l.To
}

// Zoom halves or doubles what is in view around the line.
func (l InsideLook) Zoom(in bool) InsideLook {
	from, to := l.window()
	at := from + l.Line*(to-from)
	half := (to - from)
	if in {
		half /= 4
	}
	const least = 0.001
	half = max(half, least/2)
	l.From, l.To = at-half, at+half
	if l.From < 0 {
		l.From, l.To = 0, l.To-l.From
	}
	if l.To > 1 {
		l.From, l.To = max(l.From-(l.To-1), 0), 1
	}
	l.Line = (at - l.From) / (l.To - l.From)
	return l
}

// Move moves the line by a share of what is in view, which follows it.
func (l InsideLook) Move(by float64) InsideLook {
	from, to := l.window()
	l.Line += by
	switch over := l.Line - 1; {
	case l.Line < 0 && from > 0:
		shift := min(-l.Line*(to-from), from)
		l.From, l.To = from-shift, to-shift
	case over > 0 && to < 1:
		shift := min(over*(to-from), 1-to)
		l.From, l.To = from+shift, to+shift
	}
	l.Line = clamp(l.Line)
	return l
}

// NewInside arranges what happens in the contenders' shots.
func NewInside(r *result.Result, v *judge.Verdict, look InsideLook) *Inside {
	p := &Inside{
		Title: r.Plan.Name, Conditions: Conditions(r, v), Which: look.Which,
		Note: "heavy: on the critical path, the chain of waiting that the latency comes from, of which each step is so " +
			"many per cent. It is drawn from where it begins in the middle to where it ends; faint ends: from a quarter of " +
			"the shots to three quarters.",
	}
	if p.Which == "" {
		p.Which = Typical
	}
	if p.Which != Typical {
		p.Note = "one real shot of each; heavy: on the critical path, the chain of waiting that the latency comes from."
	}
	longest := 0.0
	for i, e := range r.Entrants {
		for _, state := range r.States() {
			lane := InsideLane{Side: Side{e.Name, SignOf(i), e.Name == r.Plan.Baseline}, State: state}
			in := v.Insides[cell.Of(e.Name, state)]
			length := 0.0
			if in != nil && p.Which == Typical {
				length = lane.typical(in, look.Depth)
				p.Deepest = max(p.Deepest, deepest(in))
			} else if in != nil {
				length = lane.real(r, in, p.Which, look.Depth)
				p.Deepest = max(p.Deepest, deepest(in))
			}
			if p.Which == Typical {
				length = max(length, lane.told(v.Told[cell.Of(e.Name, state)], v.Lanes[cell.Of(e.Name, state)].P50))
			}
			longest = max(longest, length)
			p.Lanes = append(p.Lanes, lane)
		}
	}
	p.Sentence = insideSentence(r, v)
	p.Scale = NewScale([]float64{longest}, false, units.Seconds)
	p.From, p.To = look.window()
	p.place(look.Line)
	return p
}

func deepest(in *judge.Inside) (n int) {
	for i := range in.Steps {
		n = max(n, in.Steps[i].Depth)
	}
	return n
}

// place puts all rows onto the stretch of the scale in view, and reads off the line.
func (p *Inside) place(line float64) {
	from, span := p.From*p.Scale.Max, (p.To-p.From)*p.Scale.Max
	at := func(v float64) float64 { return clamp((v - from) / span) }
	p.Line = from + line*span
	step := roundUp(span / (maxTicks - 1))
	for v := math.Ceil(from/step-1e-9) * step; v <= from+span*(1+1e-9); v += step {
		p.Ticks = append(p.Ticks, Tick{at(v), units.Trim(units.Seconds(v))})
	}
	for i := range p.Lanes {
		lane := &p.Lanes[i]
		var under []string
		for j := range lane.Rows {
			row := &lane.Rows[j]
			there := false
			for k := range row.Bars {
				b := &row.Bars[k]
				there = there || b.From <= p.Line && p.Line < b.To
				b.From, b.To = at(b.From), at(b.To)
			}
			row.Early, row.Late = at(row.Early), at(row.Late)
			if there && (j+1 == len(lane.Rows) || lane.Rows[j+1].Depth <= row.Depth || !lane.Rows[j+1].covers(p.Line)) {
				under = append(under, row.Label)
			}
		}
		switch {
		case len(lane.Rows) == 0:
		case len(under) > 0:
			lane.Read = units.List(under)
		case p.Line > lane.length():
			lane.Read = "done"
		default:
			lane.Read = "nothing"
		}
	}
}

func (r *InsideRow) covers(at float64) bool { return r.begin <= at && at < r.end }

func (l *InsideLane) length() (end float64) {
	for i := range l.Rows {
		end = max(end, l.Rows[i].end)
	}
	return end
}

// typical enters the steps of a contender's typical shot and returns its length in seconds.
func (l *InsideLane) typical(in *judge.Inside, depth int) float64 {
	l.Took = units.Seconds(in.Length.V)
	for i := range in.Steps {
		s := &in.Steps[i]
		if s.Depth > depth {
			continue
		}
		row := InsideRow{
			Label: s.Name, Depth: s.Depth, Early: s.Begin[0], Late: s.End[2], begin: s.Begin[1], end: s.End[1],
			Took: units.Seconds(s.Total.V), Count: countOf(s.Count, s.AtOnce), onPath: s.OnPath.V,
		}
		row.Bars = []InsideBar{{s.Begin[1], s.End[1], s.OnPath.V > 0.5*s.Covers.V}}
		if s.OnPath.V > 0 {
			row.Path = pathShare(s.OnPath.V / in.Mean.V)
		}
		if s.CPU.V > 0 {
			row.Count = strings.TrimPrefix(row.Count+", CPU "+units.Seconds(s.CPU.V), ", ")
		}
		if s.Depth == depth {
			row.Folded = stepsWithin(in, i)
		}
		l.Rows = append(l.Rows, row)
	}
	if notable(in) {
		l.gaps(in.Length.V, in.Idle.V)
	}
	l.Notes = insideNotes(in)
	return max(in.Length.V, l.length())
}

// told adds what shots tell of their time without saying when, and returns what half of the shots take, where there is
// any of it.
func (l *InsideLane) told(times []judge.ToldTime, p50 float64) float64 {
	for _, t := range times {
		l.Rows = append(l.Rows, InsideRow{
			Label: t.Name, Bars: []InsideBar{{0, t.V, false}}, Late: t.V, end: t.V, Took: units.Seconds(t.V), Apart: true,
			Count: "told without when",
		})
	}
	if len(times) == 0 || math.IsNaN(p50) {
		return 0
	}
	if l.Took == "" {
		l.Took = units.Seconds(p50)
	}
	return p50
}

// pathShare is a share of the critical path, which is not told closer than to a thousandth.
func pathShare(share float64) string {
	const least = 0.001
	if share < least {
		return "<0.1 %"
	}
	return units.Share(share)
}

// stepsWithin is how many steps lie within one.
func stepsWithin(in *judge.Inside, step int) (n int) {
	for i := step + 1; i < len(in.Steps) && in.Steps[i].Depth > in.Steps[step].Depth; i++ {
		n++
	}
	return n
}

// countOf is how often a step is done, and how; empty for once.
func countOf(count float64, atOnce int) string {
	if count < 1.05 {
		return ""
	}
	text := judge.Often(count)
	if atOnce > 1 {
		return fmt.Sprintf("%s, %d at once", text, atOnce)
	}
	return text + " in turn"
}

// insideNotes are what the sums of a shot come to.
func insideNotes(in *judge.Inside) (out []string) {
	out = append(out, "added up "+units.Seconds(in.Added.V))
	if notable(in) {
		out = append(out, "nothing under way "+units.Seconds(in.Idle.V))
	}
	if in.Known {
		out = append(out, "at best "+units.Seconds(in.Together.V)+" together")
	} else {
		out = append(out, "at best "+units.Seconds(in.Together.V)+" if none needed another")
	}
	if in.Grain > 0 {
		out = append(out, "told to "+units.Seconds(in.Grain))
	}
	if in.Unjudged {
		out = append(out, "runs that were not judged")
	}
	if in.Shots < in.Of {
		out = append(out, fmt.Sprintf("%s of %s looked into", units.Count(in.Shots), units.Plural(int(in.Of), "shot")))
	}
	return out
}

// real enters one real shot: of the heats' shots at that place the middle one, or the slowest of all.
func (l *InsideLane) real(r *result.Result, in *judge.Inside, which string, depth int) float64 {
	type one struct {
		in   *result.Inside
		shot *result.RealShot
	}
	var all []one
	for _, h := range r.Of(in.Cell.Contender, in.Cell.State) {
		if h.Inside == nil || !h.Counts() {
			continue
		}
		for i := range h.Inside.Real {
			if shot := &h.Inside.Real[i]; shot.At == which {
				all = append(all, one{h.Inside, shot})
			}
		}
	}
	if len(all) == 0 {
		l.Lacks = fmt.Sprintf("too few of its shots are known inside for one at %s", which)
		return 0
	}
	slices.SortFunc(all, func(a, b one) int { return int(a.shot.Latency - b.shot.Latency) })
	chosen := all[(len(all)-1)/2]
	if which == result.AtSlowest {
		chosen = all[len(all)-1]
	}
	l.Took = units.Seconds(chosen.shot.Latency.Seconds())
	rows := map[int]int{}
	counts := map[int]int{}
	for step := range chosen.in.Steps {
		d := chosen.in.Depth(step)
		if d > depth || !slices.ContainsFunc(chosen.shot.Spans, func(sp [4]int64) bool { return sp[0] == int64(step) }) {
			continue
		}
		rows[step] = len(l.Rows)
		l.Rows = append(l.Rows, InsideRow{Label: chosen.in.Steps[step].Name, Depth: d, begin: math.Inf(1)})
	}
	took := map[int]float64{}
	for _, sp := range chosen.shot.Spans {
		at, ok := rows[int(sp[0])]
		if !ok {
			continue
		}
		row := &l.Rows[at]
		from, to := float64(sp[1])/1e9, float64(sp[2])/1e9
		row.Bars = append(row.Bars, InsideBar{from, to, 2*sp[3] > sp[2]-sp[1]})
		row.begin, row.end, row.onPath = min(row.begin, from), max(row.end, to), row.onPath+float64(sp[3])/1e9
		counts[at]++
		took[at] += to - from
	}
	for at := range l.Rows {
		row := &l.Rows[at]
		row.Early, row.Late, row.Took = row.begin, row.end, units.Seconds(took[at])
		if counts[at] > 1 {
			row.Count = judge.Often(float64(counts[at]))
		}
		if row.onPath > 0 {
			row.Path = pathShare(row.onPath / chosen.shot.Latency.Seconds())
		}
	}
	l.gaps(chosen.shot.Latency.Seconds(), math.NaN())
	if n := chosen.shot.Left; n > 0 {
		l.Notes = []string{units.Plural(n, "more span") + " not kept"}
	}
	return max(chosen.shot.Latency.Seconds(), l.length())
}

// At is the moment that is read off.
func (p *Inside) At() string { return units.Seconds(p.Line) }

// notable reports whether a typical shot has gaps that are worth a word.
func notable(in *judge.Inside) bool { return in.Idle.V > 0.01*in.Length.V }

// gaps adds a row of the stretches of a shot in which nothing was under way, as far as they can be seen. took is what
// they come to in a typical shot, whose gaps may also lie between the spans that make one of its steps; NaN for a real
// shot, whose gaps are all there.
func (l *InsideLane) gaps(length, took float64) {
	const seen = 0.005 // of the shot
	var busy []InsideBar
	for i := range l.Rows {
		if l.Rows[i].Depth == 0 {
			busy = append(busy, l.Rows[i].Bars...)
		}
	}
	slices.SortFunc(busy, func(a, b InsideBar) int { return cmp.Compare(a.From, b.From) })
	row := InsideRow{Label: "nothing under way", Apart: true}
	at, sum := 0.0, 0.0
	for _, b := range append(busy, InsideBar{From: length, To: length}) {
		if b.From-at > seen*length {
			row.Bars = append(row.Bars, InsideBar{From: at, To: b.From})
			sum += b.From - at
		}
		at = max(at, b.To)
	}
	switch {
	case len(busy) == 0, len(row.Bars) == 0 && math.IsNaN(took):
		return
	case math.IsNaN(took):
		took = sum
	case len(row.Bars) == 0:
		row.Count = "between the spans of a step"
	}
	row.Took = units.Seconds(took)
	if len(row.Bars) > 0 {
		row.begin, row.end = row.Bars[0].From, row.Bars[len(row.Bars)-1].To
	}
	row.Early, row.Late = row.begin, row.begin // it has no spread
	l.Rows = append(l.Rows, row)
}

// Any reports whether it is known of any contender what happens inside.
func (p *Inside) Any() bool {
	return slices.ContainsFunc(p.Lanes, func(l InsideLane) bool { return len(l.Rows) > 0 || l.Lacks != "" })
}

// insideSentence speaks of the baseline where something of its shot could be saved, or else of the contender of whose
// most could.
func insideSentence(r *result.Result, v *judge.Verdict) string {
	var chosen *judge.Inside
	for _, e := range r.Entrants {
		for _, state := range r.States() {
			in := v.Insides[cell.Of(e.Name, state)]
			const notable = 0.05
			switch {
			case in == nil, chosen != nil && chosen.Cell.Contender == v.Baseline && chosen.Saves() >= notable:
			case chosen == nil, e.Name == v.Baseline && in.Saves() >= notable, in.Saves() > chosen.Saves()+0.01:
				chosen = in
			}
		}
	}
	if chosen == nil {
		return "Nothing is known of what happens inside a shot: requests of several legs tell it, and services that send " +
			"spans, under traces."
	}
	return chosen.Say()
}

// Moves is the picture of what became of the baseline's steps in another contender: facing bars, step by step.
type Moves struct {
	Title, Sentence, Note string
	Conditions            []string
	Scale                 Scale
	Left, Right           Side
	State                 string
	Rows                  []MoveRow
}

// MoveRow is a step, by how much of the critical path it is.
type MoveRow struct {
	Label               string
	Depth               int
	Left, Right         float64 // 0 to 1 of the scale
	LeftTook, RightTook string
	By, How             string
	Total               bool // the whole shot
}

// NewMoves arranges the i-th of the verdict's comparisons of steps.
func NewMoves(r *result.Result, v *judge.Verdict, i int) *Moves {
	m := v.Moved[i]
	p := &Moves{
		Title: r.Plan.Name, Sentence: m.Sentence, Conditions: Conditions(r, v), State: m.State,
		Note: "by how much of the critical path each step is, on average over each round's shots, with the difference " +
			"of the typical round. What nobody waits for is no part of it.",
	}
	p.Left, p.Right = sideFor(r, v.Baseline), sideFor(r, m.Contender)
	from, to := v.Insides[cell.Of(v.Baseline, m.State)], v.Insides[cell.Of(m.Contender, m.State)]
	p.Scale = NewScale([]float64{from.Mean.V, to.Mean.V}, false, units.Seconds)
	add := func(label string, depth int, left, right float64, by judge.Value, how string) {
		took := func(x float64) string {
			if x == 0 {
				return units.None
			}
			return units.Seconds(x)
		}
		p.Rows = append(p.Rows, MoveRow{
			Label: label, Depth: depth, Left: p.Scale.At(left), Right: p.Scale.At(right), LeftTook: took(left),
			RightTook: took(right), By: judge.Signed(by.V), How: how,
		})
	}
	for i := range m.Moves {
		move := &m.Moves[i]
		how := string(move.How)
		if b, c := move.BaselineCount, move.ContenderCount; max(b, c) > 1.05 {
			how += ", " + countPair(b, c)
		}
		add(move.Name, move.Depth, move.Baseline, move.Contender, move.By, how)
	}
	if rest := max(from.Rest(), to.Rest()); rest > 0.01*max(from.Mean.V, to.Mean.V) {
		add("between steps", 0, from.Rest(), to.Rest(), m.Rest, "")
	}
	add("in all", 0, from.Mean.V, to.Mean.V, m.Whole, "")
	p.Rows[len(p.Rows)-1].Total = true
	return p
}

// countPair says how often a step is done, on either side.
func countPair(left, right float64) string {
	switch {
	case judge.Often(left) == judge.Often(right), right == 0:
		return judge.Often(left)
	case left == 0:
		return judge.Often(right)
	}
	return fmt.Sprintf("%s to %s", judge.Often(left), judge.Often(right))
}
