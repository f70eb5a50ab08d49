// Package footing is the stop that shows what runs start from: the steps around a run as brackets in each other, with
// what each costs, what a run changed in its workspace, and what this machine can and cannot do.
package footing

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

// View is scrolled to a line.
type View struct {
	scroll parts.Scroll
	update key.Binding
}

// New returns the view.
func New() screen.View {
	return View{
		scroll: parts.NewScroll(),
		update: key.NewBinding(key.WithKeys("u"), key.WithHelp("u", "update")),
	}
}

// Keys implements screen.View.
func (v View) Keys(screen.Scene) []key.Binding { return []key.Binding{v.scroll.Key(), v.update} }

// Update implements screen.View.
func (v View) Update(msg tea.Msg, s screen.Scene) (screen.View, tea.Cmd) {
	press, ok := msg.(tea.KeyPressMsg)
	if !ok {
		return v, nil
	}
	if next, moved := v.scroll.Press(press, v.lines(s, s.Width), s.Width, s.Height); moved {
		v.scroll = next
	} else if key.Matches(press, v.update) {
		return v, screen.Send(screen.ProbeMsg{})
	}
	return v, nil
}

// groundKey is that of the footing in view: of the run, or of a plan.
type groundKey struct{ planned any }

// ground is the footing in view: that of the run, else of the duel that is chosen under ask.
func ground(s screen.Scene) *chart.Ground {
	switch {
	case s.Run != nil:
		return screen.Picture(s, groundKey{}, func() *chart.Ground { return chart.NewGround(s.Run.Result, s.Run.Heats) })
	case s.Chosen != nil && s.Chosen.Plan != nil:
		p := s.Chosen.Plan
		return screen.Picture(s, groundKey{p}, func() *chart.Ground { return chart.PlannedGround(p) })
	}
	return nil
}

// Sentence implements screen.View.
func (v View) Sentence(s screen.Scene) string {
	g := ground(s)
	switch {
	case g == nil:
		return "No duel is chosen; choose one under ask."
	case s.Run != nil && s.Run.Awaits != "":
		return "The run begins when its agents are there: paceduel join lets a machine be one."
	case g.Bare() && s.Run != nil && s.Run.Result.Load != nil:
		return fmt.Sprintf("Driven from elsewhere by %s; nothing is prepared here.", s.Run.Result.Load.Words)
	case g.Bare() && s.Run == nil:
		return fmt.Sprintf(
			"%s prepares nothing: every run starts from what the one before it left. Keys under footing: in its plan change "+
				"that.",
			s.Chosen.Plan.Name,
		)
	case g.Bare():
		return "Nothing was prepared: every run started from what the one before it left."
	case s.Run == nil:
		return fmt.Sprintf("This is what %s will do around each run, in order and outside any timing.", s.Chosen.Plan.Name)
	case len(s.Run.Result.Footing.Cannot) > 0:
		return fmt.Sprintf("This machine cannot do all that the plan asks for: %s.", s.Run.Result.Footing.Cannot[0])
	case g.Aside == units.None:
		return "This is what is done around each run, in order and outside any timing."
	}
	return fmt.Sprintf(
		"Around the runs, outside any timing, %s went into their footing; the judged runs themselves took %s.", g.Aside,
		g.Timed,
	)
}

// Body implements screen.View.
func (v View) Body(s screen.Scene, w, h int) string {
	return strings.Join(v.scroll.Lines(v.lines(s, w), w, h), "\n")
}

// lines is the whole view.
func (v View) lines(s screen.Scene, w int) (lines []string) {
	if g := ground(s); g != nil {
		lines = append(lines, v.steps(s, g, w)...)
		lines = append(lines, changes(s, w)...)
	}
	lines = append(lines, agents(s, w)...)
	return append(lines, machine(s, w)...)
}

// agents are those who drive the run from elsewhere: where they are, and how well their clocks are known.
func agents(s screen.Scene, w int) (lines []string) {
	if s.Run == nil {
		return nil
	}
	if s.Run.Awaits != "" {
		return []string{"", parts.Cell(s.Theme.Caution.Render(s.Run.Awaits), w)}
	}
	list := chart.Agents(s.Run.Result)
	if len(list) == 0 {
		return nil
	}
	table := [][]string{chart.AgentTitles}
	for i := range list {
		table = append(table, list[i].Cells())
	}
	lines = append(lines, "", s.Theme.Faint.Render("driven by "+s.Run.Result.Load.Words))
	return append(lines, parts.Table(s.Theme.Faint.Render, table, w)...)
}

const (
	levelWidth = 12
	bracket    = 6  // four levels and a gap
	least      = 10 // of a column
	most       = 18
)

// steps draws the brackets: each level opens with what is done before it and closes with what is done after it.
func (v View) steps(s screen.Scene, g *chart.Ground, w int) (lines []string) {
	columns := g.Columns[:min(len(g.Columns), max((w-levelWidth-bracket-24)/least, 1))]
	cellWidth := min(max((w-levelWidth-bracket-44)/len(columns), least), most)
	what := w - levelWidth - bracket - cellWidth*len(columns)
	names, states := "", ""
	for _, c := range columns {
		style := s.Theme.Sign(c.Sign)
		names += parts.Right(
			style.Bold(true).Render(parts.Cell(c.Sign.Glyph+" "+c.Name, min(cellWidth-1, len([]rune(c.Name))+2))), cellWidth,
		)
		states += parts.Right(style.Render(c.State), cellWidth)
	}
	indent := strings.Repeat(" ", levelWidth+bracket)
	lines = append(lines, indent+parts.Cell(s.Theme.Faint.Render("what is done, and what it costs each time"),
		what)+names)
	if strings.TrimSpace(states) != "" && columns[0].State != "" {
		lines = append(lines, indent+strings.Repeat(" ", what)+states)
	}
	level := ""
	for i, row := range g.Rows {
		label := ""
		if row.Level != level {
			label, level = "each "+row.Level, row.Level
			if row.Level == "duel" {
				label = "once"
			}
		}
		style := s.Theme.Ink
		if row.Timed {
			style = s.Theme.Strong
		}
		line := s.Theme.Faint.Render(parts.Cell(label, levelWidth)) + s.Theme.Faint.Render(rail(g.Rows, i)) +
			style.Render(parts.Cell(row.What, what))
		for j, cell := range row.Cells[:len(columns)] {
			text := s.Theme.Faint.Render("·")
			switch {
			case row.Timed:
				text = s.Theme.Sign(columns[j].Sign).Render("▬▬ timed")
			case cell.Has:
				text = cell.Each
			}
			line += parts.Right(text, cellWidth)
		}
		lines = append(lines, parts.Cell(line, w))
		if said := lastSaid(row); said != "" && !row.Timed {
			lines = append(lines, s.Theme.Faint.Render(
				strings.Repeat(" ", levelWidth)+strings.NewReplacer("┌", "│", "└", " ").Replace(rail(g.Rows, i))+parts.Cell(
					"  "+said, w-levelWidth-bracket,
				),
			))
		}
	}
	if len(columns) < len(g.Columns) {
		lines = append(lines, s.Theme.Faint.Render(
			fmt.Sprintf("and %s to the right; a wider window shows them", units.Plural(len(g.Columns)-len(columns),
				"column")),
		))
	}
	return lines
}

// rail is the row's place in the brackets: a line for each level that is open around it.
func rail(rows []chart.GroundRow, i int) string {
	row := rows[i]
	out := ""
	for depth := range 4 {
		switch {
		case depth > row.Depth:
			out += " "
		case depth == row.Depth && row.Timed:
			out += "┝"
		case depth == row.Depth && row.After && !later(rows, i, depth):
			out += "└"
		case depth == row.Depth && !row.After && !earlier(rows, i, depth):
			out += "┌"
		case earlier(rows, i, depth) && later(rows, i, depth) || depth == row.Depth:
			out += "│"
		case earlier(rows, i, depth):
			out += "│"
		default:
			out += " "
		}
	}
	return out + "  "
}

func earlier(rows []chart.GroundRow, i, depth int) bool {
	for _, r := range rows[:i] {
		if r.Depth == depth {
			return true
		}
	}
	return false
}

func later(rows []chart.GroundRow, i, depth int) bool {
	for _, r := range rows[i+1:] {
		if r.Depth == depth {
			return true
		}
	}
	return false
}

// lastSaid is the last line that a step printed for any column.
func lastSaid(row chart.GroundRow) string {
	for i := len(row.Cells) - 1; i >= 0; i-- {
		if text := strings.TrimSpace(row.Cells[i].Said); text != "" {
			lines := strings.Split(text, "\n")
			return strings.Map(func(r rune) rune {
				if r < ' ' {
					return ' '
				}
				return r
			}, lines[len(lines)-1])
		}
	}
	return ""
}

// changes say what the latest run of each contender left changed in its workspace.
func changes(s screen.Scene, w int) (lines []string) {
	if s.Run == nil {
		return nil
	}
	for i, e := range s.Run.Result.Entrants {
		c := latest(s.Run, e)
		if c == nil {
			continue
		}
		sign := chart.SignOf(i)
		if lines == nil {
			lines = append(lines, "", s.Theme.Faint.Render("what the latest heat left changed in its workspace"))
		}
		lines = append(lines, s.Theme.Sign(sign).Bold(true).Render(
			parts.Cell(sign.Glyph+" "+e.Name, 20),
		)+parts.Cell(chart.ChangesWords(c), max(w-20, 1)))
	}
	return lines
}

func latest(run *screen.Run, e result.Entrant) *result.Changes {
	for i := len(run.Heats) - 1; i >= 0; i-- {
		if h := &run.Heats[i]; h.Contender == e.Name && h.Changes != nil {
			return h.Changes
		}
	}
	if e.Touch != nil {
		return e.Touch.Changes
	}
	return nil
}

// machine says what this machine can do for a footing, and what it is at just now.
func machine(s screen.Scene, w int) (lines []string) {
	if s.Machine == nil {
		return nil
	}
	lines = append(lines, "", s.Theme.Faint.Render("this machine"))
	m := s.Machine
	say := func(what, why string) {
		mark, text := "✓ ", s.Theme.Ink.Render(what)
		if why != "" {
			mark, text = "– ", s.Theme.Faint.Render(what+": "+why)
		}
		lines = append(lines, parts.Cell(mark+text, w))
	}
	say("pages of single files can be dropped where workspaces are kept", m.Able.DropPages)
	say("copies share their blocks with the original there", m.Able.ShareBlocks)
	say("its file cache can be dropped", m.Able.DropMachine)
	say("niceness below 0 can be had", m.Able.Hurry)
	say("processors for us: "+m.Able.CPUs.String(), "")
	lines = append(lines, parts.Cell("  just now "+m.Words(), w))
	return lines
}
