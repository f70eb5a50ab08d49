package main

import (
	"fmt"
	"io"

	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/units"
)

// sweep writes the sentence, the findings, a table of each slice, the claims and the cautions.
func (p printer) sweep(r *result.Result, s *judge.Sweep) {
	fmt.Fprintf(p.out, "\n%s\n", r.Plan.Name)
	if r.Plan.Question != "" {
		p.say(r.Plan.Question)
	}
	p.gap()
	p.say(s.Sentence)
	kind := judge.RemarkKind("")
	for _, remark := range s.Remarks {
		if remark.Kind == judge.WhoWins && len(s.Slices) == 1 {
			continue // it is the sentence
		}
		if remark.Kind != kind {
			kind = remark.Kind
			p.gap()
			p.say(string(kind))
		}
		p.say("- " + remark.Text)
	}
	if s.Rounds > 0 {
		for i := range s.Slices {
			p.slice(s, i)
		}
		p.gap()
		p.say(fmt.Sprintf("%s; %s at least.", s.Note, units.Plural(s.Rounds, "round")))
	}
	p.claims(s.Claims)
	p.cautions(s.Cautions)
	p.conditions(r, s.Pace())
}

// slice writes the figure that decides at every point of a slice.
func (p printer) slice(s *judge.Sweep, i int) {
	t := s.Table(i, s.Decides, judge.AsMeasured)
	text, _ := table(append([][]string{t.Head}, t.Rows...))
	p.gap()
	io.WriteString(p.out, text)
}
