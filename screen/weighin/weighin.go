// Package weighin is the stop before timing: what each contender answered to its one shot, face to face.
package weighin

import (
	"fmt"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"paceduel/core/chart"
	"paceduel/core/units"
	"paceduel/core/weighin"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// View has which pair is face to face, how far it is scrolled, and what is looked for.
type View struct {
	turn  int // pairs on from the one to look at first
	at    parts.Scroll
	find  textinput.Model
	typed bool   // the user is writing what to look for
	text  string // what is looked for
	found int    // the line where it was found last
	keys  keys
}

type keys struct{ take, other, look, save key.Binding }

// New returns the view at the top.
func New() screen.View {
	return View{at: parts.NewScroll(), find: parts.NewInput("text to look for", ""), keys: keys{
		take:  key.NewBinding(key.WithKeys("t"), key.WithHelp("t", "start all the same")),
		other: key.NewBinding(key.WithKeys("o"), key.WithHelp("o", "other pair")),
		look:  key.NewBinding(key.WithKeys("/"), key.WithHelp("/", "look for")),
		save:  key.NewBinding(key.WithKeys("s"), key.WithHelp("s", "save to files")),
	}}
}

// Captures implements screen.Capturer.
func (v View) Captures() bool { return v.typed }

// Keys implements screen.View.
func (v View) Keys(s screen.Scene) []key.Binding {
	if v.typed {
		return []key.Binding{
			key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "look for it")),
			key.NewBinding(key.WithKeys("esc"), key.WithHelp("esc", "leave it")),
		}
	}
	if s.Run == nil {
		return nil
	}
	var out []key.Binding
	if refused(s) {
		out = append(out, v.keys.take)
	}
	out = append(out, v.at.Key(), v.at.Page(), v.keys.look)
	if len(s.Run.Result.Entrants) > 2 {
		out = append(out, v.keys.other)
	}
	return append(out, v.keys.save, v.at.Back())
}

// refused reports whether the run in view ended because of unequal work, which may be accepted.
func refused(s screen.Scene) bool { return s.Run != nil && weighin.IsUnequal(s.Run.Err) }

// Update implements screen.View.
func (v View) Update(msg tea.Msg, s screen.Scene) (screen.View, tea.Cmd) {
	if v.typed {
		return v.write(msg, s)
	}
	press, ok := msg.(tea.KeyPressMsg)
	if !ok || s.Run == nil {
		return v, nil
	}
	if next, moved := v.at.Press(press, v.lines(s, s.Width), s.Width, s.Height); moved {
		v.at = next
		return v, nil
	}
	switch {
	case key.Matches(press, v.keys.other):
		v.turn++
		v.at = v.at.Top()
	case key.Matches(press, v.keys.look):
		v.typed = true
		v.find.SetValue(v.text)
		return v, v.find.Focus()
	case key.Matches(press, v.keys.save):
		return v, screen.Send(screen.SaveAnswersMsg{})
	case key.Matches(press, v.keys.take) && refused(s):
		return v, screen.Send(screen.AcceptMsg{})
	}
	return v, nil
}

// write takes keys while the user writes what to look for.
func (v View) write(msg tea.Msg, s screen.Scene) (screen.View, tea.Cmd) {
	if press, ok := msg.(tea.KeyPressMsg); ok {
		switch press.String() {
		case "esc":
			v.typed = false
			return v, nil
		case "enter":
			from := v.at.From()
			if v.find.Value() == v.text {
				from = v.found + 1 // the next place
			}
			v.typed, v.text = false, v.find.Value()
			if v.text == "" || s.Run == nil {
				return v, nil
			}
			return v.seek(s, from)
		}
	}
	var cmd tea.Cmd
	v.find, cmd = v.find.Update(msg)
	return v, cmd
}

// seek scrolls to the next line that holds the text, from a line on and then from the top.
func (v View) seek(s screen.Scene, from int) (screen.View, tea.Cmd) {
	lines := v.lines(s, s.Width)
	want := strings.ToLower(v.text)
	for i := range lines {
		at := (from + i) % len(lines)
		if strings.Contains(strings.ToLower(ansi.Strip(lines[at])), want) {
			v.found, v.at = at, v.at.To(at, lines, s.Width, s.Height)
			return v, nil
		}
	}
	return v, screen.Send(screen.SayMsg{
		Text: fmt.Sprintf("%q stands in neither of the two, as far as they are kept", v.text), Trouble: true,
	})
}

// Sentence implements screen.View.
func (v View) Sentence(s screen.Scene) string {
	if s.Run == nil {
		return "No contender has been asked yet; start a duel under ask, or open an earlier run under log."
	}
	var failed []string
	asked := 0
	for _, e := range s.Run.Result.Entrants {
		if e.Touch == nil {
			continue
		}
		asked++
		if !weighin.Passed(e.Touch) {
			failed = append(failed, e.Name)
		}
	}
	w := s.Run.Result.Weighing
	unequal := w.Unequal()
	switch {
	case len(failed) > 0:
		text := fmt.Sprintf(
			"%s did not pass the weigh-in, so nothing was timed; each shows its own words and what to try.", units.List(failed),
		)
		if len(unequal) > 0 {
			text += fmt.Sprintf(" %s did not do the work of %s: %s.", units.List(unequal), s.Run.Result.Plan.Baseline, w.First())
		}
		return text
	case asked < len(s.Run.Result.Entrants):
		text := fmt.Sprintf(
			"Each contender is asked once before any timing: %d of %d so far", asked, len(s.Run.Result.Entrants),
		)
		if s.Run.Asking != nil {
			text += "; " + s.Run.Asking.Words()
		}
		return text + "."
	case refused(s):
		return fmt.Sprintf(
			"%s broke the plan's rules for the same work, so nothing was timed: %s.", units.List(unequal), w.First(),
		)
	case len(unequal) > 0 && w.Accepted:
		return fmt.Sprintf(
			"%s broke the plan's rules for the same work, and that was accepted: %s.", units.List(unequal), w.First(),
		)
	case len(unequal) > 0:
		return fmt.Sprintf(
			"All passed the weigh-in, but %s did not answer as %s did (%s); make sure that they do the same work.",
			units.List(unequal), s.Run.Result.Plan.Baseline, w.First(),
		)
	case w != nil:
		return "All passed the weigh-in, and all do the same work."
	}
	return "All passed the weigh-in."
}

// Body implements screen.View.
func (v View) Body(s screen.Scene, w, h int) string {
	if s.Run == nil {
		return ""
	}
	var lines []string
	if v.typed {
		lines = append(lines, s.Theme.Strong.Render("look for  ")+parts.InputLine(v.find, max(w-10, 1)))
		h--
	}
	for _, line := range v.at.Lines(v.lines(s, w), w, h) {
		if v.text != "" && strings.Contains(strings.ToLower(ansi.Strip(line)), strings.ToLower(v.text)) {
			line = s.Theme.Here.Render("›") + ansi.Cut(line, 1, w)
		}
		lines = append(lines, line)
	}
	return strings.Join(lines, "\n")
}

// pair is the contender that stands against the baseline: at first one that does other work, else the first.
func (v View) pair(s screen.Scene) int {
	r := s.Run.Result
	var others []int
	start := -1
	unequal := r.Weighing.Unequal()
	for i, e := range r.Entrants {
		if e.Name == r.Plan.Baseline {
			continue
		}
		if start < 0 && slices.Contains(unequal, e.Name) {
			start = len(others)
		}
		others = append(others, i)
	}
	return others[(max(start, 0)+v.turn)%len(others)]
}

// lines is the whole view: everybody in a line or a few, then two of them face to face.
func (v View) lines(s screen.Scene, w int) []string {
	type linesKey struct {
		w, pair int
		dark    bool
	}
	pair := v.pair(s)
	return screen.Picture(s, linesKey{w, pair, s.Theme.Dark}, func() []string { return linesOf(s, pair, w) })
}

// linesOf draws everybody, and the i-th contender against the baseline.
func linesOf(s screen.Scene, i, w int) (lines []string) {
	for i := range s.Run.Result.Entrants {
		lines = append(lines, roster(s, i, w)...)
	}
	r := s.Run.Result
	base, own := r.Entrant(r.Plan.Baseline), &r.Entrants[i]
	if base.Touch == nil || own.Touch == nil || base.Touch.Latency == 0 || own.Touch.Latency == 0 {
		return lines // who never started has nothing to show
	}
	if b := chart.NewBeam(r, i); b != nil && weighin.Passed(base.Touch) && weighin.Passed(own.Touch) {
		lines = append(append(lines, ""), beam(s, b, w)...)
	}
	f := newFace(s, i, w)
	lines = append(lines, "", f.heading())
	lines = append(lines, f.facts(base, own)...)
	if weights := chart.NewWeights(r, i); weights != nil {
		lines = append(lines, f.weights("what its bytes are", weights.Body, weights.BodyScale)...)
		lines = append(lines, f.weights("its headers", weights.Headers, weights.HeadersScale)...)
	}
	lines = append(lines, f.checks(r.Weighing, own.Name)...)
	return append(lines, f.said(base.Touch, own.Touch)...)
}

// roster is one contender in a line; one that failed has its own words and what to try below.
func roster(s screen.Scene, i, w int) (lines []string) {
	e, sign := s.Run.Result.Entrants[i], chart.SignOf(i)
	style := s.Theme.Sign(sign)
	const nameWidth, outcomeWidth = 20, 18
	name := style.Bold(true).Render(parts.Cell(sign.Glyph+" "+e.Name, nameWidth))
	t := e.Touch
	switch {
	case t == nil:
		return []string{name + s.Theme.Faint.Render("not asked yet")}
	case !weighin.Passed(t):
		lines = append(lines, name+s.Theme.Trouble.Render(
			parts.Cell(t.Class, outcomeWidth),
		)+s.Theme.Faint.Render(parts.Cell(e.Does, max(w-nameWidth-outcomeWidth, 1))))
		first, rest, _ := strings.Cut(t.Err, "\n")
		for _, part := range parts.Wrap(units.Printable(first), w-nameWidth) {
			lines = append(lines, strings.Repeat(" ", nameWidth)+s.Theme.Trouble.Render(part))
		}
		for _, l := range textLines(rest) { // shows a place by where it stands
			lines = append(lines, strings.Repeat(" ", nameWidth)+s.Theme.Trouble.Render(
				parts.Cell(units.Printable(l), w-nameWidth),
			))
		}
		for _, part := range parts.Wrap("→ "+t.Try, w-nameWidth) {
			lines = append(lines, strings.Repeat(" ", nameWidth)+part)
		}
		return lines
	}
	figures := fmt.Sprintf("first touch %s", units.Duration(t.Latency))
	if t.State != "" {
		figures = fmt.Sprintf("first touch, %s, %s", t.State, units.Duration(t.Latency))
	}
	if again := e.Again; again != nil && weighin.Passed(again) {
		figures += fmt.Sprintf("; %s %s", again.State, units.Duration(again.Latency))
	}
	room := min(46, max(w-nameWidth-outcomeWidth, 0))
	lines = append(lines, name+parts.Cell(t.Outcome, outcomeWidth)+parts.Cell(figures, room)+
		s.Theme.Faint.Render(fitOrNothing(e.Does, w-nameWidth-outcomeWidth-room)))
	if telling := t.Telling(); telling != "" {
		for _, part := range parts.Wrap("tells "+units.Printable(telling), w-nameWidth) {
			lines = append(lines, strings.Repeat(" ", nameWidth)+s.Theme.Faint.Render(part))
		}
	}
	if first, _, more := strings.Cut(strings.TrimSpace(t.Stderr), "\n"); first != "" {
		text := "on standard error: " + units.Printable(first)
		if more {
			text += " …"
		}
		lines = append(lines, strings.Repeat(" ", nameWidth)+s.Theme.Faint.Render(parts.Cell(text, w-nameWidth)))
	}
	for _, note := range t.Notes {
		lines = append(lines, strings.Repeat(" ", nameWidth)+s.Theme.Caution.Render(parts.Cell("! "+note, w-nameWidth)))
	}
	if again := e.Again; again != nil && !weighin.Passed(again) {
		lines = append(lines, strings.Repeat(" ", nameWidth)+s.Theme.Trouble.Render(
			parts.Cell(again.State+": "+units.Printable(again.Err), w-nameWidth),
		))
	}
	return lines
}

// fitOrNothing is a text in w cells, or nothing where that would not be worth reading.
func fitOrNothing(text string, w int) string {
	if w < 12 {
		return ""
	}
	return parts.Cell(text, w)
}

// beamHeight is the rows that a beam has to tip in.
const beamHeight = 4

// beam draws two payloads on a beam that tips to the heavier one.
func beam(s screen.Scene, b *chart.Beam, w int) (lines []string) {
	arm := min(max(w-56, 16), 60)
	side := (w - arm) / 2
	canvas := parts.NewPlot(arm, beamHeight)
	points := 4 * arm
	for i := range points {
		x := float64(i) / float64(points-1)
		canvas.Dot(chart.Dot{X: x, Y: 0.5 + b.Tilt*(x-0.5)*0.9})
	}
	rows := canvas.Lines(s.Theme.Ink, s.Theme.Ink)
	// A pan stands where its end of the beam is.
	row := func(tilt float64) int { return min(int((1-(0.5+tilt*0.45))*beamHeight), beamHeight-1) }
	left, right := s.Theme.Sign(b.Left.Sign), s.Theme.Sign(b.Right.Sign)
	for i, line := range rows {
		l, r := "", ""
		if i == row(-b.Tilt) {
			l = left.Bold(true).Render(b.Left.Name+" "+b.Left.Sign.Glyph) + " " + left.Render(b.LeftText)
		}
		if i == row(b.Tilt) {
			r = right.Render(b.RightText) + " " + right.Bold(true).Render(b.Right.Sign.Glyph+" "+b.Right.Name)
		}
		if middle := arm / 2; i >= beamHeight/2 && strings.TrimSpace(ansi.Strip(ansi.Cut(line, middle, middle+1))) == "" {
			line = parts.Cell(ansi.Cut(line, 0, middle), middle) + s.Theme.Faint.Render("┃") + ansi.Cut(line, middle+1, arm)
		}
		lines = append(lines, parts.Right(l+" ", side)+parts.Cell(line, arm)+parts.Cell(" "+r, w-side-arm))
	}
	return append(
		lines, strings.Repeat(
			" ", max(side+arm/2-2, 0),
		)+s.Theme.Faint.Render("━━┻━━"), parts.Center(s.Theme.Strong.Render(b.Say), w),
	)
}
