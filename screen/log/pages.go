package log

import (
	"fmt"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"paceduel/core/chart"
	"paceduel/core/chart/paper"
	"paceduel/core/history"
	"paceduel/core/units"
	"paceduel/screen"
)

// lineAt is the duel at hand; nil without any.
func (v View) lineAt(s screen.Scene) *history.Line {
	if len(s.Lines) == 0 {
		return nil
	}
	l := s.Lines[v.duel.At(len(s.Lines))]
	if len(l.Runs) == 0 {
		return nil
	}
	return l
}

// holding is the key that holds a run to another: the first time it chooses the one, then the other.
func (v View) holding() key.Binding {
	hold := v.hold
	if v.first != "" {
		hold.SetHelp("h", "hold "+v.first+" to it")
	}
	return hold
}

// holdTo chooses a run to hold another to, or has the two held to each other.
func (v View) holdTo(id string) (screen.View, tea.Cmd) {
	switch v.first {
	case "":
		v.first = id
		return v, nil
	case id:
		v.first = ""
		return v, nil
	}
	return v, screen.Send(screen.PairMsg{Then: v.first, Now: id})
}

// pageKeys are the keys of all pages but that of the runs.
func (v View) pageKeys(s screen.Scene) []key.Binding {
	switch {
	case v.shows == pair:
		return []key.Binding{v.back, v.up}
	case v.shows == line && v.lineAt(s) != nil:
		open, again, along := v.open, v.again, v.run.Key()
		idle := s.Run == nil || !s.Run.Live
		open.SetEnabled(idle)
		again.SetEnabled(idle)
		along.SetHelp("↑ ↓", "run by run")
		return []key.Binding{open, along, v.holding(), again, v.save, v.back}
	case len(s.Lines) == 0:
		return []key.Binding{v.byRun}
	}
	return []key.Binding{v.over, v.duel.Key(), v.byRun}
}

// turn takes a key on all pages but that of the runs.
func (v View) turn(press tea.KeyPressMsg, s screen.Scene) (screen.View, tea.Cmd) {
	switch {
	case v.shows == pair:
		return v.scroll(press), nil
	case v.shows == line && v.lineAt(s) != nil:
		return v.along(press, s)
	}
	if next, moved := v.duel.Press(press, len(s.Lines)); moved {
		v.duel = next
		return v, nil
	}
	switch {
	case key.Matches(press, v.over) && v.lineAt(s) != nil:
		v.shows, v.run = line, v.run.Set(len(v.lineAt(s).Runs)-1)
		return v, screen.Send(screen.LinesMsg{Duel: v.lineAt(s).Duel})
	case key.Matches(press, v.byRun), key.Matches(press, v.back):
		v.shows = runs
	}
	return v, nil
}

// along takes a key on the page of one duel.
func (v View) along(press tea.KeyPressMsg, s screen.Scene) (screen.View, tea.Cmd) {
	l := v.lineAt(s)
	if next, moved := v.run.Press(press, len(l.Runs)); moved {
		v.run = next
		return v, nil
	}
	here := l.Runs[v.run.At(len(l.Runs))].ID
	idle := s.Run == nil || !s.Run.Live
	switch {
	case key.Matches(press, v.open) && idle:
		return v, screen.Send(screen.OpenMsg{ID: here})
	case key.Matches(press, v.hold):
		return v.holdTo(here)
	case key.Matches(press, v.again) && idle:
		return v, screen.Send(screen.AgainMsg{ID: here})
	case key.Matches(press, v.save):
		picture := paper.Named{Picture: paper.History(chart.NewHistory(l)), Name: "over-time", Title: l.Duel + " over time"}
		return v, screen.Send(screen.SaveMsg{Pictures: []paper.Named{picture}})
	case key.Matches(press, v.back):
		v.shows = duels
	}
	return v, nil
}

// scroll takes a key on the page of a pair.
func (v View) scroll(press tea.KeyPressMsg) View {
	switch {
	case key.Matches(press, v.back):
		v.shows = v.from
	case key.Matches(press, v.up):
		v.line = max(v.line-1, 0)
	case key.Matches(press, v.down):
		v.line++
	}
	return v
}

// pageSentence says what is in view on all pages but that of the runs.
func (v View) pageSentence(s screen.Scene) string {
	switch {
	case v.shows == pair && s.Pair != nil:
		return s.Pair.Title() + ": two runs held to each other."
	case v.shows == line && v.lineAt(s) != nil:
		l := v.lineAt(s)
		return strings.TrimSpace(l.Duel + ": " + l.Sentence + " " + l.Cut())
	case s.Lines == nil:
		return "The runs of each duel are put in order …"
	}
	said := units.Plural(max(s.AllLines, len(s.Lines)), "duel") + " over time, the one with the newest run first."
	if s.AllLines > len(s.Lines) {
		said += fmt.Sprintf(" The newest %d are listed.", len(s.Lines))
	}
	return said
}
