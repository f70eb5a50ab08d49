package main

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"
	"text/tabwriter"
	"time"
	"unicode/utf8"

	"paceduel/core/chart"
	"paceduel/core/judge"
	"paceduel/core/logbook"
	"paceduel/core/result"
	"paceduel/core/units"
	"paceduel/core/weighin"
)

// printer writes what a run found, for people: lines of prose at most proseWidth long, all within its width.
type printer struct {
	out   io.Writer
	width int // of the terminal; 0 where lines may be as long as they like
}

const proseWidth = 96

// say writes a paragraph; what begins like an item of a list goes on beneath its text.
func (p printer) say(text string) {
	width := proseWidth
	if p.width > 0 {
		width = max(min(width, p.width-len(indent)), 20)
	}
	fmt.Fprintln(p.out, wrap(text, indent, width))
}

// indent is in front of all lines but titles.
const indent = "  "

// verdict writes the sentence, the figures face to face, the scorecard, the cautions.
func (p printer) verdict(r *result.Result, v *judge.Verdict) {
	fmt.Fprintf(p.out, "\n%s\n", r.Plan.Name)
	if r.Plan.Question != "" {
		p.say(r.Plan.Question)
	}
	p.gap()
	p.say(v.Sentence)
	p.standing(r, v)
	for i := range v.Ranking {
		p.gap()
		p.say(v.Ranking[i].Sentence())
	}
	for i := range v.Faces {
		p.face(v, &v.Faces[i])
	}
	if v.Mirror != nil && v.Rounds > 0 {
		p.gap()
		p.say("the baseline against itself: how much this machine differs from itself")
		p.face(v, v.Mirror)
	}
	if v.Rounds > 0 {
		p.gap()
		p.say(fmt.Sprintf("%s; %s.", v.Note, units.Plural(v.Rounds, "round")))
		p.scorecard(r, v)
	}
	p.inside(r, v)
	p.meanwhile(v)
	p.arrivals(v)
	p.survival(v)
	p.claims(v.Claims)
	if len(v.Stakes) > 0 {
		p.gap()
		p.say("stakes")
	}
	for i := range v.Stakes {
		p.say("- " + v.Stakes[i].Sentence(v.Baseline))
		p.say("  = " + v.Stakes[i].Formula)
	}
	p.cautions(v.Cautions)
	p.agents(r)
	p.conditions(r, r.Plan.Pace.Words)
}

// mostAgents is how many agents are listed.
const mostAgents = 12

// agents lists who drove the run from elsewhere.
func (p printer) agents(r *result.Result) {
	list := chart.Agents(r)
	if len(list) == 0 {
		return
	}
	p.gap()
	p.say("driven by " + r.Load.Words)
	w := tabwriter.NewWriter(p.out, 0, 0, 3, ' ', 0)
	fmt.Fprintln(w, indent+strings.Join(chart.AgentTitles[:len(chart.AgentTitles)-1], "\t"))
	for i := range list[:min(len(list), mostAgents)] {
		cells := list[i].Cells()
		lost := ""
		if list[i].Lost != "" {
			lost = "\tlost " + list[i].Lost
		}
		fmt.Fprintln(w, indent+strings.Join(cells[:len(cells)-1], "\t")+lost)
	}
	w.Flush()
	if more := len(list) - mostAgents; more > 0 {
		p.say("and " + units.Plural(more, "agent") + " more")
	}
}

// byAgent lists what each agent drove, contender by contender.
func (p printer) byAgent(r *result.Result) {
	for _, c := range r.Cells() {
		list := chart.ByAgents(r, r.Heats, c)
		if len(list) == 0 {
			continue
		}
		p.gap()
		p.say(c.String() + ", by agent")
		w := tabwriter.NewWriter(p.out, 0, 0, 3, ' ', 0)
		fmt.Fprintln(w, indent+strings.Join(chart.ByAgentTitles, "\t"))
		for i := range list {
			fmt.Fprintln(w, indent+strings.Join(list[i].Cells(), "\t"))
		}
		w.Flush()
	}
}

// inside says what happens in shots, and what moved.
func (p printer) inside(r *result.Result, v *judge.Verdict) {
	inner := v.Inner(r)
	if len(inner) == 0 {
		return
	}
	p.gap()
	p.say("inside a shot")
	for _, in := range inner {
		p.say("- " + in.Say())
	}
	for _, m := range v.Moved {
		p.say("- " + m.Sentence)
	}
}

// meanwhile says who waits while contenders work.
func (p printer) meanwhile(v *judge.Verdict) {
	if len(v.Meanwhile) == 0 {
		return
	}
	p.gap()
	p.say("meanwhile")
	if len(v.Meanwhile) > 1 {
		p.say("- " + v.MeanwhileSentence)
	}
	for _, m := range v.Meanwhile {
		p.say("- " + m.Sentence)
	}
}

// arrivals says when effects of deeds are seen.
func (p printer) arrivals(v *judge.Verdict) {
	if len(v.Arrivals) > 0 {
		p.gap()
		p.say("arrivals")
		p.say("- " + v.ArrivalsSentence)
	}
}

// survival says what is left of contenders that were ended while they worked.
func (p printer) survival(v *judge.Verdict) {
	if len(v.Survival) == 0 {
		return
	}
	p.gap()
	p.say("survival")
	if v.SurvivalSentence != v.Survival[0].Sentence {
		p.say("- " + v.SurvivalSentence)
	}
	for _, s := range v.Survival {
		p.say("- " + s.Sentence)
	}
}

func (p printer) claims(claims []judge.Claim) {
	if len(claims) > 0 {
		p.gap()
		p.say("claims")
	}
	for _, c := range claims {
		p.say(fmt.Sprintf("- %s: %s, %s", c.Text, c.Finding, c.Why))
	}
}

func (p printer) cautions(cautions []judge.Caution) {
	if len(cautions) > 0 {
		p.gap()
		p.say("cautions")
	}
	for _, c := range cautions {
		p.say("- " + c.What)
		if c.Try != "" {
			p.say("  " + c.Try)
		}
	}
}

// conditions are the last line of a verdict: under which it was reached.
func (p printer) conditions(r *result.Result, pace string) {
	p.gap()
	p.say(fmt.Sprintf(
		"%s, seed %d, %s, %s (%d cores); run %s", pace, r.Seed, r.Started.Format(time.DateTime), r.Host.CPU, r.Host.Cores,
		r.ID,
	))
}

func (p printer) gap() { fmt.Fprintln(p.out) }

// face writes the figures of a contender beside the baseline's. Where that is too wide, differences are left out, which
// the two figures tell as well, then what would settle an open one.
func (p printer) face(v *judge.Verdict, f *judge.Face) {
	if !slices.ContainsFunc(f.Figures, func(a judge.Assessment) bool { return a.Rounds > 0 }) {
		return // no round is complete: there is nothing to stand in a table
	}
	p.gap()
	const difference = 5 // its column
	for dropped := range 3 {
		rows := [][]string{{"", v.Baseline, f.Contender, "ratio", "between", "difference", ""}}
		for _, a := range f.Figures {
			ratio, between := units.None, units.None
			if a.Rounds > 0 {
				ratio, between = a.Factor(), cmp.Or(a.Interval(), units.None)
			}
			apart, _, _ := strings.Cut(a.Apart(), " (")
			say := a.Say()
			if dropped == 2 && (a.Word == judge.Open || a.Word == judge.TooFew) {
				say = string(a.Word)
			}
			rows = append(rows, []string{
				a.Title(), a.Figure.Show(a.Baseline.V), a.Figure.Show(a.Contender.V), ratio, between, cmp.Or(apart, units.None),
				say,
			})
		}
		if dropped > 0 {
			for i := range rows {
				rows[i] = slices.Delete(rows[i], difference, difference+1)
			}
		}
		text, width := table(rows)
		if p.width == 0 || width <= p.width || dropped == 2 {
			io.WriteString(p.out, text)
			return
		}
	}
}

// standing writes how all contenders stand at all rungs, where there are several; in blocks where that is too wide.
func (p printer) standing(r *result.Result, v *judge.Verdict) {
	all := v.Standing(r)
	if len(all.Lines) < 2 || len(all.Rungs) == 0 || v.Rounds == 0 {
		return
	}
	const gap = 3
	first := 0
	widths := make([]int, len(all.Rungs))
	for _, l := range all.Lines {
		first = max(first, len(indent)+utf8.RuneCountInString(l.Contender+" "+l.State))
	}
	for i, title := range all.Rungs {
		widths[i] = utf8.RuneCountInString(title)
		for _, l := range all.Lines {
			widths[i] = max(widths[i], utf8.RuneCountInString(l.Cells[i].Text))
		}
	}
	for _, block := range chart.Blocks(widths, first, gap, p.width) {
		rows := [][]string{{""}}
		for _, c := range block {
			rows[0] = append(rows[0], all.Rungs[c])
		}
		for _, l := range all.Lines {
			row := []string{strings.TrimSpace(l.Contender + " " + l.State)}
			for _, c := range block {
				row = append(row, l.Cells[c].Text)
			}
			rows = append(rows, row)
		}
		text, _ := table(rows)
		p.gap()
		io.WriteString(p.out, text)
	}
}

// table sets rows in columns, and tells how long its longest line is.
func table(rows [][]string) (text string, width int) { return columns(rows, indent, 3) }

func columns(rows [][]string, indent string, gap int) (text string, width int) {
	var out strings.Builder
	w := tabwriter.NewWriter(&out, 0, 0, gap, ' ', 0)
	for _, row := range rows {
		fmt.Fprintln(w, indent+strings.Join(row, "\t"))
	}
	w.Flush()
	for line := range strings.Lines(out.String()) {
		width = max(width, utf8.RuneCountInString(strings.TrimRight(line, " \n")))
	}
	return out.String(), width
}

func (p printer) scorecard(r *result.Result, v *judge.Verdict) {
	rows := [][]string{{""}}
	for _, e := range r.Entrants {
		rows[0] = append(rows[0], e.Name)
	}
	for _, row := range v.Scorecard {
		rows = append(rows, append([]string{row.Name}, row.Values...))
	}
	text, _ := table(rows)
	p.gap()
	io.WriteString(p.out, text)
}

// log writes a line for each run. Where a terminal is too narrow for that, names and sentences are cut.
func (p printer) log(entries []logbook.Entry) {
	const longest = 28
	var rows [][]string
	for _, e := range entries {
		said, name := e.Sentence, e.Title()
		if e.Ending != result.Done {
			said = fmt.Sprintf("%s after %d of %s. %s", e.Ending, e.Heats, units.Plural(e.Planned, "heat"), e.Sentence)
		}
		if len(e.Tags) > 0 {
			said = "[" + strings.Join(e.Tags, " ") + "] " + said
		}
		if e.Note != "" {
			said = e.Note + " / " + said
		}
		if p.width > 0 {
			name = short(name, longest)
		}
		rows = append(rows, []string{e.ID, e.Started.Format(time.DateTime), name, said})
	}
	text, _ := columns(rows, "", 2)
	for line := range strings.Lines(text) {
		if p.width > 0 {
			line = short(strings.TrimRight(line, "\n"), p.width) + "\n"
		}
		io.WriteString(p.out, line)
	}
}

// short cuts a text to so many characters.
func short(text string, most int) string {
	if runes := []rune(text); len(runes) > most {
		return string(runes[:max(most-1, 0)]) + "…"
	}
	return text
}

// asked writes what each contender answered at the weigh-in and in what they differ, point by point of a sweep. Points
// at which everything is as at the one before are counted only.
func (p printer) asked(r *result.Result) {
	if r.Sweep == nil {
		p.touches(r)
		p.weighing(r)
		return
	}
	for i := range r.Sweep.Points {
		own := r.AtPoint(i)
		if !slices.ContainsFunc(own.Entrants, func(e result.Entrant) bool { return e.Touch != nil }) {
			continue // it was not reached
		}
		fmt.Fprintf(p.out, "  at %s\n", r.Sweep.Say(r.Sweep.Points[i].At))
		p.touches(own)
		p.weighing(own)
	}
}

// touches writes what each contender answered at the weigh-in.
func (p printer) touches(r *result.Result) {
	for _, e := range r.Entrants {
		t := e.Touch
		switch {
		case t == nil:
			fmt.Fprintf(p.out, "  %s: not asked\n", e.Name)
		case weighin.Passed(t):
			fmt.Fprintf(
				p.out, "  %s: %s in %s, %s%s\n", e.Name, t.Outcome, units.Duration(t.Latency), units.Bytes(float64(t.Bytes)),
				suffix(", ", t.Type)+suffix(", ", e.Version),
			)
			if e.From != nil {
				fmt.Fprintf(p.out, "    %s (%s)\n", e.From.Words(), e.From.Subject)
			}
			if telling := t.Telling(); telling != "" {
				fmt.Fprintf(p.out, "    tells %s\n", units.Printable(telling))
			}
			for _, note := range t.Notes {
				fmt.Fprintf(p.out, "    ! %s\n", note)
			}
			if again := e.Again; weighin.Passed(again) {
				fmt.Fprintf(p.out, "    %s: %s in %s, %s\n", again.State, again.Outcome, units.Duration(again.Latency), units.Bytes(
					float64(again.Bytes),
				))
			} else if again != nil {
				fmt.Fprintf(p.out, "    %s: did not pass: %s\n    try: %s\n", again.State, again.Err, again.Try)
			}
			for _, line := range changeLines(t.Changes) {
				fmt.Fprintf(p.out, "    %s\n", line)
			}
			if t.QueryPlan != "" {
				fmt.Fprintln(p.out, "    query plan:")
				for line := range strings.Lines(strings.TrimSpace(t.QueryPlan)) {
					fmt.Fprintf(p.out, "    | %s\n", units.Printable(strings.TrimRight(line, "\n")))
				}
			}
			if t.Stderr != "" {
				fmt.Fprintln(p.out, "    on standard error:")
				p.said(t.Stderr)
			}
		default:
			fmt.Fprintf(
				p.out, "  %s did not pass the weigh-in: %s\n    %s\n    try: %s\n", e.Name, e.Does,
				strings.ReplaceAll(t.Err, "\n", "\n    "), t.Try,
			)
			for _, said := range []string{t.Stderr, t.Body} {
				p.said(said)
			}
		}
	}
}

// said writes the beginning of what a contender said, and how much more there is.
func (p printer) said(text string) {
	const most, longest = 5, 160
	lines := strings.Split(strings.TrimSpace(text), "\n")
	if lines[0] == "" {
		return
	}
	for _, line := range lines[:min(most, len(lines))] {
		runes := []rune(units.Printable(line))
		if len(runes) > longest {
			line = fmt.Sprintf("%s… and %s more", string(runes[:longest]), units.Plural(len(runes)-longest, "character"))
		} else {
			line = string(runes)
		}
		fmt.Fprintf(p.out, "    | %s\n", line)
	}
	if more := len(lines) - most; more > 0 {
		fmt.Fprintf(p.out, "    | and %s more\n", units.Plural(more, "line"))
	}
}

// changeLines say what a run changed in its workspace.
func changeLines(c *result.Changes) (lines []string) {
	if c == nil {
		return nil
	}
	for _, f := range c.List[:min(len(c.List), shownDifferences)] {
		size := units.Bytes(float64(f.Bytes))
		if f.How == result.Removed {
			size = units.Bytes(float64(f.Was))
		}
		lines = append(lines, fmt.Sprintf("%s %s, %s", f.How, f.Path, size))
	}
	if more := c.Added + c.Changed + c.Removed + c.Rewritten - len(lines); more > 0 {
		lines = append(lines, fmt.Sprintf("and %d more", more))
	}
	if c.StoreFiles > 0 {
		lines = append(lines, fmt.Sprintf(
			"its own caches hold %s, %s", units.Plural(c.StoreFiles, "file"), units.Bytes(float64(c.StoreBytes)),
		))
	}
	return lines
}

// footing writes what is done for each run, and what this machine cannot do.
func (p printer) footing(r *result.Result) {
	for _, text := range r.Footing.Cannot {
		fmt.Fprintf(p.out, "  this machine: %s\n", text)
	}
	for _, c := range r.Spent(r.Heats) {
		if c.Times > 0 {
			who := strings.TrimSpace(c.Contender + " " + c.State)
			fmt.Fprintf(p.out, "  %s: %s, %s: %s, %s each\n", who, c.When, c.What, units.Plural(
				int(c.Times), "time",
			), units.Duration(c.Took/time.Duration(c.Times)))
		}
	}
}

// shownDifferences is how many differences of a check are printed.
const shownDifferences = 5

// forecast says how long a run will take, and what cannot come of it.
func (p printer) forecast(r *result.Result) {
	if r.Sweep != nil && r.Sweep.Within > 0 {
		fmt.Fprintf(p.out, "  a run takes %s in all\n", units.About(r.Sweep.Within))
	} else if took := r.Expected(); took > 0 {
		fmt.Fprintf(p.out, "  a run takes %s, plus the time between heats\n", units.About(took))
	}
	for _, c := range judge.Foresee(r) {
		fmt.Fprintf(p.out, "  - %s\n    %s\n", c.What, c.Try)
	}
}

// weighing writes in what contenders differ from the baseline.
func (p printer) weighing(r *result.Result) {
	w := r.Weighing
	if w == nil {
		return
	}
	switch {
	case len(w.Unequal()) == 0 && w.Compared(r.Plan.Baseline):
		if all := !slices.ContainsFunc(r.Entrants, func(e result.Entrant) bool { return !weighin.Passed(e.Touch) }); all {
			fmt.Fprintln(p.out, "  the same work")
			break
		}
		fmt.Fprintln(p.out, "  those that passed do the same work")
	case len(w.Unequal()) == 0:
		return // there were no two to be compared
	case !w.Ruled:
		fmt.Fprintln(p.out, "  differences, shown only, since the plan sets no rules under same:")
	}
	for _, c := range w.Checks {
		if c.Same {
			continue
		}
		fmt.Fprintf(p.out, "  %s: not %s\n", strings.TrimSpace(c.Contender+" "+c.State), c.Rule)
		for _, d := range c.Differences[:min(len(c.Differences), shownDifferences)] {
			fmt.Fprintln(p.out, "    "+d.Whole())
		}
		if more := len(c.Differences) - shownDifferences; more > 0 {
			fmt.Fprintf(p.out, "    and %d more\n", more)
		}
	}
}

func suffix(before, text string) string {
	if text == "" {
		return ""
	}
	return before + text
}

// wrap breaks text at spaces to a width, each line behind indent.
func wrap(text, indent string, most int) string {
	var out strings.Builder
	width := 0
	for i, word := range units.Kept(strings.Split(text, " ")) {
		n := len([]rune(word))
		switch {
		case i == 0:
			out.WriteString(indent)
		case width+1+n > most:
			out.WriteString("\n" + indent)
			width = 0
			if strings.HasPrefix(text, "- ") || strings.HasPrefix(text, "  ") {
				out.WriteString("  ")
				width = 2
			}
		default:
			out.WriteByte(' ')
			width++
		}
		out.WriteString(word)
		width += n
	}
	return out.String()
}
