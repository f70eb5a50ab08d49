// Package sweep is the stop that shows a duel over the values of a parameter: who wins where, where that turns, and how
// figures grow, as lines, as a map of two parameters, in numbers and in words.
package sweep

import (
	"fmt"
	"math"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"paceduel/core/chart"
	"paceduel/core/chart/paper"
	"paceduel/core/judge"
	"paceduel/core/units"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// picture is one of the pictures of this stop.
type picture int

const (
	lines picture = iota
	mapped
	multiples
	numbers
	words
	pictures // how many
)

var pictureNames = [pictures]string{"lines", "map", "one by one", "in numbers", "in words"}

type keys struct {
	next, figure, before, scale, slice, hide, up, down, left, right key.Binding
	later, earlier, zoom, wide, log, logX, open, save, halt, pause,
	more key.Binding
}

// View has which picture is in view, and how it is looked at.
type View struct {
	picture picture
	figure  int // steps on from the figure that decides
	scale   judge.Scale
	slice   int
	x, y    chart.Axis
	hidden  uint16 // contenders, a bit each
	chosen  int    // contender, for hiding
	point   int    // of the slice, that values are read off at
	part    chart.Stretched
	scroll  parts.Scroll
	keys    keys
}

// New returns the view of a sweep.
func New() screen.View {
	bind := func(help, what string, names ...string) key.Binding {
		return key.NewBinding(key.WithKeys(names...), key.WithHelp(help, what))
	}
	return View{scroll: parts.NewScroll(), keys: keys{
		next:    bind("x", "next picture", "x"),
		figure:  bind("F", "figure", "F"),
		before:  bind("B", "figure before", "B"),
		scale:   bind("C", "counted as", "C"),
		slice:   bind("O", "other stretch", "O"),
		hide:    bind("I", "hide or show", "I"),
		up:      bind("↑ ↓", "choose", "up", "k"),
		down:    bind("↓", "next", "down", "j"),
		left:    bind("← →", "read off", "left"),
		right:   bind("→", "further", "right"),
		later:   bind("shift+→", "move on", "shift+right"),
		earlier: bind("shift+←", "move back", "shift+left"),
		zoom:    bind("z", "zoom in", "z"),
		wide:    bind("backspace", "zoom out", "backspace"),
		log:     bind("g", "log scale", "g"),
		logX:    bind("G", "log scale across", "G"),
		more:    bind("+", "5 rounds more", "+"),
		open:    bind("enter", "verdict there", "enter"),
		save:    bind("s", "save to files", "s"),
		halt:    bind("h", "halt and keep", "h"),
		pause:   bind("space", "pause or go on", "space"),
	}}
}

// known reports whether there is a sweep with something to show.
func known(s screen.Scene) bool {
	return s.Run != nil && s.Run.Swept != nil && s.Run.Swept.Judged != nil && len(s.Run.Swept.Judged.Figures) > 0
}

// Keys implements screen.View.
func (v View) Keys(s screen.Scene) (out []key.Binding) {
	live := s.Run != nil && s.Run.Live
	if live {
		out = append(out, v.keys.halt, v.keys.pause)
	}
	if !known(s) {
		return out
	}
	v = v.within(s)
	out = append(out, v.keys.next)
	if v.picture == words {
		return append(out, v.scroll.Key(), v.keys.save)
	}
	out = append(out, v.keys.figure, v.keys.left, v.keys.open)
	if v.picture != mapped {
		out = append(out, v.keys.scale)
		if len(s.Run.Swept.Judged.Slices) > 1 {
			out = append(out, v.keys.slice)
		}
	}
	if v.picture == lines {
		out = append(out, v.keys.log, v.keys.up, v.keys.hide, v.keys.zoom, v.keys.wide, v.keys.later, v.keys.earlier,
			v.keys.logX)
	}
	if v.picture == mapped {
		out = append(out, v.keys.up)
	}
	return append(out, v.keys.more, v.keys.before, v.keys.save)
}

// within is the view with everything that it stands at within what the run in view has.
func (v View) within(s screen.Scene) View {
	sweep := s.Run.Swept.Judged
	v.slice = min(v.slice, len(sweep.Slices)-1)
	of := &sweep.Slices[v.slice]
	v.point = min(max(v.point, 0), len(of.Points)-1)
	v.chosen = min(v.chosen, len(sweep.Contenders)-1)
	if !sweep.Scales(of, sweep.Figures[v.at(sweep)])[v.scale] {
		v.scale = judge.AsMeasured
	}
	if !v.has(s, v.picture) {
		v.picture = lines
	}
	return v
}

// has reports whether the run in view has a picture.
func (v View) has(s screen.Scene, p picture) bool {
	if p == mapped || p == multiples {
		return len(s.Run.Swept.Result.Sweep.Parameters) > 1
	}
	return true
}

// at is the number of the figure in view.
func (v View) at(sweep *judge.Sweep) int {
	n := len(sweep.Figures)
	for i, fig := range sweep.Figures {
		if fig == sweep.Decides {
			return ((i+v.figure)%n + n) % n
		}
	}
	return ((v.figure % n) + n) % n
}

func (v View) look(sweep *judge.Sweep) chart.SweepLook {
	return chart.SweepLook{
		Slice: v.slice, Figure: sweep.Figures[v.at(sweep)], Scale: v.scale, X: v.x, Y: v.y, Hidden: v.hidden, Part: v.part,
	}
}

// drawn are the lines in view; nil where the figure has none.
func (v View) drawn(s screen.Scene) *chart.SweepLines {
	type linesKey struct{ chart.SweepLook }
	look := v.look(s.Run.Swept.Judged)
	return screen.Picture(s, linesKey{look}, func() *chart.SweepLines {
		return chart.NewSweepLines(s.Run.Swept.Judged, s.Run.Swept.Result, look)
	})
}

// Update implements screen.View.
func (v View) Update(msg tea.Msg, s screen.Scene) (screen.View, tea.Cmd) {
	if _, ok := msg.(screen.RunInViewMsg); ok {
		fresh := New().(View)
		return fresh, nil
	}
	press, ok := msg.(tea.KeyPressMsg)
	if !ok || s.Run == nil {
		return v, nil
	}
	if s.Run.Live {
		switch {
		case key.Matches(press, v.keys.halt):
			return v, screen.Send(screen.HaltMsg{})
		case key.Matches(press, v.keys.pause):
			return v, screen.Send(screen.PauseMsg{})
		}
	}
	if !known(s) {
		return v, nil
	}
	if key.Matches(press, v.keys.more) {
		if s.Run.Live {
			return v, screen.Send(screen.AddRoundsMsg{Rounds: moreRounds})
		}
		return v, screen.Send(screen.GoOnMsg{Rounds: moreRounds})
	}
	v = v.within(s)
	if key.Matches(press, v.keys.next) {
		for {
			if v.picture = (v.picture + 1) % pictures; v.has(s, v.picture) {
				v.scroll = v.scroll.Top()
				return v, nil
			}
		}
	}
	if key.Matches(press, v.keys.save) {
		if v.picture == numbers {
			return v, screen.Send(screen.SaveMsg{Tables: []screen.Table{v.asTable(s)}})
		}
		return v, screen.Send(screen.SaveMsg{Pictures: v.onPaper(s)})
	}
	if v.picture == words {
		if next, moved := v.scroll.Press(press, v.wordLines(s, s.Width), s.Width, max(s.Height-2, 1)); moved {
			v.scroll = next
		}
		return v, nil
	}
	return v.press(press, s)
}

// moreRounds is how many are added at a time.
const moreRounds = 5

// press does what a key means in a picture of lines, cells or numbers.
func (v View) press(press tea.KeyPressMsg, s screen.Scene) (screen.View, tea.Cmd) {
	sweep := s.Run.Swept.Judged
	of := &sweep.Slices[v.slice]
	switch {
	case key.Matches(press, v.keys.figure):
		v.figure++
	case key.Matches(press, v.keys.before):
		v.figure--
	case key.Matches(press, v.keys.scale):
		has := sweep.Scales(of, sweep.Figures[v.at(sweep)])
		for {
			if v.scale = (v.scale + 1) % (judge.AgainstBaseline + 1); has[v.scale] {
				break
			}
		}
	case key.Matches(press, v.keys.slice):
		v.slice = (v.slice + 1) % len(sweep.Slices)
	case key.Matches(press, v.keys.left):
		v.point = max(v.point-1, 0)
		v.part = v.inSight(s)
	case key.Matches(press, v.keys.right):
		v.point = min(v.point+1, len(of.Points)-1)
		v.part = v.inSight(s)
	case key.Matches(press, v.keys.up) && v.picture == mapped:
		v.slice = max(v.slice-1, 0)
	case key.Matches(press, v.keys.down) && v.picture == mapped:
		v.slice = min(v.slice+1, len(sweep.Slices)-1)
	case key.Matches(press, v.keys.up):
		v.chosen = max(v.chosen-1, 0)
	case key.Matches(press, v.keys.down):
		v.chosen = min(v.chosen+1, len(sweep.Contenders)-1)
	case key.Matches(press, v.keys.hide):
		if next := v.hidden ^ 1<<v.chosen; next != 1<<len(sweep.Contenders)-1 { // somebody has to be left
			v.hidden = next
		}
	case key.Matches(press, v.keys.open):
		return v, screen.Send(screen.PointMsg{Point: of.Points[v.point], Open: true})
	case v.picture != lines:
	case key.Matches(press, v.keys.log):
		v.y = other(v.y, v.drawn(s) != nil && v.drawn(s).Scale.Log)
	case key.Matches(press, v.keys.logX):
		v.x = other(v.x, v.drawn(s) != nil && v.drawn(s).LogX)
	case key.Matches(press, v.keys.zoom):
		v.part = v.zoomed(s, 0.5)
	case key.Matches(press, v.keys.wide):
		v.part = v.zoomed(s, 2)
	case key.Matches(press, v.keys.later):
		v.part = moved(v.part, 0.25)
	case key.Matches(press, v.keys.earlier):
		v.part = moved(v.part, -0.25)
	}
	return v, nil
}

// other is the axis that is not in view; what fits by itself comes again after the other way.
func other(was chart.Axis, log bool) chart.Axis {
	switch {
	case was != chart.Fitting:
		return chart.Fitting
	case log:
		return chart.Linear
	}
	return chart.Logarithmic
}

// zoomed is the part in view made so many times as wide, about the point that is read off.
func (v View) zoomed(s screen.Scene, by float64) chart.Stretched {
	const least = 0.05
	part := v.part
	if part.To <= part.From {
		part = chart.Stretched{From: 0, To: 1}
	}
	width := part.To - part.From
	about := (part.From + part.To) / 2
	if l := v.drawn(s); l != nil && v.point < len(l.Along) {
		about = part.From + l.Along[v.point].At*width
	}
	if width = width * by; width >= 1 {
		return chart.Stretched{}
	}
	width = max(width, least)
	from := min(max(about-width/2, 0), 1-width)
	return chart.Stretched{From: from, To: from + width}
}

// inSight is the part in view, moved so that the point that is read off is in sight.
func (v View) inSight(s screen.Scene) chart.Stretched {
	width := v.part.To - v.part.From
	l := v.drawn(s)
	if width <= 0 || l == nil || !outOfSight(l.Along[v.point].At) {
		return v.part
	}
	return moved(v.part, l.Along[v.point].At-0.5)
}

// moved is the part in view moved by a share of itself.
func moved(part chart.Stretched, by float64) chart.Stretched {
	width := part.To - part.From
	if width <= 0 {
		return part
	}
	from := min(max(part.From+by*width, 0), 1-width)
	return chart.Stretched{From: from, To: from + width}
}

func (v View) onPaper(s screen.Scene) []paper.Named {
	whole := s.Run.Swept
	look := v.look(whole.Judged)
	return paper.Swept(whole.Result, whole.Judged, look, v.picture == mapped)
}

// asTable are the numbers in view.
func (v View) asTable(s screen.Scene) screen.Table {
	sweep := s.Run.Swept.Judged
	look := v.look(sweep)
	of := &sweep.Slices[look.Slice]
	what := strings.TrimSpace(sweep.Labelled(of, look.Figure, look.Scale) + " " + sweep.Where(of))
	return screen.Table{
		Name: paper.Name(s.Run.Swept.Result, "sweep", what), Rows: sweep.Numbers(look.Slice, look.Figure, look.Scale),
	}
}

// Sentence implements screen.View.
func (v View) Sentence(s screen.Scene) string {
	switch {
	case s.Run == nil:
		return "There is no run to look at; start a duel under ask, or open an earlier run under log."
	case s.Run.Swept == nil:
		return "This duel is over no parameter. With sweep: in its plan it is run over the values of one or two: " +
			"sweep: { over: { threads: [1, 2, 4] } }."
	case !known(s) && s.Run.Asking != nil:
		return "The weigh-in is on at every point: " + s.Run.Asking.Words() + "."
	case !known(s) && s.Run.Live:
		return "There is nothing to look at before the first heats are over."
	case !known(s) && s.Run.Judging:
		return "It is being judged."
	case !known(s) && s.Run.Unjudged != nil:
		return "What was measured cannot be judged: " + s.Run.Unjudged.Error() + "."
	case !known(s):
		return "No round was finished, so there is nothing to look at."
	}
	said := s.Run.Swept.Judged.Sentence
	if s.Run.Live {
		return "So far: " + said
	}
	return said
}

// Body implements screen.View.
func (v View) Body(s screen.Scene, w, h int) string {
	if !known(s) {
		return ""
	}
	v = v.within(s)
	out := []string{parts.Cell(" "+v.heads(s), w), ""}
	switch h -= len(out); v.picture {
	case mapped:
		out = append(out, v.mapBody(s, w, h)...)
	case multiples:
		out = append(out, v.multipleBody(s, w, h)...)
	case numbers:
		out = append(out, v.numberBody(s, w)...)
	case words:
		out = append(out, v.scroll.Lines(v.wordLines(s, w), w, h)...)
	default:
		out = append(out, v.lineBody(s, w, h)...)
	}
	return strings.Join(out, "\n")
}

// heads names the pictures, and what the one in view shows.
func (v View) heads(s screen.Scene) string {
	sweep := s.Run.Swept.Judged
	const allNames = 1 << 10 // there are few, and the figure stands behind them
	var names []string
	at := 0
	for p := range pictures {
		if v.has(s, p) {
			if p == v.picture {
				at = len(names)
			}
			names = append(names, pictureNames[p])
		}
	}
	text := screen.PictureNames(s.Theme, names, at, allNames)
	if v.picture == words {
		return text
	}
	of := &sweep.Slices[v.slice]
	at = v.at(sweep)
	label := sweep.Labelled(of, sweep.Figures[at], v.scale)
	if where := sweep.Where(of); where != "" && v.picture != mapped && v.picture != multiples {
		label += ", " + where
	}
	return text + "      " + s.Theme.Strong.Render(label) +
		s.Theme.Faint.Render(fmt.Sprintf("  figure %d of %d", at+1, len(sweep.Figures)))
}

// numberBody is the table of all values.
func (v View) numberBody(s screen.Scene, w int) (out []string) {
	sweep := s.Run.Swept.Judged
	type tableKey struct {
		slice, figure int
		scale         judge.Scale
	}
	t := screen.Picture(s, tableKey{v.slice, v.at(sweep), v.scale}, func() judge.Table {
		return sweep.Table(v.slice, sweep.Figures[v.at(sweep)], v.scale)
	})
	widths := make([]int, len(t.Head))
	for _, row := range append([][]string{t.Head}, t.Rows...) {
		for i, text := range row {
			widths[i] = max(widths[i], len([]rune(text)))
		}
	}
	for n, row := range append([][]string{t.Head}, t.Rows...) {
		line := " "
		for i, text := range row {
			style := s.Theme.Ink
			switch {
			case n == 0 && i > 0 && i <= len(sweep.Contenders):
				style = s.Theme.Sign(chart.SignFor(s.Run.Swept.Result, sweep.Contenders[i-1])).Bold(true)
			case n == 0 || i == 0:
				style = s.Theme.Faint
			case i <= len(sweep.Contenders) && row[len(row)-2] == sweep.Contenders[i-1]:
				style = s.Theme.Lead
			}
			if i == 0 || i > len(sweep.Contenders) {
				line += style.Render(parts.Cell(text, widths[i])) + "   "
			} else {
				line += style.Render(parts.Right(text, widths[i])) + "   "
			}
		}
		if n == v.point+1 {
			line = s.Theme.Here.Render("▸") + strings.TrimPrefix(line, " ")
		}
		out = append(out, parts.Cell(line, w))
	}
	return out
}

// wordLines are the findings, the claims and the cautions, as lines.
func (v View) wordLines(s screen.Scene, w int) (out []string) {
	sweep := s.Run.Swept.Judged
	head := func(text string) {
		if len(out) > 0 {
			out = append(out, "")
		}
		out = append(out, " "+s.Theme.Strong.Render(text))
	}
	item := func(text string) {
		for i, line := range parts.Wrap(text, max(w-6, 20)) {
			lead := "   · "
			if i > 0 {
				lead = "     "
			}
			out = append(out, lead+line)
		}
	}
	kind := judge.RemarkKind("")
	for _, r := range sweep.Remarks {
		if r.Kind != kind {
			kind = r.Kind
			head(string(kind))
		}
		item(r.Text)
	}
	if len(sweep.Claims) > 0 {
		head("claims")
	}
	for _, c := range sweep.Claims {
		item(fmt.Sprintf("%s: %s, %s", c.Text, c.Finding, c.Why))
	}
	if len(sweep.Cautions) > 0 {
		head("cautions")
	}
	for _, c := range sweep.Cautions {
		item(c.What)
	}
	head("how words were reached")
	item(fmt.Sprintf("%s; %s at least.", sweep.Note, units.Plural(sweep.Rounds, "round")))
	return out
}

// outOfSight reports whether a place is out of sight.
func outOfSight(at float64) bool { return math.IsNaN(at) || at < 0 || at > 1 }
