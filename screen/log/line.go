package log

import (
	"math"
	"strings"

	"charm.land/lipgloss/v2"

	"paceduel/core/chart"
	"paceduel/core/history"
	"paceduel/core/units"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// tickWidth is the room of the ratios beside a lane.
const tickWidth = 8

// How many rows lanes have.
const (
	smallLane = 3
	mostLane  = 17
	leastLane = 4
)

// duelsBody lists the duels of the logbook, each with small time lines.
func (v View) duelsBody(s screen.Scene, w, h int) string {
	var list []string
	at := 0
	for i, l := range s.Lines {
		here := i == v.duel.At(len(s.Lines))
		if here {
			at = len(list)
		}
		list = append(list, v.duelEntry(s, l, here, w)...)
	}
	return strings.Join(parts.Window(list, at, h), "\n")
}

// duelEntry is a duel's name, what is to be said of its runs, and a small time line of each of its first challengers.
func (v View) duelEntry(s screen.Scene, l *history.Line, here bool, w int) []string {
	const most = 2 // challengers
	mark, name := "  ", s.Theme.Ink
	if here {
		mark, name = s.Theme.Strong.Render("▌ "), s.Theme.Strong
	}
	head := name.Render(l.Duel) + s.Theme.Faint.Render("   "+units.Plural(max(l.All, len(l.Runs)), "run"))
	if n := len(l.Runs); n > 0 {
		head += s.Theme.Faint.Render(", the newest of " + s.When(l.Runs[n-1].Started))
	}
	lines := []string{mark + parts.Cell(head, max(w-2, 0))}
	for _, part := range parts.Wrap(l.Sentence, max(w-2, 1)) {
		lines = append(lines, mark+parts.Cell(s.Theme.Faint.Render(part), max(w-2, 0)))
	}
	p := chart.NewHistory(l)
	for i := range p.Lanes[:min(len(p.Lanes), most)] {
		for _, row := range v.lane(s, p, &p.Lanes[i], max(w-4, 0), smallLane, -1) {
			lines = append(lines, mark+"  "+row)
		}
	}
	if more := len(p.Lanes) - most; more > 0 {
		lines = append(lines, mark+"  "+s.Theme.Faint.Render("and "+units.Plural(more, "challenger")+" more"))
	}
	return append(lines, "")
}

// lineBody is one duel's time lines, with what is known of the run at hand.
func (v View) lineBody(s screen.Scene, l *history.Line, w, h int) string {
	p := chart.NewHistory(l)
	at := v.run.At(len(l.Runs))
	var below []string
	r := &l.Runs[at]
	id := r.ID
	if v.first == r.ID {
		id += ", to be held to another"
	}
	below = append(below, "", s.Theme.Strong.Render(r.Started.Format("2 Jan 2006 15:04"))+"   "+s.Theme.Ink.Render(id))
	for i := range l.Tracks {
		if said := l.Tracks[i].At(at); said != "" && i < 4 {
			below = append(below, "  "+s.Theme.Sign(p.Lanes[i].Sign).Render(p.Lanes[i].Sign.Glyph+" "+p.Lanes[i].Title)+
				"  "+said)
		}
	}
	if len(r.Changes) > 0 {
		var changes []string
		for _, c := range r.Changes {
			changes = append(changes, c.String())
		}
		for _, part := range parts.Wrap("changed since the run before: "+units.List(changes), max(w-2, 1)) {
			below = append(below, "  "+part)
		}
	}
	if len(r.Tags)+len(r.Note) > 0 {
		for _, part := range parts.Wrap(strings.TrimSpace(strings.Join(r.Tags, " · ")+"  "+r.Note), max(w-2, 1)) {
			below = append(below, "  "+s.Theme.Ink.Render(part))
		}
	}
	below = append(below, "", s.Theme.Faint.Render("changed before a run: "+chart.ChangeKey))
	room := h - len(below)
	lanes := max(1, min(len(p.Lanes), room/(leastLane+4)))
	each := min(max(room/lanes-4, leastLane), mostLane)
	var lines []string
	for i := range p.Lanes[:min(lanes, len(p.Lanes))] {
		lane := &p.Lanes[i]
		title := s.Theme.Sign(lane.Sign).Bold(true).Render(lane.Sign.Glyph + " " + lane.Title)
		lines = append(lines, title)
		lines = append(lines, v.lane(s, p, lane, w, each, at)...)
		if lane.Says != l.Sentence { // which stands above
			lines = append(lines, parts.Cell(strings.Repeat(" ", tickWidth+1)+s.Theme.Faint.Render(lane.Says), w))
		}
		lines = append(lines, "")
	}
	if more := len(p.Lanes) - lanes; more > 0 {
		lines = append(lines, s.Theme.Faint.Render("  and "+units.Plural(more, "challenger")+" more in a higher window"))
	}
	return strings.Join(append(lines, below...), "\n")
}

// lane draws how a challenger stood from run to run in so many rows, with what changed beneath; at is the run at hand,
// -1 for none. Where there are more runs than columns the latest are drawn.
func (v View) lane(s screen.Scene, p *chart.History, l *chart.HistoryLane, w, rows, at int) (lines []string) {
	const most = 9 // columns for a run
	plot := max(w-tickWidth-1, 4)
	n := len(p.Runs)
	step := max(min(plot/max(n, 1), most), 2)
	first := max(0, n-plot/step)
	if at >= 0 && at < first {
		first = at
	}
	column := func(run int) int { return (run-first)*step + step/2 }
	g := grid{w: plot, h: rows, cells: make([]string, plot*rows)}
	if l.One > 0 && l.One < 1 {
		for x := range plot {
			g.set(x, l.One, s.Theme.Faint.Render("╌"))
		}
	}
	own := s.Theme.Sign(l.Sign)
	for i := range l.Dots {
		d := &l.Dots[i]
		x := column(d.Run)
		if d.Run < first || x >= plot {
			continue
		}
		if d.Shifts && x-step/2-1 >= 0 {
			for row := range rows {
				g.cells[row*plot+x-(step+1)/2] = s.Theme.Caution.Render("┊")
			}
		}
		if !math.IsNaN(d.Low) {
			for row := g.row(d.High); row <= g.row(d.Low); row++ {
				g.cells[row*plot+x] = own.Render("│")
			}
		}
		glyph := own.Bold(true)
		if d.Run == at {
			glyph = glyph.Reverse(true)
		}
		g.set(x, d.Y, glyph.Render(l.Sign.Glyph))
	}
	ticks := make([]string, rows)
	for _, t := range l.Scale.Ticks {
		ticks[g.row(t.At)] = t.Label
	}
	for row := range rows {
		lines = append(lines, s.Theme.Faint.Render(parts.Right(ticks[row], tickWidth))+" "+g.line(row))
	}
	return append(lines, strings.Repeat(" ", tickWidth+1)+s.Theme.Caution.Render(marksLine(p, first, plot, column)))
}

// marksLine says what changed before each run.
func marksLine(p *chart.History, first, plot int, column func(int) int) string {
	out := []rune(strings.Repeat(" ", plot))
	free := 0
	for i := first; i < len(p.Runs); i++ {
		for j, r := range p.Runs[i].Marks {
			if x := column(i) + j; x < plot && x >= free {
				out[x] = r
				free = x + 1
			}
		}
	}
	return string(out)
}

// grid is a field of cells, the uppermost row first.
type grid struct {
	w, h  int
	cells []string
}

// row is the row of a height, 0 to 1.
func (g *grid) row(y float64) int { return min(max(g.h-1-int(y*float64(g.h)), 0), g.h-1) }

func (g *grid) set(x int, y float64, cell string) {
	if x >= 0 && x < g.w {
		g.cells[g.row(y)*g.w+x] = cell
	}
}

func (g *grid) line(row int) string {
	var out strings.Builder
	for _, c := range g.cells[row*g.w : (row+1)*g.w] {
		if c == "" {
			c = " "
		}
		out.WriteString(c)
	}
	return out.String()
}

// pairBody are two runs face to face.
func (v View) pairBody(s screen.Scene, w, h int) string {
	p := s.Pair
	var lines []string
	say := func(style lipgloss.Style, text string) {
		for _, part := range parts.Wrap(text, max(w, 1)) {
			lines = append(lines, style.Render(part))
		}
	}
	say(s.Theme.Ink, p.Runs())
	say(s.Theme.Caution, p.Changed())
	for _, one := range p.Pairings {
		lines = append(lines, "")
		if one.Point != "" {
			say(s.Theme.Strong, "at "+one.Point)
		}
		say(s.Theme.Strong, one.Sentence)
		lines = append(lines, v.pairTable(s, chart.NewFaceOff(one), w)...)
	}
	lines = append(lines, "")
	for _, c := range p.Cautions {
		say(s.Theme.Faint, "! "+c)
	}
	return strings.Join(parts.Window(lines, min(v.line, max(len(lines)-1, 0)), h), "\n")
}

// pairTable sets figures side by side, with the interval of their ratio as a bar about no change.
func (v View) pairTable(s screen.Scene, f *chart.FaceOff, w int) (lines []string) {
	const name, value, word, gap = 15, 20, 22, 2
	bar := max(w-name-2*value-word-4*gap, 12)
	space := strings.Repeat(" ", gap)
	row := func(style lipgloss.Style, cells [4]string, middle string) {
		lines = append(lines, parts.Cell(style.Render(parts.Cell(cells[0], name)+space+parts.Cell(cells[1], value)+space+
			parts.Cell(cells[2], value)+space)+middle+space+style.Render(cells[3]), w))
	}
	row(s.Theme.Faint, [4]string{"", "then", "now", ""}, s.Theme.Faint.Render(parts.Right("worse  ", bar/2)+"│"+
		parts.Cell("  better", bar-bar/2-1)))
	for i := range f.Rows {
		r := &f.Rows[i]
		style := s.Theme.Ink
		if r.Sure {
			style = s.Theme.Strong
		}
		row(style, [4]string{r.Title, r.Then, r.Now, r.Says}, whisker(s, r, bar))
	}
	return lines
}

// whisker draws an interval about no change, which is in the middle.
func whisker(s screen.Scene, r *chart.FaceOffRow, w int) string {
	at := func(x float64) int { return min(max(int(x*float64(w)), 0), w-1) }
	cells := []rune(strings.Repeat(" ", w))
	cells[w/2] = '│'
	if !math.IsNaN(r.Low) {
		for x := at(r.Low); x <= at(r.High); x++ {
			cells[x] = '─'
		}
	}
	if !math.IsNaN(r.Ratio) {
		cells[at(r.Ratio)] = '◇'
	}
	style := s.Theme.Faint
	if r.Sure {
		style = s.Theme.Strong
	}
	return style.Render(string(cells))
}
