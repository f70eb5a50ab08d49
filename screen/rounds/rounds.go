// Package rounds is the stop where a duel runs: a lane for each contender with its shots as dots, the running order, and
// how far it is.
package rounds

import (
	"fmt"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"paceduel/core/chart"
	"paceduel/core/result"
	"paceduel/core/units"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// View has no state of its own.
type View struct{ halt key.Binding }

// New returns the view.
func New() screen.View {
	return View{halt: key.NewBinding(key.WithKeys("h"), key.WithHelp("h", "halt and keep"))}
}

// Keys implements screen.View.
func (v View) Keys(s screen.Scene) []key.Binding {
	if s.Run == nil || !s.Run.Live {
		return nil
	}
	return []key.Binding{v.halt}
}

// Update implements screen.View.
func (v View) Update(msg tea.Msg, s screen.Scene) (screen.View, tea.Cmd) {
	if press, ok := msg.(tea.KeyPressMsg); ok && key.Matches(press, v.halt) && s.Run != nil && s.Run.Live {
		return v, screen.Send(screen.HaltMsg{})
	}
	return v, nil
}

// Sentence implements screen.View.
func (v View) Sentence(s screen.Scene) string {
	run := s.Run
	if run == nil {
		return "No duel is on; start one under ask."
	}
	total := run.Result.Planned()
	switch {
	case run.Live && run.Now != nil:
		n := run.Now
		text := fmt.Sprintf("Round %d of %d: %s is on, %s.", n.Round, run.Result.Plan.Rounds, title(n.Contender, n.State), n.Stage)
		if n.P50 > 0 {
			text += fmt.Sprintf(" Its latest shots: half within %s, 99 of 100 within %s.", units.Duration(n.P50), units.Duration(n.P99))
		}
		return text
	case run.Live:
		return "Each contender is asked once before any timing."
	case run.Err != nil && len(run.Heats) == 0:
		return "Nothing was timed: " + run.Err.Error() + "."
	case run.Result.Ending != result.Done:
		return fmt.Sprintf("This run was %s: %d of %d heats are kept.", ended(run.Result.Ending), len(run.Heats), total)
	}
	return fmt.Sprintf("All %d heats are done, %d rounds of %s.", total, run.Result.Plan.Rounds, run.Result.Plan.Pace.Words)
}

func title(contender, state string) string { return strings.TrimSpace(contender + " " + state) }

func ended(e result.Ending) string {
	if e == result.Failed {
		return "not completed"
	}
	return string(e)
}

// Widths of what stands beside a lane.
const (
	nameWidth = 16
	axisWidth = 8
	sideWidth = 20
)

// Body implements screen.View.
func (v View) Body(s screen.Scene, w, h int) string {
	run := s.Run
	if run == nil {
		return ""
	}
	var now *result.Heat
	if run.Now != nil {
		now = &run.Now.Heat
	}
	picture := chart.NewLanes(run.Result, run.Heats, now)
	below := 5
	if h < 20 {
		below = 3
	}
	each := min(max((h-below)/len(picture.Lanes), 2), 12)
	narrow := w < 90
	plot := w - nameWidth - axisWidth - 2
	if !narrow {
		plot -= sideWidth
	}
	var lines []string
	for i, lane := range picture.Lanes {
		lines = append(lines, v.lane(s, picture, lane, i, plot, each-1, narrow)...)
	}
	lines = append(lines, strings.Repeat(" ", nameWidth+axisWidth)+s.Theme.Faint.Render(roundAxis(picture.Rounds, plot)))
	if below > 3 {
		lines = append(lines, "")
	}
	lines = append(lines, v.order(s, w))
	return strings.Join(lines, "\n")
}

// lane draws one contender's shots in h lines and a rule beneath.
func (v View) lane(s screen.Scene, p *chart.Lanes, lane chart.Lane, i, plot, h int, narrow bool) []string {
	style := s.Theme.Sign(lane.Sign)
	canvas := parts.NewPlot(plot, h)
	for _, d := range lane.Dots {
		canvas.Dot(d)
	}
	rows := canvas.Lines(style, s.Theme.Trouble)
	name := v.label(s, lane, i)
	side := v.side(s, lane)
	out := make([]string, 0, h+1)
	for row := range h {
		label, note := "", ""
		if row < len(name) {
			label = name[row]
		}
		if row < len(side) && !narrow {
			note = side[row]
		}
		line := parts.Cell(label, nameWidth) + s.Theme.Faint.Render(parts.Right(axisLabel(p.Scale, row, h), axisWidth-1)+"┊") + parts.Cell(rows[row], plot)
		if !narrow {
			line += "  " + parts.Cell(note, sideWidth)
		}
		out = append(out, line)
	}
	return append(out, s.Theme.Faint.Render(strings.Repeat(" ", nameWidth+axisWidth-1)+"┊"+strings.Repeat("┈", plot)))
}

// axisLabel is the tick that falls into a row of the lane: the ends always, others where there is room.
func axisLabel(scale chart.Scale, row, h int) string {
	ticks := scale.Ticks
	switch {
	case len(ticks) == 0:
		return ""
	case row == 0:
		return ticks[len(ticks)-1].Label
	case row == h-1:
		return ticks[0].Label
	}
	for _, t := range ticks[1 : len(ticks)-1] {
		if at := h - 1 - min(int(t.At*float64(h)), h-1); at == row && at > 0 && at < h-1 {
			return t.Label
		}
	}
	return ""
}

func (v View) label(s screen.Scene, lane chart.Lane, _ int) (lines []string) {
	style := s.Theme.Sign(lane.Sign).Bold(true)
	lines = append(lines, style.Render(parts.Cell(lane.Sign.Glyph+" "+lane.Name, nameWidth-1)))
	if lane.Baseline {
		lines = append(lines, s.Theme.Faint.Render("baseline"))
	}
	if lane.State != "" {
		lines = append(lines, s.Theme.Strong.Render(lane.State))
	}
	if n := s.Run.Now; n != nil && n.Contender == lane.Name && n.State == lane.State {
		lines = append(lines, s.Theme.Strong.Render("on, "+n.Stage.String()))
	}
	return lines
}

// side is what stands at the end of a lane: its figures over the finished heats, or the latest shots of the first.
func (v View) side(s screen.Scene, lane chart.Lane) (lines []string) {
	field := func(name, value string) {
		lines = append(lines, s.Theme.Faint.Render(parts.Cell(name, 8))+value)
	}
	lane1 := s.Run.Lane(lane.Name, lane.State)
	field("p50", lane1.P50)
	field("p99", lane1.P99)
	field("shots", lane1.Shots)
	if n := s.Run.Now; n != nil && n.Contender == lane.Name && n.State == lane.State && n.Rate > 0 {
		field("now", units.Rate(n.Rate))
	} else {
		field("rate", lane1.Rate)
	}
	if lane1.Failed > 0 {
		lines = append(lines, s.Theme.Trouble.Render(units.Count(lane1.Failed)+" failed"))
	}
	return lines
}

// roundAxis numbers the rounds along the plot.
func roundAxis(rounds, w int) string {
	line := []rune(strings.Repeat(" ", max(w, 0)))
	step := 1
	for rounds/step > max(w/6, 1) {
		step *= 2
	}
	for r := 0; r < rounds; r += step {
		label := []rune(fmt.Sprint(r + 1))
		if r == 0 {
			label = []rune("round 1")
		}
		at := r * w / rounds
		if at+len(label) <= len(line) && (r == 0 || at > len("round 1")) {
			copy(line[at:], label)
		}
	}
	return string(line)
}

// order draws the running order: rounds that are done, the one that is on, those ahead.
func (v View) order(s screen.Scene, w int) string {
	run := s.Run
	done := len(run.Heats)
	var groups []string
	k, here := 0, 0
	each := len(run.Result.Order[0]) + 1
	states := len(run.Result.States()) > 1
	if states {
		each += each - 1
	}
	for round := range run.Result.Order {
		group := ""
		for _, bout := range run.Result.Bouts(round) {
			sign := chart.SignFor(run.Result, bout.Contender)
			switch {
			case k < done:
				group += s.Theme.Sign(sign).Render(sign.Glyph)
			case k == done && run.Live && run.Now != nil:
				group += s.Theme.Here.Render(sign.Glyph)
				here = round
			default:
				group += s.Theme.Faint.Render(sign.Glyph)
			}
			if states {
				group += s.Theme.Faint.Render(bout.State[:1]) // c or w
			}
			k++
		}
		groups = append(groups, group)
	}
	label := s.Theme.Faint.Render(parts.Cell("running order", nameWidth))
	fit := max((w-nameWidth-4)/each, 1)
	shown := parts.Window(groups, here, fit)
	more := ""
	if len(shown) < len(groups) {
		more = s.Theme.Faint.Render(" …")
	}
	return label + strings.Join(shown, " ") + more
}
