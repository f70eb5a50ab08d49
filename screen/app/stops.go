package app

import (
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"paceduel/core/draft"
	"paceduel/core/judge"
	"paceduel/screen"
	"paceduel/screen/ask"
	"paceduel/screen/footing"
	"paceduel/screen/log"
	"paceduel/screen/rounds"
	"paceduel/screen/sweep"
	"paceduel/screen/verdict"
	"paceduel/screen/weighin"
	"paceduel/screen/why"
)

// stops are the stops of the trail in working order: the one place that lists them.
func stops(cfg Config) []screen.Row {
	return []screen.Row{
		ask.Stop(cfg.drafts(), cfg.Questions), footing.Stop(), weighin.Stop(), rounds.Stop(), verdict.Stop(), why.Stop(),
		sweep.Stop(), log.Stop(),
	}
}

// drafts are how plans are drafted for each kind that can be.
func (c Config) drafts() (out []*draft.Kind) {
	for _, k := range c.Kinds {
		if k.Draft != nil {
			out = append(out, k.Draft)
		}
	}
	return out
}

// stopKeys are the letters that lead to stops.
func stopKeys(rows []screen.Row) key.Binding {
	var letters []string
	for _, row := range rows {
		letters = append(letters, row.Key())
	}
	return key.NewBinding(key.WithKeys(letters...), key.WithHelp(strings.Join(letters, " "), "the stops of the trail"))
}

// shownAt says which stop shows what.
func shownAt(rows []screen.Row) map[judge.Evidence]screen.Stop {
	at := map[judge.Evidence]screen.Stop{}
	for _, row := range rows {
		for _, e := range row.Shows {
			at[e] = row.Stop
		}
	}
	return at
}

func (m Model) index(s screen.Stop) int {
	return slices.IndexFunc(m.stops, func(r screen.Row) bool { return r.Stop == s })
}

// view is the view of a stop.
func (m Model) view(s screen.Stop) screen.View { return m.stops[m.index(s)].View }

// tellAll hands a message to every view.
func (m Model) tellAll(msg tea.Msg) Model {
	for _, row := range m.stops {
		m, _ = m.tell(row.Stop, msg) // of what is only told, nothing follows
	}
	return m
}

// tell hands a message to the view of a stop.
func (m Model) tell(s screen.Stop, msg tea.Msg) (Model, tea.Cmd) {
	i := m.index(s)
	next, cmd := m.stops[i].View.Update(msg, m.sceneFor(m.stops[i].View))
	m.stops = slices.Clone(m.stops) // earlier models keep theirs
	m.stops[i].View = next
	return m, cmd
}
