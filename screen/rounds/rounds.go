// Package rounds is the stop where a duel runs, and where a run can be looked at again: a lane for each contender with
// its shots as dots, by rounds or by the clock, the running order, what the machine was like, and a line to read values
// off.
package rounds

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"paceduel/core/cell"
	"paceduel/core/chart"
	"paceduel/core/chart/paper"
	"paceduel/core/footing"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
	"paceduel/screen"
	"paceduel/screen/parts"
)

type keys struct {
	halt, pause, without, more, hide, zoom, wide, left, right, save, tell, agents key.Binding
}

// View has which lane is chosen and which are hidden, and the stretch of time in view.
type View struct {
	keys   keys
	cursor parts.Cursor
	hidden map[cell.Cell]bool // not modified once it is set
	window chart.Window       // by the clock; none: the axis is the rounds
	told   bool               // the last lines of the chosen lane's service are shown
	agents bool               // the chosen lane is shown by agent
}

// New returns the view of all rounds.
func New() screen.View {
	return View{cursor: parts.NewCursor(), keys: keys{
		halt:    key.NewBinding(key.WithKeys("h"), key.WithHelp("h", "halt and keep")),
		pause:   key.NewBinding(key.WithKeys("space"), key.WithHelp("space", "pause or go on")),
		without: key.NewBinding(key.WithKeys("d"), key.WithHelp("d", "drop it")),
		more:    key.NewBinding(key.WithKeys("+"), key.WithHelp("+", "5 rounds more")),
		hide:    key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "hide or show")),
		zoom:    key.NewBinding(key.WithKeys("z"), key.WithHelp("z", "zoom in")),
		wide:    key.NewBinding(key.WithKeys("backspace"), key.WithHelp("backspace", "zoom out")),
		left:    key.NewBinding(key.WithKeys("left"), key.WithHelp("← →", "read off")),
		right:   key.NewBinding(key.WithKeys("right"), key.WithHelp("→", "later")),
		save:    key.NewBinding(key.WithKeys("s"), key.WithHelp("s", "save to files")),
		tell:    key.NewBinding(key.WithKeys("m"), key.WithHelp("m", "service messages")),
		agents:  key.NewBinding(key.WithKeys("b"), key.WithHelp("b", "by agent")),
	}}
}

// moreRounds is how many are added at a time.
const moreRounds = 5

// Keys implements screen.View.
func (v View) Keys(s screen.Scene) (out []key.Binding) {
	if s.Run == nil {
		return nil
	}
	if s.Run.Live {
		out = append(out, v.keys.halt, v.keys.pause)
	}
	if len(s.Run.Heats) > 0 {
		out = append(out, v.keys.zoom)
		if v.clock() {
			out = append(out, v.keys.left, v.keys.wide)
		}
	}
	if len(s.Run.Services) > 0 {
		out = append(out, v.keys.tell)
	}
	if s.Run.Result.Load != nil {
		out = append(out, v.keys.agents)
	}
	out = append(out, v.cursor.Key())
	if s.Run.Live && v.canGo(s) {
		out = append(out, v.keys.without)
	}
	out = append(out, v.keys.hide)
	if !s.Run.Live && len(s.Run.Heats) > 0 && s.Run.Verdict != nil {
		out = append(out, v.keys.save)
	}
	if s.Run.Live {
		out = append(out, v.keys.more)
	}
	return out
}

// canGo reports whether the run may go on without the contender of the chosen lane.
func (v View) canGo(s screen.Scene) bool {
	of := v.chosen(s)
	in := 0
	for _, e := range s.Run.Result.Entrants {
		if e.LeftOut == 0 {
			in++
		} else if e.Name == of.Contender {
			return false
		}
	}
	return of.Contender != s.Run.Result.Plan.Baseline && in > plan.MinContenders
}

// lanes lists the lanes, in the order in which they are drawn.
func lanes(r *result.Result) (out []cell.Cell) {
	for _, e := range r.Entrants {
		for _, state := range r.States() {
			out = append(out, cell.Of(e.Name, state))
		}
	}
	return out
}

func (v View) chosen(s screen.Scene) cell.Cell {
	all := lanes(s.Run.Result)
	return all[v.cursor.At(len(all))]
}

// Update implements screen.View.
func (v View) Update(msg tea.Msg, s screen.Scene) (screen.View, tea.Cmd) {
	if _, ok := msg.(screen.RunInViewMsg); ok {
		v.window, v.hidden = chart.Window{}, nil
		return v, nil
	}
	press, ok := msg.(tea.KeyPressMsg)
	if !ok || s.Run == nil {
		return v, nil
	}
	if next, moved := v.cursor.Press(press, len(lanes(s.Run.Result))); moved {
		v.cursor = next
		return v, nil
	}
	live := s.Run.Live
	switch {
	case s.Run.Result.Load != nil && key.Matches(press, v.keys.agents):
		v.agents = !v.agents
	case live && key.Matches(press, v.keys.halt):
		return v, screen.Send(screen.HaltMsg{})
	case live && key.Matches(press, v.keys.pause):
		return v, screen.Send(screen.PauseMsg{})
	case live && key.Matches(press, v.keys.more):
		return v, screen.Send(screen.AddRoundsMsg{Rounds: moreRounds})
	case live && v.canGo(s) && key.Matches(press, v.keys.without):
		return v, screen.Send(screen.LeaveOutMsg{Contender: v.chosen(s).Contender})
	case key.Matches(press, v.keys.hide):
		v.toggle(s)
	case len(s.Run.Services) > 0 && key.Matches(press, v.keys.tell):
		v.told = !v.told
	case len(s.Run.Heats) == 0:
	case !live && s.Run.Verdict != nil && key.Matches(press, v.keys.save):
		return v, screen.Send(screen.SaveMsg{Pictures: []paper.Named{v.onPaper(s)}})
	case key.Matches(press, v.keys.zoom) && !v.clock():
		v.window = chart.Whole(s.Run.Heats)
	case key.Matches(press, v.keys.zoom):
		v.window = v.window.Zoom(0.5, s.Run.Heats)
	case !v.clock():
	case key.Matches(press, v.keys.wide) && v.window.Covers(s.Run.Heats):
		v.window = chart.Window{}
	case key.Matches(press, v.keys.wide):
		v.window = v.window.Zoom(2, s.Run.Heats)
	case key.Matches(press, v.keys.left):
		v.window = v.window.Move(-step, s.Run.Heats)
	case key.Matches(press, v.keys.right):
		v.window = v.window.Move(step, s.Run.Heats)
	}
	return v, nil
}

// onPaper is the run by the clock as far as it is in view, to be saved.
func (v View) onPaper(s screen.Scene) paper.Named {
	r := s.Run.Result
	return paper.Named{
		Picture: paper.Timeline(
			v.timeline(s), r.Plan.Name, s.Run.Verdict.Sentence, chart.Conditions(r, s.Run.Verdict),
		), Name: paper.Name(r, "timeline"),
	}
}

// toggle hides the chosen lane, or shows it again; one lane always stays.
func (v *View) toggle(s screen.Scene) {
	k := v.chosen(s)
	next := maps.Clone(v.hidden)
	if next == nil {
		next = map[cell.Cell]bool{}
	}
	if next[k] {
		delete(next, k)
	} else if len(next) < len(lanes(s.Run.Result))-1 {
		next[k] = true
	}
	v.hidden = next
}

func (v View) isHidden(k cell.Cell) bool { return v.hidden[k] }

// step is the share of the stretch by which a key moves the line.
const step = 0.01

// clock reports whether a stretch of time is in view.
func (v View) clock() bool { return !v.window.None() }

// Sentence implements screen.View.
func (v View) Sentence(s screen.Scene) string {
	run := s.Run
	if run == nil {
		return "No duel is on; start one under ask."
	}
	total := run.Result.Planned()
	switch {
	case v.clock() && len(run.Heats) > 0:
		return v.readOff(s)
	case run.Paused:
		return fmt.Sprintf("Paused after %d of %d heats; space has it go on.", len(run.Heats), total)
	case run.Live && run.Now != nil:
		n := run.Now
		if is := run.Services[n.Contender]; is.Coming() {
			return fmt.Sprintf("Round %d of %d: %s is next, its service is %s.", n.Round, run.Result.Plan.Rounds, title(
				n.Contender, n.State,
			), is.Stage)
		}
		text := fmt.Sprintf(
			"Round %d of %d: %s is on, %s.", n.Round, run.Result.Plan.Rounds, title(n.Contender, n.State), n.Stage,
		)
		if n.P50 > 0 {
			text += fmt.Sprintf(
				" Its latest shots: half within %s, 99 of 100 within %s.", units.Duration(n.P50), units.Duration(n.P99),
			)
		}
		return text
	case run.Live && run.Asking != nil:
		return "Each contender is asked once before any timing: " + run.Asking.Words() + "."
	case run.Live && len(run.Heats) == 0:
		return "Each contender is asked once before any timing."
	case run.Live:
		return fmt.Sprintf("%d of %d heats are done.", len(run.Heats), total)
	case run.Err != nil && len(run.Heats) == 0:
		return "Nothing was timed: " + run.Err.Error() + "."
	case run.Result.Ending != result.Done:
		return fmt.Sprintf("This run was %s: %d of %d heats are kept.", ended(run.Result.Ending), len(run.Heats), total)
	}
	return fmt.Sprintf(
		"All %d heats are done, %d rounds of %s.", total, run.Result.Plan.Rounds, run.Result.Plan.Pace.Words,
	)
}

// readOff says what is in view and what stands at the line.
func (v View) readOff(s screen.Scene) string {
	t := v.timeline(s)
	at := v.window.At()
	text := fmt.Sprintf("%s to %s by the clock. At %s", t.Clock(t.From), t.Clock(t.To), t.Clock(at))
	for i, read := range t.Read(at, at) {
		if read.Shots > 0 {
			return fmt.Sprintf("%s %s was on, in round %d: %s within 100 ms.", text, title(
				t.Lanes[i].Name, t.Lanes[i].State,
			), read.Round, units.Plural(int(read.Shots), "shot"))
		}
	}
	return text + " nobody was on."
}

func (v View) timeline(s screen.Scene) *chart.Timeline {
	type timelineKey struct {
		from, to time.Duration
		hidden   string
	}
	return screen.Picture(s, timelineKey{v.window.From, v.window.To, v.hiding()}, func() *chart.Timeline {
		return chart.NewTimeline(s.Run.Result, s.Run.Verdict, s.Run.Heats, v.window.From, v.window.To, v.isHidden)
	})
}

// hiding names the hidden lanes, for keys.
func (v View) hiding() string {
	var names []string
	for c := range v.hidden {
		names = append(names, c.String())
	}
	slices.Sort(names)
	return strings.Join(names, "\n")
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
	picture := v.picture(s)
	foot := v.foot(s, w, h)
	shown := len(picture.lanes)
	for _, l := range picture.lanes {
		if l.hidden {
			shown--
		}
	}
	room := h - len(foot) - 1 - (len(picture.lanes) - shown)
	each := min(max(room/max(shown, 1), 2), 14)
	narrow := w < 90
	plot := w - nameWidth - axisWidth - 2
	if !narrow {
		plot -= sideWidth
	}
	var lines []string
	for i := range picture.lanes {
		lines = append(lines, v.lane(s, &picture, i, plot, each-1, narrow)...)
	}
	lines = append(lines, strings.Repeat(" ", nameWidth+axisWidth)+s.Theme.Faint.Render(picture.axis(plot)))
	return strings.Join(append(lines, foot...), "\n")
}

// picture is what is drawn, by rounds or by the clock.
type picture struct {
	scale chart.Scale
	lanes []lane
	axis  func(w int) string
	line  float64 // where values are read off; negative: nowhere
	reads []chart.Reading
}

type lane struct {
	chart.Side
	state   string
	hidden  bool
	dots    []chart.Dot
	heats   []chart.Stretch // by the clock
	marks   []chart.Stretch // what their shots took
	leftOut bool
}

func (v View) picture(s screen.Scene) (p picture) {
	run := s.Run
	if v.clock() && len(run.Heats) > 0 {
		t := v.timeline(s)
		p = picture{scale: t.Scale, line: v.window.Line, axis: func(w int) string { return clockAxis(t, w) }}
		for _, l := range t.Lanes {
			p.lanes = append(p.lanes, lane{
				Side: l.Side, state: l.State, hidden: l.Hidden, dots: l.Dots, heats: l.Heats, marks: l.Heats,
			})
		}
		at := v.window.At()
		p.reads = t.Read(at, at)
	} else {
		var now *result.Heat
		if run.Now != nil {
			now = &run.Now.Heat
		}
		type lanesKey struct{ hidden string }
		l := screen.Picture(s, lanesKey{v.hiding()}, func() *chart.Lanes {
			return chart.NewLanes(run.Result, run.Verdict, run.Heats, now, v.isHidden)
		})
		p = picture{scale: l.Scale, line: -1, axis: func(w int) string { return roundAxis(l.Rounds, w) }}
		for _, l := range l.Lanes {
			p.lanes = append(p.lanes, lane{Side: l.Side, state: l.State, hidden: l.Hidden, dots: l.Dots, marks: l.Heats})
		}
	}
	for i := range p.lanes {
		e := run.Result.Entrant(p.lanes[i].Name)
		p.lanes[i].leftOut = e != nil && e.LeftOut > 0
	}
	return p
}

// lane draws one contender's shots in h lines and a rule beneath; a hidden one is its name alone.
func (v View) lane(s screen.Scene, p *picture, i, plot, h int, narrow bool) []string {
	l := &p.lanes[i]
	name := v.label(s, l, i, len(p.lanes))
	if l.hidden {
		return []string{parts.Cell(name[0], nameWidth) + s.Theme.Faint.Render(" hidden")}
	}
	rows := v.shots(s, p, l, plot, h)
	side := v.side(s, p, i, h, narrow)
	if narrow {
		side = side[:max(min(len(side), h-len(name)), 0)]
	}
	out := make([]string, 0, h+1)
	for row := range h {
		label, note := "", ""
		if narrow && row >= h-len(side) {
			label = " " + side[row-h+len(side)]
		}
		if row < len(name) {
			label = name[row]
		}
		if row < len(side) && !narrow {
			note = side[row]
		}
		line := parts.Cell(label, nameWidth) +
			s.Theme.Faint.Render(parts.Right(parts.RowLabel(p.scale, row, h), axisWidth-1)+"┊") + parts.Cell(rows[row], plot)
		if !narrow {
			line += "  " + parts.Cell(note, sideWidth)
		}
		out = append(out, line)
	}
	return append(out, s.Theme.Faint.Render(strings.Repeat(" ", nameWidth+axisWidth-1)+"┊")+v.rule(s, l, plot))
}

// leastCloud is how many rows a lane needs for shades to have a shape; in fewer, single dots show more.
const leastCloud = 4

// shots draws what a lane's shots took in h rows.
func (v View) shots(s screen.Scene, p *picture, l *lane, plot, h int) []string {
	at := int(p.line * float64(max(plot-1, 0)))
	if h < leastCloud {
		canvas := parts.NewPlot(plot, h)
		if p.line >= 0 {
			canvas.Line(at, s.Theme.Strong)
		}
		for _, d := range l.dots {
			canvas.Dot(d)
		}
		return canvas.Lines(s.Theme.Sign(l.Sign), s.Theme.Trouble)
	}
	canvas := parts.NewCloud(plot, h)
	if p.line >= 0 {
		canvas.Line(at, s.Theme.Strong)
	}
	for _, d := range l.dots {
		canvas.Dot(d)
	}
	for _, m := range l.marks { // in the middle of their heat, so that the dots about them are seen
		from, to := m.Middle()
		canvas.Level(from, to, m.P50, '━')
		canvas.Level(from, to, m.P99, '╌')
	}
	return canvas.Lines(s.Theme.Sign(l.Sign), s.Theme.Strong, s.Theme.Trouble)
}

// rule is the line beneath a lane; by the clock its heats stand out in it.
func (v View) rule(s screen.Scene, l *lane, plot int) string {
	line := []rune(strings.Repeat("┈", max(plot, 0)))
	for _, h := range l.heats {
		from, to := int(h.From*float64(plot)), int(h.To*float64(plot))
		for x := from; x < max(to, from+1) && x < plot; x++ {
			line[x] = '─'
		}
	}
	return s.Theme.Faint.Render(string(line))
}

func (v View) label(s screen.Scene, l *lane, i, n int) (lines []string) {
	style := s.Theme.Sign(l.Sign).Bold(true)
	name := style.Render(parts.Cell(l.Sign.Glyph+" "+l.Name, nameWidth-3))
	if v.cursor.At(n) == i {
		name = s.Theme.Here.Render("›") + name
	} else {
		name = " " + name
	}
	lines = append(lines, name)
	say := func(style interface{ Render(...string) string }, text string) {
		lines = append(lines, " "+style.Render(text))
	}
	if l.Baseline {
		say(s.Theme.Faint, "baseline")
	}
	if l.state != "" {
		say(s.Theme.Strong, l.state)
	}
	if l.leftOut {
		say(s.Theme.Caution, "left out")
	}
	if n := s.Run.Now; n != nil && n.Contender == l.Name && n.State == l.state && !s.Run.Services[l.Name].Coming() {
		say(s.Theme.Strong, "on, "+n.Stage.String())
		const seen = time.Second // before that it is no waiting that anybody sees
		if n.Waits > 0 && n.Longest >= seen {
			longest := units.Trim(units.Duration(n.Longest.Truncate(time.Second)))
			say(s.Theme.Caution, fmt.Sprintf("%d wait, %s", n.Waits, longest))
		}
	}
	if is, ok := s.Run.Services[l.Name]; ok && s.Run.Live {
		style := s.Theme.Faint
		switch is.Stage {
		case footing.Died:
			style = s.Theme.Trouble
		case footing.Preparing, footing.Starting:
			style = s.Theme.Caution
		}
		say(style, is.Words())
	}
	return lines
}

// side is what stands at the end of a lane, or beneath its name where the window is narrow: by the clock what is read
// off at the line, else its figures over the finished heats.
func (v View) side(s screen.Scene, p *picture, i, h int, narrow bool) (lines []string) {
	l := &p.lanes[i]
	width := 8
	if narrow {
		width = 6
	}
	field := func(name, value string) {
		lines = append(lines, s.Theme.Faint.Render(parts.Cell(name, max(width, lipgloss.Width(name)+1)))+value)
	}
	if p.line >= 0 {
		read := p.reads[i]
		if read.Shots == 0 {
			return []string{s.Theme.Faint.Render("not on at the line")}
		}
		field("mean", units.Seconds(read.Mean))
		field("longest", units.Seconds(read.Max))
		field("rate", units.Rate(read.Rate))
		field("round", fmt.Sprint(read.Round))
		if read.Failed > 0 {
			lines = append(lines, s.Theme.Trouble.Render(units.Count(read.Failed)+" failed"))
		}
		return lines
	}
	p50Sign, p99Sign := "━ ", "╌ "
	if h < leastCloud {
		p50Sign, p99Sign = "", "" // they are not drawn
	}
	all := s.Run.Lane(l.Name, l.state)
	if all.P50 == units.None && all.Mean != units.None {
		field("mean", all.Mean) // of single runs, say
	} else {
		field(p50Sign+"p50", all.P50)
	}
	if all.P99 != units.None {
		field(p99Sign+"p99", all.P99)
	}
	if narrow {
		return lines
	}
	field("shots", all.Shots)
	if s.Run.ByStretch(l.Name, l.state) {
		lines = append(lines, s.Theme.Faint.Render("drawn by batches"))
	}
	if n := s.Run.Now; n != nil && n.Contender == l.Name && n.State == l.state && n.Rate > 0 {
		field("now", units.Rate(n.Rate))
	} else {
		field("rate", all.Rate)
	}
	if all.Failed > 0 {
		lines = append(
			lines, s.Theme.Trouble.Render(units.Count(all.Failed)+" failed"), s.Theme.Trouble.Render(all.Causes),
		)
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

// clockAxis writes times of day along the plot.
func clockAxis(t *chart.Timeline, w int) string {
	line := []rune(strings.Repeat(" ", max(w, 0)))
	free := 0
	for _, tick := range t.Ticks {
		label := []rune(tick.Label)
		at := min(int(tick.At*float64(w)), w-len(label))
		if at >= free {
			copy(line[at:], label)
			free = at + len(label) + 2
		}
	}
	return string(line)
}

// foot is what stands below the lanes: the running order and, where there is room, what the machine was like.
func (v View) foot(s screen.Scene, w, h int) (lines []string) {
	if h >= 20 {
		lines = append(lines, "")
	}
	lines = append(lines, v.order(s, w))
	if v.told && len(s.Run.Services) > 0 {
		return append(lines, v.serviceSays(s, w, h)...)
	}
	if again := s.Run.Again; again != "" && s.Run.Live {
		lines = append(lines, parts.Cell(s.Theme.Caution.Render("▲ "+again), w))
	}
	if v.agents && s.Run.Result.Load != nil {
		return append(lines, v.byAgent(s, w, h)...)
	}
	if h < 16 {
		return lines
	}
	heat, when := v.heatInView(s)
	if heat == nil {
		return lines
	}
	said := chart.ConditionLines(s.Run.Result, heat)
	label := s.Theme.Faint.Render(parts.Cell("this machine", nameWidth))
	text := when + ": " + strings.Join(said, "  ·  ")
	for _, line := range parts.Wrap(text, max(w-nameWidth, 20)) {
		lines = append(lines, label+line)
		label = strings.Repeat(" ", nameWidth)
	}
	return lines
}

// byAgent shows what agents drove of the chosen lane, and how its heat goes with each where it is on.
func (v View) byAgent(s screen.Scene, w, h int) []string {
	of := v.chosen(s)
	if n := s.Run.Now; n != nil && n.Cell == of && len(n.Agents) > 0 {
		table := [][]string{{"agent", "shots so far", "half within", "99 of 100", ""}}
		for _, a := range n.Agents {
			silent := ""
			if a.Silent > 0 {
				silent = "nothing heard for " + units.Duration(a.Silent)
			}
			table = append(table, []string{
				a.Agent, units.Count(a.Shots), units.Duration(a.P50), units.Duration(a.P99), silent,
			})
		}
		return shortened(s, table, w, h)
	}
	table := [][]string{chart.ByAgentTitles}
	list := chart.ByAgents(s.Run.Result, s.Run.Heats, of)
	for i := range list {
		table = append(table, list[i].Cells())
	}
	if len(list) == 0 {
		return []string{s.Theme.Faint.Render(parts.Cell("by agent", nameWidth)) + "no heat of " + of.String() +
			" is over yet"}
	}
	return shortened(s, table, w, h)
}

// shortened is a table as far as there is room below the lanes.
func shortened(s screen.Scene, table [][]string, w, h int) []string {
	room := max(h/3, 3)
	more := len(table) - room
	if more > 0 {
		table = table[:room]
	}
	lines := parts.Table(s.Theme.Faint.Render, table, w)
	if more > 0 {
		lines = append(lines, s.Theme.Faint.Render("and "+units.Plural(more,
			"agent")+" more; paceduel show --agents lists all"))
	}
	return lines
}

// serviceSays is what the chosen lane's service is about, and the last lines that it printed.
func (v View) serviceSays(s screen.Scene, w, h int) (lines []string) {
	who := v.chosen(s).Contender
	is, ok := s.Run.Services[who]
	if !ok {
		return []string{s.Theme.Faint.Render(parts.Cell("its service", nameWidth)) + who + " has no service of its own"}
	}
	lines = append(
		lines, s.Theme.Faint.Render(parts.Cell("its service", nameWidth))+s.Theme.Strong.Render(who)+": "+is.Words(),
	)
	said := strings.Split(is.Said, "\n")
	if is.Said == "" {
		said = []string{"it has printed nothing"}
	}
	room := max(h/4, 2)
	for _, line := range said[max(len(said)-room, 0):] {
		lines = append(
			lines, strings.Repeat(" ", nameWidth)+s.Theme.Faint.Render(parts.Cell(parts.Plain(line), max(w-nameWidth, 1))),
		)
	}
	return lines
}

// heatInView is the heat whose conditions are shown: the one at the line, or the latest.
func (v View) heatInView(s screen.Scene) (*result.Heat, string) {
	heats := s.Run.Heats
	if len(heats) == 0 {
		return nil, ""
	}
	if v.clock() {
		at := v.window.At()
		for i := range heats {
			if heats[i].At <= at && at <= heats[i].At+heats[i].Wall {
				return &heats[i], fmt.Sprintf(
					"at the line, %s in round %d", title(heats[i].Contender, heats[i].State), heats[i].Round,
				)
			}
		}
	}
	last := &heats[len(heats)-1]
	return last, fmt.Sprintf("in the last heat, %s in round %d", title(last.Contender, last.State), last.Round)
}

// order draws the running order: rounds that are done, the one that is on, those ahead.
func (v View) order(s screen.Scene, w int) string {
	run := s.Run
	done := len(run.Heats)
	var groups []string
	k, here, widest := 0, 0, 1
	states := len(run.Result.States()) > 1
	for round, cells := range run.Result.Order {
		group := ""
		widest = max(widest, len(cells))
		for _, cell := range cells {
			sign := chart.SignFor(run.Result, cell.Contender)
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
				group += s.Theme.Faint.Render(cell.State[:1]) // c or w
			}
			k++
		}
		groups = append(groups, group)
	}
	if states {
		widest *= 2
	}
	label := s.Theme.Faint.Render(parts.Cell("running order", nameWidth))
	fit := max((w-nameWidth-4)/(widest+1), 1)
	shown := parts.Window(groups, here, fit)
	more := ""
	if len(shown) < len(groups) {
		more = s.Theme.Faint.Render(" …")
	}
	return label + strings.Join(shown, " ") + more
}
