// Package report writes a finished run down for others: a report in Markdown, the figures as CSV, the pictures, the
// result; and what came of several for a pipeline.
//
// What it says was computed elsewhere; it chooses, orders and formats.
package report

import (
	"encoding/csv"
	"fmt"
	"io"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"paceduel/core/chart"
	"paceduel/core/chart/paper"
	"paceduel/core/files"
	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Export writes everything about a run to dir, which it creates when there is none: pictures as SVG and PDF, figures as
// CSV, the result as JSON and the report that shows them. It returns the files in the order in which they were written;
// on an error those that were.
func Export(r *result.Result, v *judge.Verdict, dir string, look chart.Look) (written []string, err error) {
	return export(r, dir, paper.All(r, v, look),
		func(out io.Writer) error { return Figures(out, r, v) },
		func(out io.Writer, pictures []paper.Named) error { return Markdown(out, r, v, pictures) })
}

func write(path string, content func(io.Writer) error) error {
	if err := files.Write(path, content); err != nil {
		return fmt.Errorf("export: %w", err)
	}
	return nil
}

// Figures writes every figure of every comparison as CSV, in units of seconds, bytes and shots a second.
func Figures(out io.Writer, r *result.Result, v *judge.Verdict) error {
	w := csv.NewWriter(units.PrintableWriter{To: out})
	w.Write([]string{"baseline", "contender", "state", "figure", "on_ladder", "baseline_value", "contender_value",
		"baseline_typical", "contender_typical",
		"ratio", "ratio_low", "ratio_high",
		"difference", "difference_low", "difference_high", "level", "rounds", "word", "word_alone",
		"baseline_against_itself"})
	for _, f := range v.Faces {
		for _, a := range f.Figures {
			w.Write([]string{v.Baseline, f.Contender, a.State, string(a.Figure), strconv.FormatBool(a.Main),
				number(a.AllBaseline), number(a.AllContender),
				number(a.Baseline.V), number(a.Contender.V),
				number(a.Ratio), number(a.Low), number(a.High), number(a.Difference), number(a.DifferenceLow),
				number(a.DifferenceHigh),
				number(a.Level), strconv.Itoa(a.Rounds), string(a.Word), string(a.Alone), number(a.Noise)})
		}
	}
	w.Flush()
	return w.Error()
}

// Markdown writes the report: question, sentence, figures, what happens inside, claims, stakes, cautions, footing,
// query plans, how to run it again, pictures.
func Markdown(out io.Writer, r *result.Result, v *judge.Verdict, pictures []paper.Named) error {
	d := &document{r: r, v: v}
	d.heading()
	d.figures()
	d.inside()
	d.meanwhile()
	d.arrivals()
	d.survival()
	d.claims()
	d.stakes()
	d.cautions()
	d.footing()
	d.agents()
	d.queryPlans()
	d.again()
	d.pictures(pictures)
	_, err := io.WriteString(units.PrintableWriter{To: out}, d.text.String())
	return err
}

// document is a report as far as it is written.
type document struct {
	r    *result.Result
	v    *judge.Verdict
	text strings.Builder
}

func (d *document) line(format string, args ...any) {
	fmt.Fprintf(&d.text, format+"\n", args...)
}

func (d *document) section(title string) { d.line("\n## %s\n", title) }

// cell is a text within a table.
func cell(text string) string {
	return strings.NewReplacer("|", `\|`, "\n", " ").Replace(text)
}

func (d *document) row(cells ...string) {
	for i := range cells {
		cells[i] = cell(cells[i])
	}
	d.line("| %s |", strings.Join(cells, " | "))
}

func (d *document) head(cells ...string) {
	d.row(cells...)
	d.line("|%s", strings.Repeat("---|", len(cells)))
}

func (d *document) heading() {
	d.line("# %s", d.r.Plan.Name)
	if d.r.Plan.Question != "" {
		d.line("\n%s", d.r.Plan.Question)
	}
	d.line("\n**%s**", d.v.Sentence)
	d.standing()
	for i := range d.v.Ranking {
		d.line("\n%s", d.v.Ranking[i].Sentence())
	}
}

// standing is how all contenders stand at all rungs, where there are several.
func (d *document) standing() {
	all := d.v.Standing(d.r)
	if len(all.Lines) < 2 || len(all.Rungs) == 0 || d.v.Rounds == 0 {
		return
	}
	d.line("")
	d.head(append([]string{""}, all.Rungs...)...)
	for _, l := range all.Lines {
		row := []string{strings.TrimSpace(l.Contender + " " + l.State)}
		for _, c := range l.Cells {
			row = append(row, c.Text)
		}
		d.row(row...)
	}
}

func (d *document) figures() {
	if d.v.Rounds == 0 {
		return
	}
	d.section("Figures")
	d.line(
		"%s%s; %s. A ratio over 1x says that the contender is better, as its word does.", strings.ToUpper(d.v.Note[:1]),
		d.v.Note[1:], units.Plural(d.v.Rounds, "round"),
	)
	for _, f := range d.v.Faces {
		d.line("")
		d.head("", d.v.Baseline, f.Contender, "ratio", "between", "difference", "")
		for _, a := range f.Figures {
			ratio, between := units.None, units.None
			if a.Rounds > 0 {
				ratio, between = a.Factor(), a.Interval()
			}
			title := a.Title()
			if a.Main {
				title = "**" + title + "**"
			}
			d.row(title, a.Figure.Show(a.Baseline.V), a.Figure.Show(a.Contender.V), ratio, between, a.Apart(), a.Say())
		}
	}
	if m := d.v.Mirror; m != nil {
		d.line("\n%s against itself, to know how much this machine differs from itself:\n", d.v.Baseline)
		d.head("", "ratio", "between", "difference", "")
		for _, a := range m.Figures {
			if a.Main && a.Rounds > 0 {
				d.row(a.Title(), a.Factor(), a.Interval(), a.Apart(), a.Say())
			}
		}
	}
	d.line("")
	names := []string{""}
	for _, e := range d.r.Entrants {
		names = append(names, e.Name)
	}
	d.head(names...)
	for _, row := range d.v.Scorecard {
		d.row(append([]string{row.Name}, row.Values...)...)
	}
}

// inside is what happens in shots: a table of steps for each contender, and what moved.
func (d *document) inside() {
	if len(d.v.Inner(d.r)) > 0 {
		d.section("Inside a shot")
		d.steps()
	}
}

// steps writes them without a head.
func (d *document) steps() {
	for _, in := range d.v.Inner(d.r) {
		d.line("%s\n", in.Say())
		d.head("step", "begins", "ends", "takes", "times", "of the critical path")
		for i := range in.Steps {
			s := &in.Steps[i]
			d.row(s.Path, units.Seconds(s.Begin[1]), units.Seconds(s.End[1]), units.Seconds(s.Total.V), judge.Often(s.Count),
				units.Share(s.OnPath.V/in.Mean.V))
		}
		d.line("")
	}
	for _, m := range d.v.Moved {
		d.line("%s\n", m.Sentence)
	}
}

// meanwhile is who waits while contenders work.
func (d *document) meanwhile() {
	if len(d.v.Meanwhile) == 0 {
		return
	}
	d.section("Meanwhile")
	d.line("%s\n", d.v.MeanwhileSentence)
	for _, m := range d.v.Meanwhile {
		d.line("- %s", m.Sentence)
	}
	d.line("\nThe bystander: %s.", d.v.Meanwhile[0].Does)
}

// arrivals is when effects of deeds are seen.
func (d *document) arrivals() {
	if len(d.v.Arrivals) == 0 {
		return
	}
	d.section("Arrivals")
	d.line("%s\n", d.v.ArrivalsSentence)
	d.head("effect", "p50", "p90", "p99", "longest", "came")
	for _, a := range d.v.Arrivals {
		row := []string{a.Name()}
		for _, x := range []float64{a.P50.V, a.P90.V, a.P99.V, a.Longest} {
			text := units.None
			if x == x { // it is known
				text = units.Seconds(x)
			}
			row = append(row, text)
		}
		d.row(append(row, units.Count(a.Came))...)
	}
}

// survival is what crashes left.
func (d *document) survival() {
	if len(d.v.Survival) == 0 {
		return
	}
	d.section("Survival")
	if d.v.SurvivalSentence != d.v.Survival[0].Sentence {
		d.line("%s\n", d.v.SurvivalSentence)
	}
	for _, s := range d.v.Survival {
		d.line("- %s", s.Sentence)
	}
	d.line("\nProcesses were ended with SIGKILL. What the machine itself would lose without power is not in it.")
}

func (d *document) claims() {
	if len(d.v.Claims) == 0 {
		return
	}
	d.section("Claims")
	d.head("claim", "", "")
	for _, c := range d.v.Claims {
		d.row(c.Text, "**"+string(c.Finding)+"**", c.Why)
	}
}

func (d *document) stakes() {
	if len(d.v.Stakes) == 0 {
		return
	}
	d.section("Stakes")
	for i := range d.v.Stakes {
		s := &d.v.Stakes[i]
		d.line("- %s (%s)", s.Sentence(d.v.Baseline), s.Formula)
	}
}

func (d *document) cautions() {
	if len(d.v.Cautions) == 0 {
		return
	}
	d.section("Cautions")
	for _, c := range d.v.Cautions {
		text := "- " + c.What + "."
		if c.Try != "" {
			text += " " + strings.ToUpper(c.Try[:1]) + c.Try[1:] + "."
		}
		if c.See != "" {
			text += " See: " + string(c.See) + "."
		}
		d.line("%s", text)
	}
}

// agents are those who drove the run from elsewhere, and what each of them drove.
func (d *document) agents() {
	list := chart.Agents(d.r)
	if len(list) == 0 {
		return
	}
	d.section("Agents")
	d.line("Driven by %s.\n", d.r.Load.Words)
	d.head(chart.AgentTitles...)
	for i := range list {
		d.row(list[i].Cells()...)
	}
	for _, c := range d.r.Cells() {
		by := chart.ByAgents(d.r, d.r.Heats, c)
		if len(by) == 0 {
			continue
		}
		d.line("\n%s\n", cell(c.String()))
		d.head(chart.ByAgentTitles...)
		for i := range by {
			d.row(by[i].Cells()...)
		}
	}
}

func (d *document) footing() {
	d.section("Contenders and footing")
	if s := d.r.Sweep; s != nil {
		d.line("As at %s; at other points the values are others.\n", s.Say(s.Points[0].At))
	}
	for _, e := range d.r.Entrants {
		text := fmt.Sprintf("- **%s** (%s): `%s`", e.Name, e.Kind, strings.ReplaceAll(e.Does, "`", "'"))
		for _, more := range []string{e.Version, e.Note} {
			if more != "" {
				text += "; " + more
			}
		}
		if e.Avoid != "" {
			text += "; not for when " + e.Avoid
		}
		d.line("%s", text)
	}
	d.line("\nEach heat: %s. Rounds interleave the contenders in an order shuffled from the seed.", d.r.Plan.Pace.Words)
	for _, c := range d.r.Spent(d.r.Heats) {
		if c.Times == 0 {
			continue
		}
		who := strings.TrimSpace(c.Contender + " " + c.State)
		if who == "" {
			who = "all"
		}
		each := units.Duration(c.Took / time.Duration(c.Times))
		d.line("- %s, %s: %s (%s, %s each)", who, c.When, c.What, units.Plural(int(c.Times), "time"), each)
	}
	for _, text := range d.r.Footing.Cannot {
		d.line("- not as planned: %s", text)
	}
}

// queryPlans are how databases carry statements out, as they say themselves.
func (d *document) queryPlans() {
	began := false
	for _, e := range d.r.Entrants {
		if e.Touch == nil || e.Touch.QueryPlan == "" {
			continue
		}
		if !began {
			d.section("Query plans")
			began = true
		}
		plan := strings.ReplaceAll(strings.TrimSpace(e.Touch.QueryPlan), "\n", "\n    ")
		d.line("**%s**, at the weigh-in:\n\n    %s\n", e.Name, plan)
	}
}

func (d *document) again() {
	r := d.r
	d.section("To run it again")
	command := "paceduel run " + filepath.Base(r.Plan.File) + " --seed " + strconv.FormatUint(r.Seed, 10)
	for _, s := range r.Plan.Sets {
		command += " --set '" + s + "'"
	}
	for _, e := range r.Entrants {
		if e.Mirror {
			command += " --mirror"
		}
	}
	d.line("```\n%s\n```\n", command)
	d.line("- run %s, %s to %s, ended: %s", r.ID, r.Started.Format(time.RFC3339), r.Ended.Format(time.RFC3339), r.Ending)
	d.line("- %s, %s, %s, Pace Duel %s", r.Host.CPU, units.Plural(r.Host.Cores, "core"), r.Host.OS, r.Program)
	if r.Plan.SHA256 != "" {
		d.line("- plan with SHA-256 %s", r.Plan.SHA256)
	}
	if len(r.Plan.Vars) > 0 {
		d.line("- taken from the environment: %s", units.List(r.Plan.Vars))
	}
	fence := "```"
	for strings.Contains(r.Plan.Source, fence) {
		fence += "`"
	}
	d.line("\n%syaml\n%s\n%s", fence, strings.TrimRight(r.Plan.Source, "\n"), fence)
}

func (d *document) pictures(pictures []paper.Named) {
	if len(pictures) == 0 {
		return
	}
	d.section("Pictures")
	for _, p := range pictures {
		d.line("![%s](%s.svg)\n", strings.ReplaceAll(p.Title, "]", ")"), p.Name)
	}
}
