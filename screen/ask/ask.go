// Package ask is the first stop: the duels of the folder, each with its last verdict, and the chosen one face to face.
//
// Its form for a new duel is of single inputs rather than of a forms library: those put their fields one below the
// other, and here the two that matter face each other, as they do everywhere else, while which others are asked for
// depends on the kind.
package ask

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"paceduel/core/chart"
	"paceduel/core/draft"
	"paceduel/core/logbook"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/units"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// keys are those of the list; a dialog has its own.
type keys struct{ start, create, edit, copy, remove, paste, build, update key.Binding }

// View is the list of duels, where in it the user is, and what is being asked in its place.
type View struct {
	cursor parts.Cursor
	keys   keys
	kinds  []*draft.Kind
	asks   []draft.Question
	dialog dialog // nil: the list
}

// New returns the view at the first duel; kinds are how plans for contenders are drafted, one at least, and questions
// are plans to start from.
func New(kinds []*draft.Kind, questions []draft.Question) screen.View {
	bind := func(k, does string) key.Binding { return key.NewBinding(key.WithKeys(k), key.WithHelp(k, does)) }
	return View{cursor: parts.NewCursor(), kinds: kinds, asks: questions, keys: keys{
		start: bind(
			"enter", "start the duel",
		), create: bind("n", "new"), edit: bind("e", "edit"), copy: bind("c", "copy"), remove: bind("d", "delete"),
		paste: bind("i", "import"), build: bind("b", "build on a contender"), update: bind("u", "update"),
	}}
}

// Captures implements screen.Capturer.
func (v View) Captures() bool { return v.dialog != nil }

// Keys implements screen.View.
func (v View) Keys(s screen.Scene) []key.Binding {
	switch {
	case v.dialog != nil:
		return v.dialog.bindings()
	case len(s.Duels) == 0:
		return []key.Binding{v.keys.create, v.keys.update}
	}
	start := v.keys.start
	start.SetEnabled(v.chosen(s).Plan != nil && !running(s))
	return []key.Binding{
		start, v.cursor.Key(), v.keys.create, v.keys.edit, v.keys.copy, v.keys.remove, v.keys.build, v.keys.paste,
		v.keys.update,
	}
}

func running(s screen.Scene) bool { return s.Run != nil && s.Run.Live }

func (v View) at(s screen.Scene) int { return v.cursor.At(len(s.Duels)) }

func (v View) chosen(s screen.Scene) screen.Duel { return s.Duels[v.at(s)] }

// Choice implements screen.Chooser.
func (v View) Choice(s screen.Scene) *screen.Duel {
	if len(s.Duels) == 0 {
		return nil
	}
	d := v.chosen(s)
	return &d
}

// Update implements screen.View.
func (v View) Update(msg tea.Msg, s screen.Scene) (screen.View, tea.Cmd) {
	if chosen, ok := msg.(screen.ChosenMsg); ok {
		if i := slices.IndexFunc(s.Duels, func(d screen.Duel) bool { return d.File == chosen.File }); i >= 0 {
			v.cursor = v.cursor.Set(i)
		}
		return v, nil
	}
	if empty, ok := msg.(screen.EmptyFolderMsg); ok {
		if v.dialog == nil {
			v.dialog = newBegin(v.kinds, empty)
		}
		return v, nil
	}
	if v.dialog != nil {
		var cmd tea.Cmd
		v.dialog, cmd = v.dialog.update(msg, s)
		return v, cmd
	}
	press, ok := msg.(tea.KeyPressMsg)
	if !ok {
		return v, nil
	}
	if next, moved := v.cursor.Press(press, len(s.Duels)); moved {
		v.cursor = next
		return v, nil
	}
	switch {
	case key.Matches(press, v.keys.update):
		return v, screen.Send(screen.ReloadMsg{})
	case key.Matches(press, v.keys.create) && len(v.kinds) > 0:
		v.dialog = newChoosing(v.kinds, v.asks)
		return v, nil
	case len(s.Duels) > 0:
		return v.act(press, s)
	}
	return v, nil
}

// act does something with the chosen duel.
func (v View) act(press tea.KeyPressMsg, s screen.Scene) (screen.View, tea.Cmd) {
	d := v.chosen(s)
	switch {
	case key.Matches(press, v.keys.start) && d.Plan != nil && !running(s):
		return v, screen.Send(screen.StartMsg{Duel: d})
	case key.Matches(press, v.keys.edit):
		return v, screen.Send(screen.EditMsg{File: d.File})
	case key.Matches(press, v.keys.copy):
		name := d.Name() + " copy"
		text, err := draft.Copy(d.Source, name)
		if err != nil {
			return v, trouble(err)
		}
		return v, screen.Send(screen.NewPlanMsg{Name: name, Text: text})
	case key.Matches(press, v.keys.remove):
		v.dialog = newRemoval(d)
	case key.Matches(press, v.keys.paste):
		v.dialog = newImporting(d, v.kinds)
	case key.Matches(press, v.keys.build):
		b, err := newBuilding(d)
		if err != nil {
			return v, trouble(err)
		}
		v.dialog = b
	}
	return v, nil
}

func trouble(err error) tea.Cmd { return screen.Send(screen.SayMsg{Text: err.Error(), Trouble: true}) }

// Sentence implements screen.View.
func (v View) Sentence(s screen.Scene) string {
	if v.dialog != nil {
		return v.dialog.sentence(s)
	}
	if len(s.Duels) == 0 {
		return "There is no duel in " + s.Title + " yet."
	}
	d := v.chosen(s)
	if d.Plan == nil {
		return fmt.Sprintf("%s cannot be run as it is; its troubles are shown with their lines.", d.Base())
	}
	often := units.Plural(d.Plan.Rounds, "round")
	if sweep := d.Plan.Sweep; sweep != nil {
		often += " over " + sweep.String()
		if sweep.Within > 0 {
			often = units.Duration(sweep.Within.D()) + " over " + sweep.String()
		}
	}
	return fmt.Sprintf("%s in %s. %s asks %s against %s: %s, %s.", units.Plural(len(s.Duels), "duel"), s.Title,
		d.Plan.Name, others(d.Plan), d.Plan.Baseline, often, d.Plan.Pace)
}

func others(p *plan.Plan) string {
	var names []string
	for _, c := range p.Contenders {
		if c.Name != p.Baseline {
			names = append(names, c.Name)
		}
	}
	return units.List(names)
}

// Body implements screen.View.
func (v View) Body(s screen.Scene, w, h int) string {
	if v.dialog != nil {
		return v.dialog.body(s, w)
	}
	if len(s.Duels) == 0 {
		return v.empty(s, w)
	}
	const gap = 4
	if w < 100 {
		list := v.list(s, w, 1, max(h/3, 4))
		return strings.Join(append(list, v.face(s, w)...), "\n")
	}
	left := w * 2 / 5
	list := v.list(s, left, 2, h)
	if earlier := v.earlier(s, left); len(list)+len(earlier) <= h {
		list = append(list, earlier...)
	}
	return parts.Beside(gap, parts.Fit(
		strings.Join(list, "\n"), left, h,
	), parts.Fit(strings.Join(v.face(s, w-left-gap), "\n"), w-left-gap, h))
}

func (v View) empty(s screen.Scene, w int) string {
	lines := []string{
		"A duel is a plan file, NAME" + plan.Suffix + ". To make one:", "",
		"  " + s.Theme.Strong.Render("n") +
			"                          asks for what is needed and writes a commented plan here",
		"  " + s.Theme.Strong.Render("paceduel new NAME") + "          writes one to start from; then press u",
		"  " + s.Theme.Strong.Render("paceduel between A B") + "       compares two command lines or URLs without a plan",
		"  " + s.Theme.Strong.Render("paceduel demo") + "              opens an invented harbour with duels to try",
	}
	for i := range lines {
		lines[i] = parts.Cell(lines[i], w)
	}
	return strings.Join(lines, "\n")
}

// earlierShown is how many runs of the chosen duel are listed.
const earlierShown = 10

// earlier lists the latest runs of the chosen duel with what they were led by.
func (v View) earlier(s screen.Scene, w int) (lines []string) {
	past := pastOf(s, v.chosen(s))
	if past.Runs == 0 {
		return nil
	}
	lines = append(lines, "", s.Theme.Faint.Render("  its runs so far, with the leading ratio"))
	for _, e := range past.Newest[:min(len(past.Newest), earlierShown)] {
		lead := units.None
		if e.Lead > 0 {
			lead = units.Times(e.Lead)
		}
		ending := ""
		if e.Ending != result.Done {
			ending = s.Theme.Caution.Render("  " + string(e.Ending))
		}
		lines = append(lines, parts.Cell("  "+s.Theme.Faint.Render(
			s.When(e.Started),
		)+parts.Right(lead, 8)+s.Theme.Faint.Render("   run "+e.ID)+ending, w))
	}
	if more := past.Runs - earlierShown; more > 0 {
		lines = append(lines, s.Theme.Faint.Render(fmt.Sprintf("  and %d more under log", more)))
	}
	return lines
}

// list shows the duels in h lines: the name of each, as much as fits of its last verdict, up to a number of lines, a
// gap. The chosen one gives up its words last. Where there are so many that the list is longer than that in any case,
// nobody does: it is scrolled.
func (v View) list(s screen.Scene, w, most, h int) []string {
	for each := most; each >= 0; each-- {
		for chosen := most + 1; chosen >= each; chosen-- {
			if lines, at := v.entries(s, w, each, chosen); len(lines) <= h {
				return parts.Window(lines, at, h)
			}
		}
	}
	lines, at := v.entries(s, w, min(most, 1), most+1)
	return parts.Window(lines, at, h)
}

// entries are the lines of all duels, with up to so many of the last verdict of each and of the chosen one, and where
// the chosen one begins.
func (v View) entries(s screen.Scene, w, each, chosen int) (lines []string, at int) {
	for i, d := range s.Duels {
		mark, name, most := "  ", s.Theme.Ink, each
		if i == v.at(s) {
			mark, name, most, at = s.Theme.Strong.Render("▌ "), s.Theme.Strong, chosen, len(lines)
		}
		history := pastOf(s, d).Newest
		trace := ""
		if len(history) > 1 {
			trace = s.Theme.Faint.Render(parts.Trace(leads(history), 12))
		}
		lines = append(lines, parts.Cell(mark+name.Render(d.Name()), w-14)+"  "+parts.Right(trace, 12))
		style := s.Theme.Faint
		if d.Plan == nil {
			style = s.Theme.Trouble
		}
		said := parts.Wrap(lastSaid(&s, d, history), w-4)
		if most > 0 && len(said) > most {
			said[most-1] += " …"
		}
		for _, text := range said[:min(most, len(said))] {
			lines = append(lines, mark+parts.Cell(style.Render(text), w-2))
		}
		lines = append(lines, "")
	}
	return lines, at
}

// pastOf is what the logbook has of a duel's file; nothing of a plan that never had one.
func pastOf(s screen.Scene, d screen.Duel) logbook.Past {
	if d.File == "" {
		return logbook.Past{}
	}
	return s.Past[d.File]
}

func leads(history []logbook.Entry) (out []float64) {
	for _, e := range slices.Backward(history) {
		out = append(out, e.Lead)
	}
	return out
}

func lastSaid(s *screen.Scene, d screen.Duel, history []logbook.Entry) string {
	if d.Plan == nil {
		return "cannot be run as it is"
	}
	if len(history) == 0 {
		return "not run yet"
	}
	last := history[0]
	when := s.When(last.Started)
	if last.Ending != result.Done {
		return fmt.Sprintf("%s, %s after %d of %d heats. %s", when, last.Ending, last.Heats, last.Planned, last.Sentence)
	}
	return when + ": " + last.Sentence
}

// face shows the chosen duel: what is shared, and what differs side by side.
func (v View) face(s screen.Scene, w int) []string {
	d := v.chosen(s)
	if d.Plan == nil {
		return v.problems(s, d, w)
	}
	p := d.Plan
	var lines []string
	for _, l := range parts.Wrap(p.Question, w) {
		if l == "" {
			continue
		}
		lines = append(lines, s.Theme.Strong.Render(l))
	}
	if p.Sweep != nil {
		lines = append(lines, "", s.Theme.Faint.Render("over, and below as at the first"))
		for _, l := range p.Sweep.Lines() {
			for _, part := range parts.Wrap(l, w) {
				lines = append(lines, s.Theme.Ink.Render(part))
			}
		}
	}
	shared, own := p.Aspects()
	if len(shared) > 0 {
		lines = append(lines, "", s.Theme.Faint.Render("asked of all"))
		lines = append(lines, aspects(s, shared, w)...)
	}
	lines = append(lines, "", s.Theme.Faint.Render("what differs"))
	lines = append(lines, v.contenders(s, p, own, w)...)
	return append(lines, "", s.Theme.Faint.Render("file  ")+parts.Cell(d.File, max(w-6, 0)))
}

// contenders puts as many beside each other as there is room for, row by row.
func (v View) contenders(s screen.Scene, p *plan.Plan, own [][]plan.Aspect, w int) (lines []string) {
	const gap, least = 3, 24
	n := len(p.Contenders)
	rows := 1
	for rows < n && (w+gap)/((n+rows-1)/rows) < least+gap {
		rows++
	}
	columns := (n + rows - 1) / rows
	each := (w - gap*(columns-1)) / columns
	for from := 0; from < n; from += columns {
		var row [][]string
		tallest := 0
		for i := from; i < min(from+columns, n); i++ {
			row = append(row, v.contender(s, p, i, own[i], each))
			tallest = max(tallest, len(row[len(row)-1]))
		}
		var blocks []string
		for _, block := range row {
			blocks = append(blocks, parts.Fit(strings.Join(block, "\n"), each, tallest))
		}
		if from > 0 {
			lines = append(lines, "")
		}
		lines = append(lines, strings.Split(parts.Beside(gap, blocks...), "\n")...)
	}
	return lines
}

func (v View) contender(s screen.Scene, p *plan.Plan, i int, own []plan.Aspect, w int) (lines []string) {
	c, sign := p.Contenders[i], chart.SignOf(i)
	style := s.Theme.Sign(sign)
	name := style.Bold(true).Render(sign.Glyph + " " + c.Name)
	if c.Name == p.Baseline {
		name += s.Theme.Faint.Render("  baseline")
	}
	lines = append(lines, parts.Cell(name, w), style.Render(strings.Repeat("─", max(w, 0))))
	if c.Note != "" {
		lines = append(lines, parts.Wrap(c.Note, w)...)
	}
	if c.Avoid != "" {
		lines = append(lines, mark(s.Theme.Caution.Render, "not when "+c.Avoid, w)...)
	}
	return append(lines, aspects(s, own, w)...)
}

func mark(style func(...string) string, text string, w int) (lines []string) {
	for _, l := range parts.Wrap(text, w) {
		lines = append(lines, style(l))
	}
	return lines
}

// aspects lists settings with their values in a column, or below their keys where those are long.
func aspects(s screen.Scene, list []plan.Aspect, w int) (lines []string) {
	longest := 0
	for _, a := range list {
		longest = max(longest, len(a.Key))
	}
	const mostBeside = 3 // lines of a value beside its key
	stacked := longest > w/2 || slices.ContainsFunc(list, func(a plan.Aspect) bool {
		return len(parts.Wrap(a.Value, w-longest-2)) > mostBeside
	})
	for _, a := range list {
		indent, room := longest+2, w-longest-2
		if stacked {
			lines = append(lines, s.Theme.Faint.Render(a.Key))
			indent, room = 2, w-2
		}
		for i, part := range parts.Wrap(a.Value, room) {
			label := ""
			if i == 0 && !stacked {
				label = a.Key
			}
			lines = append(lines, s.Theme.Faint.Render(parts.Cell(label, indent))+part)
		}
	}
	return lines
}

// problems shows what is wrong with a plan, each with its line.
func (v View) problems(s screen.Scene, d screen.Duel, w int) (lines []string) {
	var problems read.Problems
	if !errors.As(d.Problems, &problems) {
		return mark(s.Theme.Trouble.Render, d.Problems.Error(), w)
	}
	for _, p := range problems {
		at := d.Base()
		if p.Pos.Line > 0 {
			at = fmt.Sprintf("%s, line %d, column %d", at, p.Pos.Line, p.Pos.Column)
		}
		lines = append(lines, s.Theme.Faint.Render(at))
		lines = append(lines, mark(s.Theme.Trouble.Render, p.What, w)...)
		if p.Try != "" {
			lines = append(lines, parts.Wrap("→ "+p.Try, w)...)
		}
		lines = append(lines, "")
	}
	return append(lines, s.Theme.Faint.Render("e opens the file in your editor; it is read again when you come back"))
}
