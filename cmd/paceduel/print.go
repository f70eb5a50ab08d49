package main

import (
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/units"
	"paceduel/core/weighin"
)

const proseWidth = 96

// printVerdict writes the verdict: the sentence, the figures face to face, the scorecard, the cautions.
func printVerdict(out io.Writer, r *result.Result, v *judge.Verdict) {
	fmt.Fprintf(out, "\n%s\n", r.Plan.Name)
	if r.Plan.Question != "" {
		fmt.Fprintln(out, wrap(r.Plan.Question, "  "))
	}
	fmt.Fprintf(out, "\n%s\n", wrap(v.Sentence, "  "))
	for i := range v.Ranking {
		fmt.Fprintf(out, "\n%s\n", wrap(v.Ranking[i].Sentence(), "  "))
	}
	for i := range v.Faces {
		printFace(out, v, &v.Faces[i])
	}
	if v.Mirror != nil && v.Rounds > 0 {
		fmt.Fprintln(out, "\n  the baseline against itself: how much this machine differs from itself")
		printFace(out, v, v.Mirror)
	}
	if v.Rounds > 0 {
		fmt.Fprintf(out, "\n  %s; %s.\n", v.Note, units.Plural(v.Rounds, "round"))
		printScorecard(out, r, v)
	}
	if len(v.Claims) > 0 {
		fmt.Fprintln(out, "\n  claims")
	}
	for _, c := range v.Claims {
		fmt.Fprintln(out, wrap(fmt.Sprintf("- %s: %s, %s", c.Text, c.Finding, c.Why), "  "))
	}
	if len(v.Stakes) > 0 {
		fmt.Fprintln(out, "\n  stakes")
	}
	for i := range v.Stakes {
		fmt.Fprintln(out, wrap("- "+v.Stakes[i].Sentence(v.Baseline), "  "))
		fmt.Fprintln(out, wrap("  = "+v.Stakes[i].Formula, "  "))
	}
	if len(v.Cautions) > 0 {
		fmt.Fprintln(out, "\n  cautions")
	}
	for _, c := range v.Cautions {
		fmt.Fprintln(out, wrap("- "+c.What, "  "))
		if c.Try != "" {
			fmt.Fprintln(out, wrap("  "+c.Try, "  "))
		}
	}
	fmt.Fprintln(out)
	fmt.Fprintln(out, wrap(fmt.Sprintf("%s, seed %d, %s, %s (%d cores); run %s", r.Plan.Pace.Words, r.Seed, r.Started.Format(time.DateTime), r.Host.CPU, r.Host.Cores, r.ID), "  "))
}

func printFace(out io.Writer, v *judge.Verdict, f *judge.Face) {
	w := tabwriter.NewWriter(out, 0, 0, 3, ' ', 0)
	fmt.Fprintf(w, "\n  \t%s\t%s\tratio\tbetween\tdifference\t\n", v.Baseline, f.Contender)
	for _, a := range f.Figures {
		ratio, between := units.None, units.None
		if a.Rounds > 0 {
			ratio, between = a.Factor(), a.Interval()
		}
		apart, _, _ := strings.Cut(a.Apart(), " (")
		if apart == "" {
			apart = units.None
		}
		fmt.Fprintf(w, "  %s\t%s\t%s\t%s\t%s\t%s\t%s\n", a.Title(), judge.Show(a.Figure, a.Baseline.V), judge.Show(a.Figure, a.Contender.V), ratio, between, apart, a.Say())
	}
	w.Flush()
}

func printScorecard(out io.Writer, r *result.Result, v *judge.Verdict) {
	w := tabwriter.NewWriter(out, 0, 0, 3, ' ', 0)
	fmt.Fprint(w, "\n  ")
	for _, e := range r.Entrants {
		fmt.Fprintf(w, "\t%s", e.Name)
	}
	fmt.Fprintln(w)
	for _, row := range v.Scorecard {
		fmt.Fprintf(w, "  %s\t%s\n", row.Name, strings.Join(row.Values, "\t"))
	}
	w.Flush()
}

// printTouches writes what each contender answered at the weigh-in.
func printTouches(out io.Writer, r *result.Result) {
	for _, e := range r.Entrants {
		t := e.Touch
		switch {
		case t == nil:
			fmt.Fprintf(out, "  %s: not asked\n", e.Name)
		case weighin.Passed(t):
			fmt.Fprintf(out, "  %s: %s in %s, %s%s\n", e.Name, t.Outcome, units.Duration(t.Latency), units.Bytes(float64(t.Bytes)), suffix(", ", t.Type)+suffix(", ", e.Version))
			for _, note := range t.Notes {
				fmt.Fprintf(out, "    ! %s\n", note)
			}
			if again := e.Again; weighin.Passed(again) {
				fmt.Fprintf(out, "    %s: %s in %s, %s\n", again.State, again.Outcome, units.Duration(again.Latency), units.Bytes(float64(again.Bytes)))
			} else if again != nil {
				fmt.Fprintf(out, "    %s: did not pass: %s\n    try: %s\n", again.State, again.Err, again.Try)
			}
			for _, line := range changeLines(t.Changes) {
				fmt.Fprintf(out, "    %s\n", line)
			}
		default:
			fmt.Fprintf(out, "  %s did not pass the weigh-in: %s\n    %s\n    try: %s\n", e.Name, e.Does, t.Err, t.Try)
			for _, said := range []string{t.Stderr, t.Body} {
				printSaid(out, said)
			}
		}
	}
}

// printSaid writes the beginning of what a contender said, and how much more there is.
func printSaid(out io.Writer, text string) {
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
		fmt.Fprintf(out, "    | %s\n", line)
	}
	if more := len(lines) - most; more > 0 {
		fmt.Fprintf(out, "    | and %s more\n", units.Plural(more, "line"))
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
		lines = append(lines, fmt.Sprintf("its own caches hold %s, %s", units.Plural(c.StoreFiles, "file"), units.Bytes(float64(c.StoreBytes))))
	}
	return lines
}

// printFooting writes what is done for each run, and what this machine cannot do.
func printFooting(out io.Writer, r *result.Result) {
	for _, text := range r.Footing.Cannot {
		fmt.Fprintf(out, "  this machine: %s\n", text)
	}
	for _, c := range r.Spent(r.Heats) {
		if c.Times > 0 {
			who := strings.TrimSpace(c.Contender + " " + c.State)
			fmt.Fprintf(out, "  %s: %s, %s: %s, %s each\n", who, c.When, c.What, units.Plural(int(c.Times), "time"), units.Duration(c.Took/time.Duration(c.Times)))
		}
	}
}

// shownDifferences is how many differences of a check are printed.
const shownDifferences = 5

// printWeighing writes in what contenders differ from the baseline.
func printWeighing(out io.Writer, r *result.Result) {
	w := r.Weighing
	if w == nil {
		return
	}
	switch {
	case len(w.Unequal()) == 0 && w.Compared(r.Plan.Baseline):
		fmt.Fprintln(out, "  the same work")
	case len(w.Unequal()) == 0:
		return // there were no two to be compared
	case !w.Ruled:
		fmt.Fprintln(out, "  told only, since the plan has no rules under same:")
	}
	for _, c := range w.Checks {
		if c.Same {
			continue
		}
		fmt.Fprintf(out, "  %s: not %s\n", strings.TrimSpace(c.Contender+" "+c.State), c.Rule)
		for _, d := range c.Differences[:min(len(c.Differences), shownDifferences)] {
			fmt.Fprintf(out, "    %s: %s, not %s\n", units.Printable(d.Where), units.Printable(d.Contender), units.Printable(d.Baseline))
		}
		if more := len(c.Differences) - shownDifferences; more > 0 {
			fmt.Fprintf(out, "    and %d more\n", more)
		}
	}
}

func suffix(before, text string) string {
	if text == "" {
		return ""
	}
	return before + text
}

// wrap breaks text at spaces to the width of prose, each line behind indent.
func wrap(text, indent string) string {
	var out strings.Builder
	width := 0
	for i, word := range strings.Split(text, " ") {
		n := len([]rune(word))
		switch {
		case i == 0:
			out.WriteString(indent)
		case width+1+n > proseWidth:
			out.WriteString("\n" + indent)
			if strings.HasPrefix(text, "- ") || strings.HasPrefix(text, "  ") {
				out.WriteString("  ")
			}
			width = 0
		default:
			out.WriteByte(' ')
			width++
		}
		out.WriteString(word)
		width += n
	}
	return out.String()
}
