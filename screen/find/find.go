// Package find is the screen of a search through commits: the commits as a line with what is known of each, and how
// likely each is the first bad one, as that narrows from look to look.
//
// It is an application of its own, since a search has no trail: one view, which is there until the user leaves. The
// search goes on elsewhere and sends what it finds; leaving ends it, and what was found is kept.
package find

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"

	"paceduel/core/chart"
	"paceduel/core/chart/paper"
	corefind "paceduel/core/find"
	"paceduel/core/panics"
	"paceduel/core/rounds"
	"paceduel/core/units"
	"paceduel/screen/look"
	"paceduel/screen/parts"
)

// Config is what the screen needs.
type Config struct {
	Title string // what is searched
	Most  int    // looks
	// Search searches until ctx ends, and tells on what it is and what it knows. Both may be called from a goroutine of
	// its own.
	Search func(ctx context.Context, watch func(corefind.Event), events func(rounds.Event)) error
	Plain  bool   // without colours
	Save   string // the folder that pictures are saved to
}

// Run shows a search until the user leaves or ctx ends, and returns how the search ended.
func Run(ctx context.Context, cfg Config) error {
	own, cancel := context.WithCancel(ctx)
	defer cancel()
	m := newModel(cfg)
	options := []tea.ProgramOption{tea.WithContext(own), tea.WithFPS(30), tea.WithoutSignalHandler()}
	if cfg.Plain {
		options = append(options, tea.WithColorProfile(colorprofile.ASCII))
	}
	program := tea.NewProgram(m, options...)
	searching, stop := context.WithCancel(own)
	var search sync.WaitGroup
	var searchErr error
	search.Go(func() {
		defer panics.Catch("search", &searchErr)
		searchErr = cfg.Search(searching, func(e corefind.Event) {
			program.Send(knownMsg{chart.NewHunt(e.Hunt, e.State, e.Looking, e.Busy, e.Over), e.Busy, e.Over})
		}, func(e rounds.Event) { program.Send(eventMsg{e}) })
		program.Send(endedMsg{searchErr})
	})
	_, err := program.Run()
	stop()
	search.Wait()
	switch {
	case errors.Is(err, tea.ErrProgramKilled) && ctx.Err() != nil:
		return ctx.Err()
	case err != nil:
		return fmt.Errorf("show the search on this terminal: %w", err)
	}
	return searchErr
}

// Messages of the search.
type (
	knownMsg struct {
		hunt       *chart.Hunt
		busy, over bool
	}
	eventMsg struct{ event rounds.Event }
	endedMsg struct{ err error }
	savedMsg struct{ text string }
)

// Model is the screen.
type Model struct {
	cfg    Config
	theme  look.Theme
	hunt   *chart.Hunt // nil before anything is known
	over   bool
	doing  string // what the look is at
	err    error  // why the search ended
	said   string
	w, h   int
	cursor parts.Cursor
	moved  bool // the user chose a commit; else it is the likeliest that is in view
	quit   key.Binding
	save   key.Binding
}

func newModel(cfg Config) Model {
	return Model{
		cfg: cfg, theme: look.New(true), cursor: parts.NewCursor(),
		quit: key.NewBinding(key.WithKeys("q", "ctrl+c", "esc")), save: key.NewBinding(key.WithKeys("s")),
	}
}

// Init implements tea.Model.
func (m Model) Init() tea.Cmd { return tea.RequestBackgroundColor }

// Update implements tea.Model.
func (m Model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.w, m.h = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		m.theme = look.New(msg.IsDark())
	case knownMsg:
		m.hunt, m.over, m.doing = msg.hunt, msg.over, ""
	case eventMsg:
		m.doing = doing(m.doing, msg.event)
	case endedMsg:
		m.err, m.over, m.doing = msg.err, true, ""
	case savedMsg:
		m.said = msg.text
	case tea.KeyPressMsg:
		return m.press(msg)
	}
	return m, nil
}

func (m Model) press(msg tea.KeyPressMsg) (tea.Model, tea.Cmd) {
	switch {
	case key.Matches(msg, m.quit):
		return m, tea.Quit
	case m.hunt == nil:
		return m, nil
	case key.Matches(msg, m.save):
		hunt, dir := m.hunt, m.cfg.Save
		return m, func() tea.Msg {
			saved, err := paper.Save(paper.Hunt(hunt), dir, "find")
			if err != nil {
				return savedMsg{err.Error()}
			}
			return savedMsg{"saved " + units.List(saved)}
		}
	}
	switch msg.String() {
	case "left", "right": // along the line
		at := m.at()
		if msg.String() == "left" {
			at--
		} else {
			at++
		}
		m.cursor, m.moved = m.cursor.Set(max(at, 0)), true
	}
	return m, nil
}

// doing says what a look is at.
func doing(before string, e rounds.Event) string {
	switch e := e.(type) {
	case rounds.Building:
		return "building " + e.Revision[:min(len(e.Revision), 9)]
	case rounds.HeatBegan:
		return fmt.Sprintf("round %d, %s runs", e.Round, e.Contender)
	case rounds.Asking:
		return e.Contender + " is asked"
	}
	return before
}

// at is the commit in view: the one that the user chose, else the likeliest.
func (m Model) at() int {
	if m.moved {
		return m.cursor.At(len(m.hunt.Columns))
	}
	best := 0
	for i, c := range m.hunt.Columns {
		if c.Likely > m.hunt.Columns[best].Likely {
			best = i
		}
	}
	return best
}

// View implements tea.Model.
func (m Model) View() tea.View {
	v := tea.NewView(look.Frame(m.draw()))
	v.AltScreen = true
	v.WindowTitle = "Pace Duel"
	return v
}

// least is the smallest window that everything fits in.
const (
	leastWidth  = 80
	leastHeight = 24
)

func (m Model) draw() string {
	if m.w == 0 || m.h == 0 {
		return ""
	}
	t := m.theme
	if m.w < leastWidth || m.h < leastHeight {
		return parts.Fit(fmt.Sprintf("\n This window is %dx%d;\n Pace Duel needs %dx%d.\n Enlarge it, or press q.", m.w,
			m.h,
			leastWidth, leastHeight), m.w, m.h)
	}
	inner := m.w - 4
	lines := []string{
		" " + t.Faint.Render("pace duel") + "   " + t.Strong.Render("find") + "   " + t.Ink.Render(m.cfg.Title),
		t.Faint.Render(strings.Repeat("─", m.w)), "",
	}
	for _, part := range parts.Wrap(m.sentence(), inner) {
		lines = append(lines, "  "+t.Strong.Render(part))
	}
	lines = append(lines, "")
	bottom := []string{"  " + t.Ink.Render(m.status()), m.keys()}
	if m.hunt != nil {
		for _, line := range m.picture(inner, m.h-len(lines)-len(bottom)-1) {
			lines = append(lines, "  "+line)
		}
	}
	body := parts.Fit(strings.Join(lines, "\n"), m.w, m.h-len(bottom))
	for i := range bottom {
		bottom[i] = parts.Cell(bottom[i], m.w)
	}
	return body + "\n" + strings.Join(bottom, "\n")
}

func (m Model) sentence() string {
	switch {
	case m.err != nil && !errors.Is(m.err, context.Canceled):
		return "The search ended: " + m.err.Error() + "."
	case m.hunt == nil:
		return "The search begins."
	}
	return m.hunt.Sentence
}

// status says how far the search is.
func (m Model) status() string {
	if m.said != "" {
		return m.said
	}
	if m.hunt == nil {
		return m.doing
	}
	text := m.hunt.Counted(m.cfg.Most)
	switch {
	case m.over:
		text += ", over"
	case m.doing != "":
		text += "; " + m.doing
	}
	return text
}

func (m Model) keys() string {
	t := m.theme
	leave := "quit and keep"
	if m.over {
		leave = "quit"
	}
	return " " + t.Faint.Render("along the commits ") + t.Strong.Render("← →") + "   " +
		t.Strong.Underline(true).Render("s") +
		t.Faint.Render("ave picture") + "   " + t.Strong.Underline(true).Render(leave[:1]) + t.Faint.Render(leave[1:])
}

// labels is the room beside the picture.
const labels = 9

// picture draws the line of commits in w by h cells.
func (m Model) picture(w, h int) (lines []string) {
	p, t := m.hunt, m.theme
	plot := w - labels
	detail := 5
	above := max((h-detail-3)/2, 3)
	below := max(h-detail-3-above, 3)
	column := func(x float64) int { return min(max(int(x*float64(plot)), 0), plot-1) }
	label := func(text, row string) string { return t.Faint.Render(parts.Right(text, labels-1)) + " " + row }
	for i, row := range bars(p, plot, above, column, t.Lead.Bold(false)) {
		text := ""
		if i == 0 {
			text = p.Most
		}
		lines = append(lines, label(text, row))
	}
	lines = append(lines, label("good ◂", m.line(plot, column)))
	cloud := make([][]string, below)
	for r := range cloud {
		cloud[r] = make([]string, plot)
	}
	rowOf := func(y float64) int { return min(max(int(y*float64(below)), 0), below-1) }
	for x := range plot {
		cloud[rowOf(p.Edge)][x] = t.Caution.Render("╌")
		cloud[rowOf(p.Even)][x] = t.Faint.Render("┈")
	}
	for _, l := range p.Looks {
		for r := rowOf(l.Low); r <= rowOf(l.High); r++ {
			cloud[r][column(l.X)] = t.Faint.Render("│")
		}
	}
	for _, l := range p.Looks {
		cloud[rowOf(l.Y)][column(l.X)] = t.Strong.Render("◆")
	}
	ticks := make([]string, below)
	for _, tick := range p.Ticks {
		ticks[rowOf(tick.At)] = tick.Label
	}
	for r, cells := range cloud {
		var out strings.Builder
		for _, c := range cells {
			if c == "" {
				c = " "
			}
			out.WriteString(c)
		}
		lines = append(lines, label(ticks[r], out.String()))
	}
	c := &p.Columns[m.at()]
	lines = append(lines, "", t.Strong.Render(c.Name))
	lines = append(lines, fmt.Sprintf("%s likely the first bad one, %s likely bad; %s", c.Share, units.Share(c.Bad),
		says(c)))
	return append(lines, "",
		t.Faint.Render("○ not looked at   ● fine   ▼ worse   ◐ not clear yet   × cannot be looked at   "+
			"▲ looked at now   ┈ no worse   ╌ worse than is borne"))
}

// says puts a commit's mark into words.
func says(c *chart.HuntColumn) string {
	switch {
	case c.Here:
		return "it is looked at just now"
	case c.Mark == chart.Unseen:
		return "it was not looked at"
	case c.Mark == chart.Barred:
		return "it cannot be looked at"
	}
	return "it was looked at"
}

// bars draws how likely each commit is the first bad one, from the top row on. Full cells are blank ones the other way
// round: some terminals draw a full block wider than its cell, and leave a stroke behind where one was.
func bars(p *chart.Hunt, plot, rows int, column func(float64) int, style lipgloss.Style) (lines []string) {
	heights := []rune(" ▁▂▃▄▅▆▇")
	full := len(heights)
	whole := style.Reverse(true).Render(" ")
	most := make([]float64, plot)
	for _, c := range p.Columns {
		most[column(c.X)] = max(most[column(c.X)], c.Likely)
	}
	for row := rows - 1; row >= 0; row-- {
		var out strings.Builder
		for _, y := range most {
			eighths := int(y*float64(rows*full)+0.5) - row*full
			switch {
			case eighths >= full:
				out.WriteString(whole)
			case eighths <= 0:
				out.WriteByte(' ')
			default:
				out.WriteString(style.Render(string(heights[eighths])))
			}
		}
		lines = append(lines, out.String())
	}
	return lines
}

// line is the line of commits itself.
func (m Model) line(plot int, column func(float64) int) string {
	t := m.theme
	cells := make([]string, plot)
	at := m.at()
	for i, c := range m.hunt.Columns {
		glyph, style := "○", t.Faint
		switch c.Mark {
		case chart.Fine:
			glyph, style = "●", t.Ink
		case chart.Bad:
			glyph, style = "▼", t.Trouble
		case chart.Between:
			glyph, style = "◐", t.Caution
		case chart.Barred:
			glyph, style = "×", t.Caution
		}
		if c.Here {
			glyph, style = "▲", t.Strong
		}
		if i == at {
			style = style.Inherit(lipgloss.NewStyle().Reverse(true))
		}
		x := column(c.X)
		if cells[x] == "" || c.Mark != chart.Unseen || c.Here || i == at {
			cells[x] = style.Render(glyph)
		}
	}
	for x := range cells {
		if cells[x] == "" {
			cells[x] = t.Faint.Render("─")
		}
	}
	return strings.Join(cells, "")
}
