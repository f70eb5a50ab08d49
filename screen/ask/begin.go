package ask

import (
	"fmt"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"paceduel/core/chart"
	"paceduel/core/draft"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// begin is the place to begin: two lines that say what stands against what. Both are tried at once, as in the weigh-in,
// and then the duel is one key away; the plan that is made of them can be kept.
type begin struct {
	kinds   []*draft.Kind
	served  []screen.Offer // addresses on this machine
	earlier []screen.Offer // contenders of earlier duels
	offered int            // the next one of them all
	inputs  [2]textinput.Model
	at      int
	serial  int
	asked   [2]string // what was tried last
	trying  bool
	tried   *screen.TriedMsg

	try, start, keep, other, offer, exit key.Binding
}

func newBegin(kinds []*draft.Kind, offers screen.EmptyFolderMsg) begin {
	bind := func(k, does string, names ...string) key.Binding {
		return key.NewBinding(key.WithKeys(append(names, k)...), key.WithHelp(k, does))
	}
	d := begin{
		kinds: kinds, served: offers.Served, earlier: offers.Earlier,
		try: bind("enter", "try both"), start: bind("enter", "start the duel"), keep: bind("ctrl+s", "keep the plan"),
		other: bind("tab", "other line", "shift+tab", "up", "down"), offer: bind("ctrl+l", "take an offer"),
		exit: leave(),
	}
	for i, hint := range []string{"gzip -1 -c manifest.txt", "gzip -9 -c manifest.txt"} {
		d.inputs[i] = parts.NewInput(hint, "")
	}
	d.inputs[0].Focus()
	return d
}

func (d begin) offers() []screen.Offer { return slices.Concat(d.served, d.earlier) }

func (d begin) texts() [2]string {
	return [2]string{strings.TrimSpace(d.inputs[0].Value()), strings.TrimSpace(d.inputs[1].Value())}
}

// keepable reports whether what stands there was tried, so that there is a plan of it.
func (d begin) keepable() bool { return d.tried != nil && d.tried.Plan != nil && d.asked == d.texts() }

// ready reports whether what stands there was tried and can be run.
func (d begin) ready() bool { return d.tried != nil && d.tried.Err == nil && d.asked == d.texts() }

func (d begin) update(msg tea.Msg, _ screen.Scene) (dialog, tea.Cmd) {
	switch msg := msg.(type) {
	case screen.TriedMsg:
		if msg.Serial == d.serial {
			d.tried, d.trying = &msg, false
		}
		return d, nil
	case tea.PasteMsg:
		msg.Content = oneLine(msg.Content)
		return d.write(msg)
	case tea.KeyPressMsg:
		return d.press(msg)
	}
	return d.write(msg)
}

func (d begin) press(press tea.KeyPressMsg) (dialog, tea.Cmd) {
	switch {
	case key.Matches(press, d.exit):
		return nil, nil
	case key.Matches(press, d.other):
		return d.move(1 - d.at), nil
	case key.Matches(press, d.keep) && d.keepable():
		return nil, screen.Send(screen.NewPlanMsg{Name: d.tried.Plan.Name, Text: d.tried.Plan.Source})
	case key.Matches(press, d.offer) && len(d.offers()) > 0:
		d.inputs[d.at].SetValue(d.offers()[d.offered%len(d.offers())].Text)
		d.offered++
		d.inputs[d.at].CursorEnd()
		return d, nil
	case key.Matches(press, d.start) && d.ready():
		return nil, screen.Send(screen.StartMsg{Duel: screen.Duel{Plan: d.tried.Plan, Source: d.tried.Plan.Source}})
	case key.Matches(press, d.try):
		texts := d.texts()
		switch {
		case d.trying:
			return d, nil
		case texts[0] == "":
			return d.move(0), nil
		case texts[1] == "":
			return d.move(1), nil
		}
		d.serial++
		d.asked, d.trying, d.tried = texts, true, nil
		return d, screen.Send(screen.TryMsg{Serial: d.serial, Texts: texts})
	}
	return d.write(press)
}

func (d begin) write(msg tea.Msg) (dialog, tea.Cmd) {
	var cmd tea.Cmd
	d.inputs[d.at], cmd = d.inputs[d.at].Update(msg)
	return d, cmd
}

func (d begin) move(to int) begin {
	d.inputs[d.at].Blur()
	d.at = to
	d.inputs[d.at].Focus()
	return d
}

// kind says what a text is taken for.
func (d begin) kind(text string) string {
	switch {
	case text == "":
		return ""
	case draft.IsImported(text):
		return "the request of a curl line"
	}
	one := ""
	for _, k := range d.kinds {
		if k.Claims == nil && one == "" || k.Claims != nil && k.Claims(text) {
			one = k.One
		}
	}
	return one
}

func (d begin) sentence(s screen.Scene) string {
	switch {
	case d.trying:
		return "Both are tried once; that may take up to half a minute …"
	case !d.ready():
		return "There is no duel in " + s.Title + " yet. What stands against what? Type or paste two command lines, URLs, " +
			"statements or curl lines; enter tries both."
	}
	p := d.tried.Plan
	text := fmt.Sprintf(
		"Both were tried. Enter runs %s of each in shuffled order, %s", units.Plural(p.Rounds, "round"), p.Pace,
	)
	if all := d.tried.Result.Expected(); all > 0 {
		text += ": " + units.About(all)
	}
	if names := d.tried.Result.Weighing.Unequal(); len(names) > 0 {
		return text + ". They do not answer the same (" + d.tried.Result.Weighing.First() +
			"): see that they do the same work."
	}
	return text + ". They answer the same."
}

func (d begin) body(s screen.Scene, w int) string {
	const label = 14
	t := s.Theme
	texts := d.texts()
	var lines []string
	for i, name := range []string{"today", "against it"} {
		sign := chart.SignOf(i)
		style := t.Sign(sign)
		if i == d.at {
			style = style.Bold(true)
		}
		lines = append(
			lines, style.Render(parts.Cell(sign.Glyph+" "+name, label))+parts.InputLine(d.inputs[i], w-label),
			strings.Repeat(" ", label)+t.Faint.Render(parts.Cell(d.kind(texts[i]), w-label)),
		)
		seen := d.seen(i)
		for _, said := range seen {
			style := t.Ink
			if len(seen) > 1 {
				style = t.Trouble // with what to do
			}
			for _, part := range parts.Wrap(said, w-label) {
				lines = append(lines, strings.Repeat(" ", label)+style.Render(part))
			}
		}
		lines = append(lines, "")
	}
	if d.tried != nil && d.tried.Err != nil && d.tried.Result == nil {
		for _, part := range parts.Wrap(units.Printable(d.tried.Err.Error()), w) {
			lines = append(lines, t.Trouble.Render(part))
		}
		lines = append(lines, "")
	}
	for _, group := range []struct {
		title  string
		offers []screen.Offer
	}{{"listening on this machine", d.served}, {"contenders of earlier duels", d.earlier}} {
		const shown = 6
		if len(group.offers) == 0 {
			continue
		}
		lines = append(lines, t.Faint.Render(group.title))
		for _, o := range group.offers[:min(len(group.offers), shown)] {
			text := parts.Cell("  "+units.Printable(o.Text)+"  ", max(lipgloss.Width(o.Text)+4, 30))
			lines = append(lines, parts.Cell(t.Ink.Render(text)+t.Faint.Render(units.Printable(o.About)), w))
		}
		lines = append(lines, "")
	}
	lines = append(
		lines,
		t.Faint.Render("esc leaves this; n then offers plans for more kinds of questions, and paceduel demo an"),
		t.Faint.Render("invented harbour with duels to try. A plan is a file of its own, NAME"+plan.Suffix+"."),
	)
	return strings.Join(lines, "\n")
}

// seen is what the trial saw of one of the two.
func (d begin) seen(i int) []string {
	if d.tried == nil || d.tried.Result == nil || d.asked != d.texts() || i >= len(d.tried.Result.Entrants) {
		return nil
	}
	t := d.tried.Result.Entrants[i].Touch
	switch {
	case t == nil:
		return []string{"not tried"}
	case t.Err != "":
		return []string{units.Printable(t.Err), "→ " + units.Printable(t.Try)}
	}
	return []string{answered(t)}
}

func answered(t *result.Touch) string {
	text := fmt.Sprintf("%s in %s, %s", t.Outcome, units.Duration(t.Latency), units.Bytes(float64(t.Bytes)))
	if t.Type != "" {
		text += ", " + t.Type
	}
	return units.Printable(text)
}

func (d begin) bindings() []key.Binding {
	first := d.try
	if d.ready() {
		first = d.start
	}
	out := []key.Binding{first, d.other}
	if d.keepable() {
		out = append(out, d.keep)
	}
	if len(d.offers()) > 0 {
		out = append(out, d.offer)
	}
	return append(out, d.exit)
}

// oneLine makes one line of a text that was broken for reading.
func oneLine(text string) string {
	return strings.NewReplacer(
		"\\\r\n", " ", "\\\n", " ", "\r\n", " ", "\n", " ",
	).Replace(strings.TrimSpace(text))
}

// choosing asks what kind of question the new duel is to answer.
type choosing struct {
	kinds      []*draft.Kind
	asks       []draft.Question
	cursor     parts.Cursor
	take, exit key.Binding
}

func newChoosing(kinds []*draft.Kind, asks []draft.Question) dialog {
	if len(asks) == 0 {
		return newDuel{newForm(kinds)}
	}
	return choosing{
		kinds: kinds, asks: asks, cursor: parts.NewCursor(), exit: leave(),
		take: key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "take this one")),
	}
}

// own are the choices before the questions: what one types oneself.
var own = []string{
	"two lines: type or paste what stands against what", "a form: name, question, baseline and challenger",
}

func (d choosing) update(msg tea.Msg, _ screen.Scene) (dialog, tea.Cmd) {
	press, ok := msg.(tea.KeyPressMsg)
	if !ok {
		return d, nil
	}
	all := len(own) + len(d.asks)
	if next, moved := d.cursor.Press(press, all); moved {
		d.cursor = next
		return d, nil
	}
	switch {
	case key.Matches(press, d.exit):
		return nil, nil
	case key.Matches(press, d.take):
		switch at := d.cursor.At(all); at {
		case 0:
			return newBegin(d.kinds, screen.EmptyFolderMsg{}), nil
		case 1:
			return newDuel{newForm(d.kinds)}, nil
		default:
			q := d.asks[at-len(own)]
			return nil, screen.Send(screen.NewPlanMsg{Name: q.Name, Text: q.Text, Edit: true})
		}
	}
	return d, nil
}

func (d choosing) sentence(s screen.Scene) string {
	return "A new duel in " + s.Title + ": what is to be found out? A plan opens in your editor; the lines to change " +
		"are named at its top."
}

func (d choosing) body(s screen.Scene, w int) string {
	at := d.cursor.At(len(own) + len(d.asks))
	var lines []string
	add := func(i int, text, about string) {
		lead, style := "  ", s.Theme.Ink
		if i == at {
			lead, style = s.Theme.Strong.Render("▌ "), s.Theme.Strong
		}
		lines = append(lines, parts.Cell(lead+style.Render(text)+s.Theme.Faint.Render(about), w))
	}
	for i, text := range own {
		add(i, text, "")
	}
	lines = append(lines, "")
	for i, q := range d.asks {
		add(i+len(own), parts.Cell(q.Asks, 46), "change "+q.Lines)
	}
	return strings.Join(lines, "\n")
}

func (d choosing) bindings() []key.Binding { return []key.Binding{d.take, d.cursor.Key(), d.exit} }
