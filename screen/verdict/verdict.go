// Package verdict is the stop where the figures are weighed. It has several pictures: the ladder, mirrored about its
// spine, with the scorecard; lanes for more than two contenders; the distribution and its tail; and the reasons to
// trust it or not: claims, stakes, cautions.
package verdict

import (
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"paceduel/core/cell"
	"paceduel/core/chart"
	"paceduel/core/chart/paper"
	"paceduel/core/judge"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// picture is one of the pictures of this stop.
type picture int

const (
	ladder picture = iota
	lanes
	distribution
	tail
	reasons
	pictures // how many
)

var pictureNames = [pictures]string{"ladder", "lanes", "distribution", "tail", "reasons"}

func (p picture) String() string { return pictureNames[p] }

type keys struct{ next, pair, logScale, rungs, save, keep, left, right, zoom, wide, show key.Binding }

// View has which picture and which pair are in view, and how.
type View struct {
	picture picture
	turn    int // pairs on from the one to look at first
	look    chart.Look
	linear  bool // of the latencies' scale
	scroll  parts.Scroll
	part    chart.Stretched
	line    float64 // where values are read off, 0 to 1
	reason  parts.Cursor
	keys    keys
}

// New returns the view of the first pair on a linear scale.
func New() screen.View {
	bind := func(help, what string, names ...string) key.Binding {
		return key.NewBinding(key.WithKeys(names...), key.WithHelp(help, what))
	}
	return View{reason: parts.NewCursor(), scroll: parts.NewScroll(), line: 0.5, keys: keys{
		next:     bind("x", "next picture", "x"),
		pair:     bind("o", "other pair", "o"),
		logScale: bind("g", "log scale", "g"),
		rungs:    bind("E", "every rung", "E"),
		save:     bind("s", "save to files", "s"),
		keep:     bind("ctrl+s", "keep the plan", "ctrl+s"),
		left:     bind("← →", "read off", "left", "down", "j"),
		right:    bind("→", "further", "right", "up", "k"),
		zoom:     bind("z", "zoom in", "z"),
		wide:     bind("backspace", "zoom out", "backspace"),
		show:     bind("enter", "see where it shows", "enter"),
	}}
}

func judged(s screen.Scene) bool {
	return s.Run != nil && s.Run.Verdict != nil && s.Run.Verdict.Rounds > 0 && len(s.Run.Verdict.Faces) > 0
}

// has reports whether a picture has anything to show.
func has(p picture, s screen.Scene) bool { return p != lanes || len(s.Run.Verdict.Faces) > 1 }

// current is the picture in view.
func (v View) current(s screen.Scene) picture {
	if !has(v.picture, s) {
		return ladder
	}
	return v.picture
}

// Keys implements screen.View.
func (v View) Keys(s screen.Scene) (out []key.Binding) {
	if !judged(s) {
		return nil
	}
	out = append(out, v.keys.next)
	if p := v.current(s); p != reasons {
		out = append(out, v.keys.save, v.keys.logScale)
	}
	paired := len(s.Run.Verdict.Faces) > 1
	switch v.current(s) {
	case ladder:
		if paired {
			out = append(out, v.keys.pair)
		}
		out = append(out, v.keys.rungs, v.scroll.Key())
	case lanes:
		out = append(out, v.keys.rungs, v.scroll.Key())
	case distribution:
		if paired {
			out = append(out, v.keys.pair)
		}
		out = append(out, v.keys.left, v.keys.zoom, v.keys.wide)
	case tail:
		out = append(out, v.keys.left, v.keys.zoom, v.keys.wide)
	case reasons:
		out = append(out, v.reason.Key(), v.keys.show)
	}
	return append(out, v.keys.keep)
}

// Update implements screen.View.
func (v View) Update(msg tea.Msg, s screen.Scene) (screen.View, tea.Cmd) {
	if _, ok := msg.(screen.RunInViewMsg); ok {
		fresh := New().(View)
		fresh.look, fresh.linear = v.look, v.linear // how one likes to look
		return fresh, nil
	}
	if to, ok := msg.(screen.GoMsg); ok {
		switch to.To {
		case judge.InRatios:
			v.picture = ladder
		case judge.InShapes:
			v.picture = distribution
		}
		return v, nil
	}
	press, ok := msg.(tea.KeyPressMsg)
	if !ok || !judged(s) {
		return v, nil
	}
	p := v.current(s)
	if p == reasons {
		if next, moved := v.reason.Press(press, len(reasonsOf(s))); moved {
			v.reason = next
			return v, nil
		}
	}
	if p == ladder || p == lanes {
		w, h := s.Width, s.Height-headLines
		if next, moved := v.scroll.Press(press, v.lines(s, w, h), w, h); moved {
			v.scroll = next
			return v, nil
		}
	}
	shaped := p == distribution || p == tail
	switch {
	case key.Matches(press, v.keys.next):
		v.picture = (p + 1) % pictures
		for !has(v.picture, s) {
			v.picture = (v.picture + 1) % pictures
		}
		v.scroll = v.scroll.Top()
	case key.Matches(press, v.keys.pair):
		v.turn++
		return v, v.wanted(s)
	case key.Matches(press, v.keys.logScale) && shaped:
		v.linear, v.part = !v.linear, chart.Stretched{}
	case key.Matches(press, v.keys.logScale):
		v.look.Log = !v.look.Log
	case key.Matches(press, v.keys.rungs):
		v.look.All = !v.look.All
	case key.Matches(press, v.keys.save):
		return v, screen.Send(screen.SaveMsg{Pictures: v.onPaper(s)})
	case key.Matches(press, v.keys.keep):
		return v, screen.Send(screen.KeepPlanMsg{})
	case p == reasons && key.Matches(press, v.keys.show):
		return v.follow(s)
	case shaped:
		v.inspect(press)
	}
	return v, nil
}

// lineStep is the share of the scale by which a key moves the line.
const lineStep = 0.02

// inspect moves the line at which values are read off, and zooms about it.
func (v *View) inspect(press tea.KeyPressMsg) {
	switch {
	case key.Matches(press, v.keys.left):
		v.line = max(v.line-lineStep, 0)
	case key.Matches(press, v.keys.right):
		v.line = min(v.line+lineStep, 1)
	case key.Matches(press, v.keys.zoom):
		v.part = v.part.Zoom(0.5, v.line)
	case key.Matches(press, v.keys.wide):
		v.part = v.part.Zoom(2, v.line)
	}
}

// pair is two contenders face to face.
type pair struct{ base, contender string }

// pairs lists the pairs, in the order in which they can be turned to: the baseline's, the best first, then all others.
func pairs(s screen.Scene) (out []pair) {
	v := s.Run.Verdict
	for i := range v.Faces {
		out = append(out, pair{v.Baseline, v.Faces[(v.Best+i)%len(v.Faces)].Contender})
	}
	if s.Run.Live {
		return out // the others are not worth judging yet
	}
	for i := range v.Faces {
		for j := i + 1; j < len(v.Faces); j++ {
			out = append(out, pair{v.Faces[i].Contender, v.Faces[j].Contender})
		}
	}
	return out
}

// pair is the pair in view.
func (v View) pair(s screen.Scene) pair {
	all := pairs(s)
	return all[v.turn%len(all)]
}

// wanted asks for the pair's verdict where it is not that of the run.
func (v View) wanted(s screen.Scene) tea.Cmd {
	if p := v.pair(s); p.base != s.Run.Verdict.Baseline && s.Run.Turned[p.base] == nil {
		return screen.Send(screen.TurnMsg{Base: p.base})
	}
	return nil
}

// facing is the verdict in which the pair stands, and its face there; ok is false while it is being judged.
func (v View) facing(s screen.Scene) (verdict *judge.Verdict, face int, ok bool) {
	p := v.pair(s)
	verdict = s.Run.Verdict
	if p.base != verdict.Baseline {
		verdict = s.Run.Turned[p.base]
	}
	if verdict == nil {
		return nil, 0, false
	}
	for i := range verdict.Faces {
		if verdict.Faces[i].Contender == p.contender {
			return verdict, i, true
		}
	}
	return nil, 0, false
}

// shape is the distribution of the pair in view, or of all.
func (v View) shape(s screen.Scene) *chart.Shape {
	key := shapeKey{all: v.current(s) != distribution, linear: v.linear, part: v.part}
	if !key.all {
		key.pair = v.pair(s)
	}
	return screen.Picture(s, key, func() *chart.Shape { return newShape(s, key) })
}

// shapeKey is what a distribution is made of, beside the run.
type shapeKey struct {
	all    bool // contenders, or else the pair
	pair   pair
	linear bool
	part   chart.Stretched
}

func newShape(s screen.Scene, key shapeKey) *chart.Shape {
	keys := paper.Keys(s.Run.Result)
	if p := key.pair; !key.all {
		var own []cell.Cell
		for _, name := range []string{p.base, p.contender} {
			for _, k := range keys {
				if k.Contender == name {
					own = append(own, k)
				}
			}
		}
		keys = inTurn(own, len(s.Run.Result.States()))
	}
	return chart.NewShape(s.Run.Result, s.Run.Verdict, keys, !key.linear, key.part)
}

func (v View) newLadder(s screen.Scene, verdict *judge.Verdict, face int) *chart.Ladder {
	type ladderKey struct {
		verdict *judge.Verdict
		face    int
		look    chart.Look
	}
	return screen.Picture(s, ladderKey{verdict, face, v.look}, func() *chart.Ladder {
		return chart.NewLadder(s.Run.Result, verdict, face, v.look)
	})
}

func (v View) newTracks(s screen.Scene) *chart.Tracks {
	type tracksKey struct{ look chart.Look }
	return screen.Picture(s, tracksKey{v.look}, func() *chart.Tracks {
		return chart.NewTracks(s.Run.Result, s.Run.Verdict, v.look)
	})
}

// inTurn puts two contenders' states beside each other: both cold, then both warm.
func inTurn(keys []cell.Cell, states int) (out []cell.Cell) {
	for i := range states {
		for j := i; j < len(keys); j += states {
			out = append(out, keys[j])
		}
	}
	return out
}

// onPaper is the picture in view, to be saved.
func (v View) onPaper(s screen.Scene) (out []paper.Named) {
	r := s.Run.Result
	add := func(pic paper.Picture, what ...string) {
		out = append(out, paper.Named{Picture: pic, Name: paper.Name(r, what...)})
	}
	switch v.current(s) {
	case ladder:
		if verdict, face, ok := v.facing(s); ok {
			what := []string{verdict.Faces[face].Contender}
			if verdict.Baseline != r.Plan.Baseline {
				what = []string{verdict.Baseline, verdict.Faces[face].Contender}
			}
			add(paper.Ladder(v.newLadder(s, verdict, face)), what...)
		}
	case lanes:
		add(paper.Tracks(v.newTracks(s)), "lanes")
	case distribution:
		add(paper.Distribution(v.shape(s)), "distribution", v.pair(s).base, v.pair(s).contender)
	case tail:
		add(paper.Tail(v.shape(s)), "tail")
	}
	return out
}

// Sentence implements screen.View.
func (v View) Sentence(s screen.Scene) string {
	switch {
	case s.Run == nil:
		return "There is no verdict yet; start a duel under ask, or open an earlier run under log."
	case s.Run.Err != nil && !judged(s):
		return "There is no verdict: " + s.Run.Err.Error() + "."
	case s.Run.Unjudged != nil && !judged(s):
		return "There is no verdict, since what was measured cannot be judged: " + s.Run.Unjudged.Error() + "."
	case s.Run.Live && !judged(s):
		return "There is nothing to weigh before the first round is complete."
	case !judged(s):
		return "No round was finished, so there is nothing to compare."
	}
	said := s.Run.Verdict.Sentence
	switch v.current(s) {
	case ladder:
		if p := v.pair(s); p.base != s.Run.Verdict.Baseline {
			if verdict, face, ok := v.facing(s); ok {
				return verdict.Faces[face].Sentence
			}
			return "Setting " + p.base + " and " + p.contender + " face to face …"
		}
	case lanes:
		if r := s.Run.Verdict.Ranking; len(r) > 0 {
			said = r[0].Sentence()
		}
	case distribution, tail:
		said = v.shape(s).Sentence
	case reasons:
		said = reasonsSentence(s)
	}
	if s.Run.Live {
		return "So far: " + said
	}
	return said
}

// Body implements screen.View.
func (v View) Body(s screen.Scene, w, h int) string {
	if !judged(s) {
		return ""
	}
	h -= headLines
	lines := v.lines(s, w, h)
	if p := v.current(s); p == ladder || p == lanes {
		lines = v.scroll.Lines(lines, w, h)
	}
	return strings.Join(append([]string{v.head(s, w), ""}, lines...), "\n")
}

// headLines are above the picture: its name and a gap.
const headLines = 2

// lines is the picture in view in h lines, or more where it can be scrolled.
func (v View) lines(s screen.Scene, w, h int) []string {
	switch v.current(s) {
	case ladder:
		return v.ladderBody(s, w, h)
	case lanes:
		return v.lanesBody(s, w, h)
	case distribution:
		return v.distributionBody(s, w, h)
	case tail:
		return v.tailBody(s, w, h)
	}
	return v.reasonsBody(s, w, h)
}

// head names the pictures of this stop, the one in view set off.
func (v View) head(s screen.Scene, w int) string {
	var names []string
	for p := range pictures {
		if !has(p, s) {
			continue
		}
		style := s.Theme.Faint
		name := p.String()
		if p == v.current(s) {
			style, name = s.Theme.Strong.Underline(true), p.String()
		}
		names = append(names, style.Render(name))
	}
	return parts.Cell(" "+strings.Join(names, s.Theme.Faint.Render("  ")), w)
}
