package app

import (
	"fmt"
	"strings"

	"charm.land/bubbles/v2/help"
	"charm.land/bubbles/v2/key"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"paceduel/core/chart"
	"paceduel/core/units"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// The least window that everything fits in.
const (
	minWidth  = 80
	minHeight = 24
)

const (
	margin      = 2 // cells left and right of the body
	maxSentence = 5 // lines: what takes two at 142 columns takes no more at 80
)

// draw renders the whole window: exactly h lines of w cells.
func (m Model) draw() string {
	switch {
	case m.w == 0 || m.h == 0:
		return ""
	case m.w < minWidth || m.h < minHeight:
		return m.tooSmall()
	}
	inner := m.w - 2*margin
	rule := m.scene.Theme.Faint.Render(strings.Repeat("─", m.w))
	top := [barsAbove]string{m.bar(), m.trail(), rule}
	bottom := [barsBelow]string{m.noticeLine(), m.keyLine()}
	var body string
	rest := m.h - barsAbove - barsBelow
	switch {
	case m.leaving:
		body = m.leavingBody(inner, rest)
	case m.help:
		body = m.helpBody(inner, rest)
	default:
		body = m.viewBody(inner, rest)
	}
	pad := strings.Repeat(" ", margin)
	var out strings.Builder
	for _, line := range top {
		out.WriteString(parts.Cell(line, m.w) + "\n")
	}
	for line := range strings.SplitSeq(parts.Fit(body, inner, rest), "\n") {
		out.WriteString(pad + line + pad + "\n") // as wide as it has to be
	}
	for i, line := range bottom {
		if i > 0 {
			out.WriteByte('\n')
		}
		out.WriteString(parts.Cell(line, m.w))
	}
	return out.String()
}

func (m Model) tooSmall() string {
	text := []string{
		"", fmt.Sprintf(" This window is %dx%d;", m.w, m.h), fmt.Sprintf(" Pace Duel needs %dx%d.", minWidth, minHeight),
		" Enlarge it, or press q.",
	}
	if m.scene.Run != nil && m.scene.Run.Live {
		text = append(text, " The duel goes on.")
	}
	if m.leaving {
		text = []string{"", " A duel is on.", " q: quit and keep it", " any other key: go on"}
	}
	return parts.Fit(strings.Join(text, "\n"), m.w, m.h)
}

// bars are the lines above and below what a view has.
const (
	barsAbove = 3
	barsBelow = 2
)

// sceneFor is the scene with the room that a view has for its body.
func (m Model) sceneFor(v screen.View) screen.Scene {
	w, h := max(m.w-2*margin, 0), m.h-barsAbove-barsBelow
	return m.sceneIn(w, max(h-len(m.sentence(v, w, h)), 0))
}

func (m Model) sceneIn(w, h int) screen.Scene {
	s := m.scene
	s.Width, s.Height = w, h
	return s
}

// viewBody is the sentence, a gap, and the view.
func (m Model) viewBody(w, h int) string {
	v := m.view(m.at)
	head := m.sentence(v, w, h)
	return strings.Join(head, "\n") + "\n" + v.Body(m.sceneIn(w, h-len(head)), w, h-len(head))
}

// sentence is what a view says, with the gaps around it.
func (m Model) sentence(v screen.View, w, h int) []string {
	sentence := parts.Wrap(v.Sentence(m.scene), w)
	if len(sentence) > maxSentence {
		sentence = sentence[:maxSentence]
		sentence[maxSentence-1] += " …"
	}
	for i := range sentence {
		sentence[i] = m.scene.Theme.Strong.Render(sentence[i])
	}
	head := append(sentence, "")
	if h > 30 {
		head = append([]string{""}, head...)
	}
	return head
}

// bar is the first line: who we are, what is in view, how far it is.
func (m Model) bar() string {
	left := " " + m.scene.Theme.Faint.Render("pace duel") + "   "
	right := ""
	if r := m.scene.Run; r != nil {
		name := r.Result.Plan.Name
		if r.Swept != nil && m.at == screen.Sweep {
			name = r.Swept.Result.Plan.Name // the other stops show one of its points
		}
		left += m.scene.Theme.Strong.Render(name)
		right = m.progress(r)
	} else {
		left += m.scene.Theme.Strong.Render(m.scene.Title)
	}
	const leastTitle = 24
	room := m.w - lipgloss.Width(right) - 2
	if right == "" || room < leastTitle {
		return parts.Cell(left, m.w)
	}
	return parts.Cell(left, room) + " " + right + " "
}

func (m Model) progress(r *screen.Run) string {
	var text []string
	if r.Live {
		now, planned := r.Now, r.Result.Plan.Rounds
		if r.Swept != nil {
			now, planned = r.Swept.Now, r.Swept.Result.Plan.Rounds
		}
		if now != nil {
			text = append(text, fmt.Sprintf("round %d of %d", now.Round, planned))
		}
		if r.Left >= 0 {
			text = append(text, units.Left(r.Left))
		}
	} else {
		text = append(text, r.Result.Started.Format("2 Jan 2006 15:04"), "run "+r.Result.ID)
	}
	return m.scene.Theme.Faint.Render(strings.Join(append(text, fmt.Sprintf("seed %d", r.Result.Seed)), " · "))
}

// progress of a stop on the trail.
func (m Model) progressOf(row screen.Row) screen.Progress {
	if m.scene.Run == nil || row.Progress == nil {
		return screen.Ahead
	}
	return row.Progress(m.scene.Run)
}

// trail is the line of stops; the underlined letter of each is its key. Who is who stands at its end.
func (m Model) trail() string {
	t := m.scene.Theme
	var out strings.Builder
	out.WriteString(" ")
	for i, row := range m.stops {
		if i > 0 {
			out.WriteString(t.Faint.Render(" ─ "))
		}
		name, style := string(row.Stop), t.Faint
		mark := ""
		switch m.progressOf(row) {
		case screen.Done:
			mark, style = "✓", t.Ink
		case screen.Busy:
			mark, style = "▸", t.Ink
		case screen.Trouble:
			mark, style = "!", t.Trouble
		}
		if row.Stop == m.at {
			style = t.Here
		}
		k := row.Letter
		plain := style.Underline(false)
		out.WriteString(plain.Render(mark+name[:k]) + style.Underline(true).Render(name[k:k+1]) + plain.Render(name[k+1:]))
	}
	left := out.String()
	right := m.legend(m.w - lipgloss.Width(left) - 4)
	return left + strings.Repeat(" ", max(1, m.w-lipgloss.Width(left)-lipgloss.Width(right)-1)) + right
}

// legend names the contenders with their signs in at most w cells; names go first when there is little room.
func (m Model) legend(w int) string {
	r := m.scene.Run
	if r == nil {
		return ""
	}
	var long, short []string
	for i, e := range r.Result.Entrants {
		sign := chart.SignOf(i)
		style := m.scene.Theme.Sign(sign)
		short = append(short, style.Render(sign.Glyph))
		name := style.Render(sign.Glyph + " " + e.Name)
		if e.Name == r.Result.Plan.Baseline {
			name += m.scene.Theme.Faint.Render(" (baseline)")
		}
		long = append(long, name)
	}
	for _, text := range []string{strings.Join(long, "  "), strings.Join(short, " ")} {
		if lipgloss.Width(text) <= w {
			return text
		}
	}
	return ""
}

func (m Model) noticeLine() string {
	t := m.scene.Theme
	switch {
	case m.notice.text != "" && m.notice.trouble:
		return " " + t.Trouble.Render(m.notice.text)
	case m.notice.text != "":
		return " " + m.notice.text
	case m.scene.Run != nil && m.scene.Run.NotKept != nil:
		return " " + t.Trouble.Render(strings.ReplaceAll(m.scene.Run.NotKept.Error(), "\n", ": "))
	}
	return ""
}

// keyLine shows the few keys that matter now.
func (m Model) keyLine() string {
	bindings := m.view(m.at).Keys(m.scene)
	tail := []key.Binding{m.keys.help, m.keys.quit}
	switch {
	case m.leaving:
		bindings, tail = nil, []key.Binding{m.keys.yes, m.keys.close}
	case m.help:
		bindings, tail = nil, []key.Binding{m.keys.close, m.keys.quit}
	case m.captured(): // other keys are what the user writes
		tail = []key.Binding{key.NewBinding(key.WithKeys("ctrl+c"), key.WithHelp("ctrl+c", "quit"))}
	default:
		bindings = append(bindings, m.keys.next)
	}
	// The way to all keys and the way out are always there; the others as far as there is room.
	end := m.keyItems(tail, m.w)
	return m.keyItems(bindings, m.w-lipgloss.Width(end)) + end
}

// keyItems lists bindings in at most w cells.
func (m Model) keyItems(bindings []key.Binding, w int) (line string) {
	words := make([]key.Binding, len(bindings))
	for i, b := range bindings {
		words[i] = m.inWords(b)
	}
	return ansi.Truncate(" "+m.keyHelp(w-1).ShortHelpView(words)+"  ", max(w, 0), "")
}

// inWords is a binding with its word first and its key set off: in the word where it is a letter of it, else behind it.
func (m Model) inWords(b key.Binding) key.Binding {
	t := m.scene.Theme
	name, word := b.Help().Key, b.Help().Desc
	at := -1
	if len(name) == 1 {
		at = strings.Index(strings.ToLower(word), strings.ToLower(name))
	}
	if at < 0 {
		b.SetHelp(word, name+" ") // as far from the next one as a word alone
		return b
	}
	b.SetHelp(t.Faint.Render(word[:at])+t.Strong.Underline(true).Render(name)+t.Faint.Render(word[at+1:]), "")
	return b
}

// keyHelp lists keys in our type; 0 cells are as many as it takes.
func (m Model) keyHelp(w int) help.Model {
	const keyWidth = 13 // of a list of all
	t := m.scene.Theme
	list := help.New()
	list.ShortSeparator = "  "
	list.Styles = help.Styles{
		Ellipsis: t.Faint, ShortKey: t.Faint, ShortDesc: t.Strong, ShortSeparator: t.Faint,
		FullKey: t.Strong.Width(keyWidth).Align(lipgloss.Right), FullDesc: t.Ink.PaddingLeft(2), FullSeparator: t.Faint,
	}
	list.SetWidth(w)
	return list
}

func (m Model) leavingBody(w, h int) string {
	n := 0
	if m.scene.Run != nil {
		n = len(m.scene.Run.Heats)
		if whole := m.scene.Run.Swept; whole != nil {
			n = len(whole.Heats)
		}
	}
	t := m.scene.Theme
	lines := []string{
		t.Strong.Render("A duel is on."), "",
		fmt.Sprintf("Quitting ends it; %s are kept and can be opened under log.", units.Plural(n, "finished heat")), "",
		t.Strong.Render("q") + "    quit and keep", t.Strong.Render("esc") + "  go on",
	}
	return centre(lines, w, h)
}

// helpBody lists the keys of the view at hand and of everywhere.
func (m Model) helpBody(w, h int) string {
	t := m.scene.Theme
	list := func(bindings ...key.Binding) []string {
		return strings.Split(m.keyHelp(0).FullHelpView([][]key.Binding{bindings}), "\n")
	}
	lines := []string{t.Strong.Render("Keys of " + string(m.at)), ""}
	lines = append(lines, list(m.view(m.at).Keys(m.scene)...)...)
	lines = append(lines, "", t.Strong.Render("Everywhere"), "")
	lines = append(lines, list(m.keys.stops, m.keys.next, m.keys.help, m.keys.quit)...)
	lines = append(lines, "", t.Faint.Render("✓ done   ▸ busy   ! in trouble      × in the lanes: a shot that failed"))
	return centre(lines, w, h)
}

// centre puts a block in the middle of the body.
func centre(lines []string, w, h int) string {
	widest := 0
	for _, l := range lines {
		widest = max(widest, lipgloss.Width(l))
	}
	pad := strings.Repeat(" ", max((w-widest)/2, 0))
	out := make([]string, max((h-len(lines))/3, 0))
	for _, l := range lines {
		out = append(out, pad+l)
	}
	return strings.Join(out, "\n")
}
