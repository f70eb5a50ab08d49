package verdict

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"paceduel/core/judge"
	"paceduel/core/units"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// reason is a line of the list: a claim, a stake or a caution.
type reason struct {
	mark, what string
	style      lipgloss.Style
	more       []string // when it is chosen
	see        judge.Evidence
	section    string
}

func findingStyle(s screen.Scene, f judge.Finding) lipgloss.Style {
	switch f {
	case judge.Refuted:
		return s.Theme.Trouble
	case judge.Undecided:
		return s.Theme.Caution
	}
	return s.Theme.Lead
}

// reasonsOf lists what there is to say for and against the verdict.
func reasonsOf(s screen.Scene) (out []reason) {
	v := s.Run.Verdict
	for i := range v.Ranking {
		out = append(out, reason{section: "ranking", mark: "", what: v.Ranking[i].Sentence(), more: []string{
			"Contenders that cannot be told apart share places; all pairs are tested together.",
		}, see: judge.InRatios, style: s.Theme.Ink})
	}
	for _, c := range v.Claims {
		out = append(out, reason{
			section: "claims", mark: string(c.Finding), what: c.Text, style: findingStyle(s, c.Finding), more: []string{c.Why},
			see: judge.InRatios,
		})
	}
	for i := range v.Stakes {
		k := &v.Stakes[i]
		out = append(out, reason{
			section: "stakes", what: k.Sentence(v.Baseline), more: []string{"= " + k.Formula}, style: s.Theme.Ink,
			see: judge.InRatios,
		})
	}
	for _, c := range v.Cautions {
		out = append(out, reason{
			section: "cautions", mark: string(c.Kind), what: c.What, more: []string{c.Try}, style: s.Theme.Caution, see: c.See,
		})
	}
	return out
}

func reasonsSentence(s screen.Scene) string {
	v := s.Run.Verdict
	var text []string
	if n := len(v.Claims); n > 0 {
		upheld := 0
		for _, c := range v.Claims {
			if c.Finding == judge.Upheld {
				upheld++
			}
		}
		text = append(text, fmt.Sprintf("%d of %s upheld", upheld, units.Plural(n, "claim")))
	}
	if n := len(v.Stakes); n > 0 {
		text = append(text, units.Plural(n, "stake"))
	}
	text = append(text, units.Plural(len(v.Cautions), "caution"))
	said := units.List(text) + ". " + strings.ToUpper(v.Note[:1]) + v.Note[1:] + "."
	if len(v.Cautions) == 0 {
		return "Nothing weakens this verdict: " + said
	}
	return strings.ToUpper(said[:1]) + said[1:]
}

// reasonsBody lists the reasons, the chosen one with what lies behind it.
func (v View) reasonsBody(s screen.Scene, w, h int) []string {
	all := reasonsOf(s)
	if len(all) == 0 {
		return []string{s.Theme.Faint.Render(" No claims, no stakes, no cautions.")}
	}
	chosen := v.reason.At(len(all))
	var lines []string
	at, section := 0, ""
	for i, r := range all {
		if r.section != section {
			if section != "" {
				lines = append(lines, "")
			}
			lines, section = append(lines, " "+s.Theme.Faint.Render(r.section)), r.section
		}
		lead, style := "   ", s.Theme.Ink
		if i == chosen {
			at = len(lines)
			lead, style = s.Theme.Here.Render(" ▸ "), s.Theme.Strong
		}
		const mark = 15
		text := r.what
		indent := 3
		first := lead
		if r.mark != "" {
			first += r.style.Render(parts.Cell(r.mark, mark))
			indent += mark
		}
		for j, l := range parts.Wrap(text, w-indent-2) {
			if j == 0 {
				lines = append(lines, first+style.Render(l))
			} else {
				lines = append(lines, strings.Repeat(" ", indent)+style.Render(l))
			}
		}
		if i != chosen {
			continue
		}
		for _, m := range r.more {
			for _, l := range parts.Wrap(m, w-indent-2) {
				lines = append(lines, strings.Repeat(" ", indent)+s.Theme.Faint.Render(l))
			}
		}
		if r.see != "" {
			lines = append(lines, strings.Repeat(" ", indent)+s.Theme.Faint.Render("enter: shows under "+string(r.see)))
		}
	}
	return parts.Window(lines, at, h)
}

// follow goes to the place that shows the chosen reason.
func (v View) follow(s screen.Scene) (screen.View, tea.Cmd) {
	all := reasonsOf(s)
	if len(all) == 0 {
		return v, nil
	}
	see := all[v.reason.At(len(all))].see
	if _, shown := s.Where[see]; !shown {
		return v, nil
	}
	return v, screen.Send(screen.GoMsg{To: see})
}
