// Package why is the stop that shows where time and memory go: how contenders come up, split by split from a common
// zero, and what their services hold over time.
package why

import (
	"fmt"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"paceduel/core/chart"
	"paceduel/core/chart/paper"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// picture is one of the pictures of this stop.
type picture int

const (
	start picture = iota
	memory
	processors
	reading
	writing
	inside
	moved
	payload
	meanwhile
	arrivals
	survival
	pictures // how many
)

var pictureNames = [pictures]string{
	"start", "memory", "processors", "reading", "writing", "inside", "moved", "payload", "meanwhile", "arrivals",
	"survival",
}

// quantity is what a picture but the first shows over time.
func (p picture) quantity() chart.Quantity {
	return map[picture]chart.Quantity{
		memory: chart.HeldMemory, processors: chart.UsedProcessors, reading: chart.ReadBytes, writing: chart.WrittenBytes,
	}[p]
}

type keys struct{ next, pair, save, left, right, zoom, wide, shot, depth key.Binding }

// View has which picture is in view, and what of it.
type View struct {
	picture picture
	chosen  bool              // by whoever looks; else it is the one that says most
	turn    int               // pairs on from the one to look at first
	share   float64           // of the scale of starts, from zero on
	window  chart.RoundWindow // of the memory; none: all rounds
	inside  insideState
	keys    keys
}

// New returns the view of how contenders come up.
func New() screen.View {
	bind := func(help, what string, names ...string) key.Binding {
		return key.NewBinding(key.WithKeys(names...), key.WithHelp(help, what))
	}
	return View{share: 1, inside: newInsideState(), keys: keys{
		next:  bind("x", "next picture", "x"),
		pair:  bind("o", "other pair", "o"),
		save:  bind("s", "save to files", "s"),
		left:  bind("← →", "read off", "left"),
		right: bind("→", "later", "right"),
		zoom:  bind("z", "zoom in", "z"),
		wide:  bind("backspace", "zoom out", "backspace"),
		shot:  bind("N", "next shot", "N"),
		depth: bind("D", "depth", "D"),
	}}
}

// known reports whether there is a run with something to show.
func known(s screen.Scene) bool {
	return s.Run != nil && s.Run.Verdict != nil && len(s.Run.Verdict.Faces) > 0 && len(s.Run.Heats) > 0
}

// Keys implements screen.View.
func (v View) Keys(s screen.Scene) (out []key.Binding) {
	if !known(s) {
		return nil
	}
	v = v.at(s)
	out = append(out, v.keys.next)
	if v.any(s) {
		out = append(out, v.keys.save)
	}
	if v.picture == start {
		if len(s.Run.Verdict.Faces) > 1 {
			out = append(out, v.keys.pair)
		}
		return append(out, v.keys.zoom, v.keys.wide)
	}
	switch v.picture {
	case payload, meanwhile, arrivals, survival:
		return out
	case moved:
		if len(s.Run.Verdict.Moved) > 1 {
			out = append(out, v.keys.pair)
		}
		return out
	case inside:
		if v.any(s) {
			out = append(out, v.keys.shot, v.keys.depth, v.inside.scroll.Key())
		}
	}
	return append(out, v.keys.left, v.keys.zoom, v.keys.wide)
}

// at is the view with the picture that it begins with, unless one was chosen: who waits meanwhile where somebody asked,
// what crashes left, when effects are seen of a relay, the inside of shots where that is known.
func (v View) at(s screen.Scene) View {
	switch {
	case v.chosen:
	case len(s.Run.Verdict.Meanwhile) > 0:
		v.picture = meanwhile
	case len(s.Run.Verdict.Survival) > 0:
		v.picture = survival
	case len(s.Run.Verdict.Arrivals) > 0:
		v.picture = arrivals
	case len(s.Run.Verdict.Insides) > 0:
		v.picture = inside
	}
	return v
}

// any reports whether the picture in view has anything to show.
func (v View) any(s screen.Scene) bool {
	switch v.picture {
	case start:
		return v.starts(s).Any()
	case inside:
		return v.insides(s).Any()
	case moved:
		return v.moves(s) != nil
	case payload:
		return v.payload(s).Any()
	case meanwhile:
		return v.meanwhile(s).Any()
	case arrivals:
		return v.arrivals(s).Any()
	case survival:
		return v.survival(s).Any()
	}
	return v.held(s).Any()
}

// Update implements screen.View.
func (v View) Update(msg tea.Msg, s screen.Scene) (screen.View, tea.Cmd) {
	if _, ok := msg.(screen.RunInViewMsg); ok {
		v.chosen, v.picture = false, start
		v.share, v.turn, v.window, v.inside = 1, 0, chart.RoundWindow{}, newInsideState()
		return v, nil
	}
	if to, ok := msg.(screen.GoMsg); ok {
		for p := range pictures {
			if pictureNames[p] == string(to.To) {
				v.picture, v.chosen = p, true
			}
		}
		return v, nil
	}
	press, ok := msg.(tea.KeyPressMsg)
	if !ok || !known(s) {
		return v, nil
	}
	v = v.at(s)
	switch {
	case key.Matches(press, v.keys.next):
		v.picture, v.chosen = (v.picture+1)%pictures, true
	case key.Matches(press, v.keys.save) && v.any(s):
		return v, screen.Send(screen.SaveMsg{Pictures: []paper.Named{v.onPaper(s)}})
	case v.picture == start && key.Matches(press, v.keys.pair):
		v.turn++
	case v.picture == start && key.Matches(press, v.keys.zoom):
		v.share = chart.NextShare(v.share, true)
	case v.picture == start && key.Matches(press, v.keys.wide):
		v.share = chart.NextShare(v.share, false)
	case v.picture == moved && key.Matches(press, v.keys.pair):
		v.inside.turn++
	case v.picture == inside && v.any(s):
		return v.pressInside(press, s), nil
	case v.picture == start, v.picture == moved, v.picture == inside, v.picture == payload, v.picture == meanwhile,
		v.picture == arrivals, v.picture == survival:
	case key.Matches(press, v.keys.zoom):
		v.window = v.stretch(s).Zoom(0.5, s.Run.Heats)
	case key.Matches(press, v.keys.wide):
		v.window = v.stretch(s).Zoom(2, s.Run.Heats)
	case key.Matches(press, v.keys.left):
		v.window = v.stretch(s).Move(-step, s.Run.Heats)
	case key.Matches(press, v.keys.right):
		v.window = v.stretch(s).Move(step, s.Run.Heats)
	}
	return v, nil
}

// step is the share of the stretch by which a key moves the line.
const step = 0.01

// stretch is the stretch of the run in view.
func (v View) stretch(s screen.Scene) chart.RoundWindow {
	if v.window.None() {
		return chart.AllRounds(s.Run.Heats)
	}
	return v.window
}

func (v View) starts(s screen.Scene) *chart.Starts {
	type startsKey struct{ share float64 }
	return screen.Picture(s, startsKey{v.share}, func() *chart.Starts {
		whole := *s.Run.Result
		whole.Heats = s.Run.Heats
		return chart.NewStarts(&whole, s.Run.Verdict, v.share)
	})
}

func (v View) held(s screen.Scene) *chart.Memory {
	w := v.stretch(s)
	type heldKey struct {
		view chart.RoundWindow
		what chart.Quantity
	}
	what := v.picture.quantity()
	return screen.Picture(s, heldKey{w, what}, func() *chart.Memory {
		whole := *s.Run.Result
		whole.Heats = s.Run.Heats
		return chart.NewMemory(&whole, s.Run.Verdict, s.Run.Heats, w, what)
	})
}

func (v View) onPaper(s screen.Scene) paper.Named {
	switch v.picture {
	case start:
		return paper.Named{Picture: paper.Starts(v.starts(s)), Name: paper.Name(s.Run.Result, "start")}
	case inside:
		return paper.Named{Picture: paper.Inside(v.insides(s)), Name: paper.Name(s.Run.Result, "inside")}
	case payload:
		return paper.Named{Picture: paper.Payload(v.payload(s)), Name: paper.Name(s.Run.Result, "payload")}
	case meanwhile:
		return paper.Named{Picture: paper.Meanwhile(v.meanwhile(s)), Name: paper.Name(s.Run.Result, "meanwhile")}
	case survival:
		return paper.Named{Picture: paper.Survival(v.survival(s)), Name: paper.Name(s.Run.Result, "survival")}
	case arrivals:
		return paper.Named{Picture: paper.Arrivals(v.arrivals(s)), Name: paper.Name(s.Run.Result, "arrivals")}
	case moved:
		m := v.moves(s)
		name := strings.TrimSpace(m.Right.Name + " " + m.State)
		return paper.Named{Picture: paper.Moves(m), Name: paper.Name(s.Run.Result, name, "moved")}
	}
	return paper.Named{
		Picture: paper.Memory(v.held(s), s.Run.Result.Plan.Name), Name: paper.Name(s.Run.Result, pictureNames[v.picture]),
	}
}

// Sentence implements screen.View.
func (v View) Sentence(s screen.Scene) string {
	switch {
	case s.Run == nil:
		return "There is no run to look into; start a duel under ask, or open an earlier run under log."
	case !known(s) && s.Run.Live:
		return "There is nothing to look into before the first round is complete."
	case !known(s) && s.Run.Unjudged != nil:
		return "What was measured cannot be judged: " + s.Run.Unjudged.Error() + "."
	case !known(s):
		return "No round was finished, so there is nothing to look into."
	}
	said := v.at(s).said(s)
	if s.Run.Live {
		return "So far: " + said
	}
	return said
}

// said is the sentence of the picture in view.
func (v View) said(s screen.Scene) string {
	switch v.picture {
	case start:
		return v.starts(s).Sentence
	case inside:
		return v.insides(s).Sentence
	case payload:
		return v.payload(s).Sentence
	case meanwhile:
		return v.meanwhile(s).Sentence
	case arrivals:
		return v.arrivals(s).Sentence
	case survival:
		return v.survival(s).Sentence
	case moved:
		if m := v.moves(s); m != nil {
			return m.Sentence
		}
		return "What moved between contenders is known where it is known of both what happens inside a shot."
	}
	return v.held(s).Sentence
}

// Body implements screen.View.
func (v View) Body(s screen.Scene, w, h int) string {
	if !known(s) {
		return ""
	}
	v = v.at(s)
	lines := []string{parts.Cell(" "+screen.PictureNames(s.Theme, pictureNames[:], int(v.picture), w-1), w), ""}
	if !v.any(s) {
		return strings.Join(lines, "\n")
	}
	switch v.picture {
	case start:
		lines = append(lines, v.startBody(s, w, h-2)...)
	case inside:
		lines = append(lines, v.insideBody(s, w, h-2)...)
	case moved:
		lines = append(lines, v.movesBody(s, w, h-2)...)
	case payload:
		lines = append(lines, v.payloadBody(s, w, h-2)...)
	case meanwhile:
		lines = append(lines, v.meanwhileBody(s, w, h-2)...)
	case arrivals:
		lines = append(lines, v.arrivalsBody(s, w, h-2)...)
	case survival:
		lines = append(lines, v.survivalBody(s, w, h-2)...)
	default:
		lines = append(lines, v.memoryBody(s, w, h-2)...)
	}
	return strings.Join(lines, "\n")
}

// pair are the numbers of the two contenders that stand face to face.
func (v View) pair(s screen.Scene) (left, right int) {
	verdict := s.Run.Verdict
	type two struct{ left, right int }
	var all []two
	number := func(name string) int {
		for i, e := range s.Run.Result.Entrants {
			if e.Name == name {
				return i
			}
		}
		return 0
	}
	base := number(verdict.Baseline)
	for i := range verdict.Faces {
		all = append(all, two{base, number(verdict.Faces[(verdict.Best+i)%len(verdict.Faces)].Contender)})
	}
	for i := range verdict.Faces {
		for j := i + 1; j < len(verdict.Faces); j++ {
			all = append(all, two{number(verdict.Faces[i].Contender), number(verdict.Faces[j].Contender)})
		}
	}
	one := all[v.turn%len(all)]
	return one.left, one.right
}

// Widths of what stands outward of the bars.
const (
	labelWidth = 20
	tookWidth  = 9
	spineWidth = 3
)

// startBody draws two contenders face to face: the splits of each as a stair that leads away from zero at the spine.
func (v View) startBody(s screen.Scene, w, h int) (lines []string) {
	all := v.starts(s)
	l, r := v.pair(s)
	bar := max((w-spineWidth)/2-labelWidth-tookWidth, 4)
	rows := 0
	for _, g := range all.Groups {
		rows += max(len(g.Sides[l].Steps), len(g.Sides[r].Steps)) + 2
	}
	thick := 1
	if h > 2*rows+10 {
		thick = 2
	}
	for i, g := range all.Groups {
		if i > 0 {
			lines = append(lines, "")
		}
		lines = append(lines, v.group(s, g.State, &g.Sides[l], &g.Sides[r], bar, thick)...)
	}
	foot := v.beside(s, all, l, r, w)
	for i := range s.Run.Result.Entrants { // the others, where there is room for them
		if i == l || i == r {
			continue
		}
		var more []string
		for _, g := range all.Groups {
			more = append(append(more, ""), v.group(s, g.State, nil, &g.Sides[i], bar, 1)...)
		}
		if len(lines)+len(more)+len(foot)+2 <= h {
			lines = append(lines, more...)
		}
	}
	rule := strings.Repeat(" ", labelWidth+tookWidth) + parts.Axis(all.Scale.Ticks, bar, true) +
		strings.Repeat(" ", spineWidth) + parts.Axis(all.Scale.Ticks, bar, false)
	lines = append(append(lines, s.Theme.Faint.Render(rule), ""), foot...)
	return lines[:min(len(lines), max(h, 0))]
}

// beside says what stands beside the steps of the two who face each other.
func (v View) beside(s screen.Scene, all *chart.Starts, l, r, w int) (lines []string) {
	const label = 24
	for _, g := range all.Groups {
		for _, side := range []*chart.StartSide{&g.Sides[l], &g.Sides[r]} {
			name := " " +
				parts.Cell(s.Theme.Sign(side.Sign).Render(side.Sign.Glyph+" "+strings.TrimSpace(side.Name+" "+g.State)), label)
			for _, text := range side.Beside {
				for _, line := range parts.Wrap(text, max(w-label-2, 20)) {
					lines = append(lines, name+line)
					name = strings.Repeat(" ", label+1)
				}
			}
		}
	}
	return lines
}

// group draws one state of caches of two contenders, or with no left one of one alone.
func (v View) group(s screen.Scene, state string, left, right *chart.StartSide, bar, thick int) (lines []string) {
	side := bar + labelWidth + tookWidth
	if left == nil {
		left = &chart.StartSide{}
	}
	alone := left.Name == ""
	name := func(c *chart.StartSide) string {
		text := s.Theme.Sign(c.Sign).Bold(true).Render(c.Name)
		if c.Baseline {
			text += s.Theme.Faint.Render(" baseline")
		}
		if state != "" {
			text += " " + s.Theme.Strong.Render(state)
		}
		return text
	}
	glyph := func(c *chart.StartSide) string { return s.Theme.Sign(c.Sign).Render(c.Sign.Glyph) }
	head := ""
	if !alone {
		head = name(left) + " " + glyph(left)
	}
	lines = append(lines, parts.Right(head, side)+strings.Repeat(" ", spineWidth)+glyph(right)+" "+name(right))
	none := s.Theme.Faint.Render("not known")
	for i := range max(len(left.Steps), len(right.Steps), 1) {
		var from, to string
		switch {
		case i < len(left.Steps):
			t := &left.Steps[i]
			from = parts.Right(s.Theme.Faint.Render(t.Label)+" ", labelWidth) + parts.Right(t.Took+" ", tookWidth) +
				parts.Right(stair(s, t, left.Sign, bar, true), bar)
		case i == 0 && len(left.Steps) == 0 && !alone:
			from = parts.Right(none, side)
		default:
			from = strings.Repeat(" ", side)
		}
		switch {
		case i < len(right.Steps):
			t := &right.Steps[i]
			to = parts.Cell(stair(s, t, right.Sign, bar, false), bar) + parts.Cell(" "+t.Took, tookWidth) +
				parts.Cell(" "+s.Theme.Faint.Render(t.Label), labelWidth)
		case i == 0 && len(right.Steps) == 0:
			to = none
		}
		spine := s.Theme.Faint.Render(" │ ")
		lines = append(lines, from+spine+to)
		for range thick - 1 { // the same stair once more, without words
			blank := strings.Repeat(" ", labelWidth+tookWidth)
			from, to = strings.Repeat(" ", side), ""
			if i < len(left.Steps) {
				from = blank + parts.Right(stair(s, &left.Steps[i], left.Sign, bar, true), bar)
			}
			if i < len(right.Steps) {
				to = stair(s, &right.Steps[i], right.Sign, bar, false)
			}
			lines = append(lines, from+spine+to)
		}
	}
	return lines
}

// stair is one split: a faint lead from zero to where it begins, then its own length.
func stair(s screen.Scene, t *chart.StartStep, sign chart.Sign, bar int, mirrored bool) string {
	from, to := parts.Span(t.From, t.To, bar)
	lead := s.Theme.Faint.Render(strings.Repeat("┈", from))
	own := s.Theme.Sign(sign).Render(strings.Repeat("█", to-from))
	if t.Apart {
		own = s.Theme.Sign(sign).Render(strings.Repeat("▒", to-from))
	}
	if mirrored {
		return own + lead
	}
	return lead + own
}

// Widths of what stands beside a lane of memory.
const (
	nameWidth = 16
	axisWidth = 9
	sideWidth = 26
)

// memoryBody draws a lane for each contender, over the rounds.
func (v View) memoryBody(s screen.Scene, w, h int) (lines []string) {
	m := v.held(s)
	stretch := v.stretch(s)
	narrow := w < 100
	plot := w - nameWidth - axisWidth - 1
	if !narrow {
		plot -= sideWidth + 2
	}
	each := min(max((h-3)/max(len(m.Lanes), 1), 3), 14)
	reads := m.ReadHeld()
	for i := range m.Lanes {
		lines = append(lines, v.memoryLane(s, m, i, plot, each-1, stretch.Line, narrow)...)
	}
	lines = append(lines, strings.Repeat(" ", nameWidth+axisWidth)+s.Theme.Faint.Render(parts.Axis(m.Ticks, plot, false)))
	text := " " + s.Theme.Strong.Render(fmt.Sprintf("round %d", int(stretch.At())+1)) + ": "
	there := false
	for i, said := range reads {
		if said != "" {
			text += s.Theme.Sign(m.Lanes[i].Sign).Render(m.Lanes[i].Sign.Glyph) + " " + said + "   "
			there = true
		}
	}
	if !there {
		text += "no service is watched"
	}
	return append(lines, parts.Cell(text, w))
}

// memoryLane draws what one contender held in h lines and a rule beneath.
func (v View) memoryLane(s screen.Scene, m *chart.Memory, i, plot, h int, line float64, narrow bool) (out []string) {
	l := &m.Lanes[i]
	canvas := parts.NewCurves(plot, h)
	canvas.Draw(chart.Heights(l.Lines, canvas.Across()), 0)
	canvas.Draw(chart.Heights(l.Growth, canvas.Across()), 1)
	canvas.Rule(line)
	for _, p := range l.Peaks {
		canvas.Mark(p.X, p.Y, l.Sign.Glyph, 0)
	}
	rows := canvas.Lines([]lipgloss.Style{s.Theme.Sign(l.Sign), s.Theme.Strong}, s.Theme.Faint)
	name := []string{" " + s.Theme.Sign(l.Sign).Bold(true).Render(parts.Cell(l.Sign.Glyph+" "+l.Name, nameWidth-2))}
	if l.Baseline {
		name = append(name, " "+s.Theme.Faint.Render("baseline"))
	}
	if l.State != "" {
		name = append(name, " "+s.Theme.Strong.Render(l.State))
	}
	for row := range h {
		label, side := "", ""
		if row < len(name) {
			label = name[row]
		}
		if row < len(l.Read) && !narrow {
			side = "  " + parts.Cell(s.Theme.Faint.Render(parts.Cell(l.Read[row].Name, 12))+l.Read[row].Text, sideWidth)
		}
		out = append(out, parts.Cell(label, nameWidth)+s.Theme.Faint.Render(
			parts.Right(parts.RowLabel(m.Scale, row, h), axisWidth-1)+"┊",
		)+parts.Cell(rows[row], plot)+side)
	}
	if narrow && len(l.Read) > 0 && h > len(name) {
		var said []string
		for _, r := range l.Read {
			said = append(said, fmt.Sprintf("%s %s", r.Name, r.Text))
		}
		out[h-1] = parts.Cell(" "+s.Theme.Faint.Render(strings.Join(said, "  ")), nameWidth+axisWidth+plot)
	}
	rule := []rune(strings.Repeat("┈", max(plot, 0)))
	for _, stretch := range l.Heats {
		from, to := parts.Span(stretch.From, stretch.To, plot)
		for x := from; x < to; x++ {
			rule[x] = '━'
		}
	}
	return append(out, s.Theme.Faint.Render(strings.Repeat(" ", nameWidth+axisWidth-1)+"┊"+string(rule)))
}
