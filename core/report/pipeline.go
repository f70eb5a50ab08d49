package report

import (
	"encoding/xml"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"paceduel/core/files"
	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Duel is one of those that a pipeline runs, and what came of it.
type Duel struct {
	Name, File string
	Result     *result.Result // nil: nothing was begun
	Verdict    *judge.Verdict // nil for a sweep, and where nothing was judged
	Sweep      *judge.Sweep
	Took       time.Duration
	Err        error // why it could not be completed
	// Held is what became of it as it was held to an earlier run, and HeldTo which one; none and empty where it was not.
	Held   []judge.Claim
	HeldTo string
}

// The files of a pipeline, in the folder that it names.
const (
	JUnitFile   = "paceduel.junit.xml"
	TAPFile     = "paceduel.tap"
	SummaryFile = "paceduel.md"
	NotesFile   = "paceduel.sarif"
)

// WritePipeline writes what came of duels for a pipeline into dir, which it makes where there is none: as JUnit XML, as
// TAP, as notes to lines of plans in SARIF, and as a summary in Markdown for a pull request.
func WritePipeline(dir string, duels []Duel) error {
	if err := PipelineFolder(dir); err != nil {
		return err
	}
	for name, content := range map[string]func(io.Writer, []Duel) error{
		JUnitFile: JUnit, TAPFile: TAP, NotesFile: SARIF, SummaryFile: Summary,
	} {
		if err := write(filepath.Join(dir, name), func(out io.Writer) error { return content(out, duels) }); err != nil {
			return err
		}
	}
	return nil
}

// PipelineFolder makes the folder for it, so that it is known beforehand that it can be written to.
func PipelineFolder(dir string) error {
	if err := os.MkdirAll(dir, 0o777); err != nil { // less what the user's mask takes away
		return fmt.Errorf("make the folder for what a pipeline goes by: %w", err)
	}
	for _, name := range []string{JUnitFile, TAPFile, NotesFile, SummaryFile} {
		if err := files.Writable(filepath.Join(dir, name)); err != nil {
			return fmt.Errorf("write what a pipeline goes by: %w", err)
		}
	}
	return nil
}

// finding is one thing that a pipeline goes by: a claim, or that a duel was measured at all.
type finding struct {
	what, why string
	judge.Finding
	line   int  // of the plan, from 1; 0: none
	broken bool // it is not that something was refuted: nothing could be said
}

func (d *Duel) claims() []judge.Claim {
	switch {
	case d.Sweep != nil:
		return d.Sweep.Claims
	case d.Verdict != nil:
		return d.Verdict.Claims
	}
	return nil
}

// sentence is the verdict in short.
func (d *Duel) sentence() string {
	switch {
	case d.Sweep != nil:
		return d.Sweep.Sentence
	case d.Verdict != nil:
		return d.Verdict.Sentence
	}
	return ""
}

// findings are a duel's: its claims, or that it was measured where it has none.
func (d *Duel) findings() (out []finding) {
	if d.Err != nil {
		return []finding{{what: "it is measured", why: d.Err.Error(), Finding: judge.Refuted, broken: true}}
	}
	for _, c := range d.claims() {
		out = append(out, finding{what: c.Text, why: c.Why, Finding: c.Finding, line: d.lineOf(c.Text)})
	}
	for _, c := range d.Held {
		out = append(out, finding{what: c.Text, why: "as against " + d.HeldTo + ": " + c.Why, Finding: c.Finding})
	}
	if len(out) == 0 {
		out = append(out, finding{what: "it is measured", why: d.sentence(), Finding: judge.Upheld})
	}
	return out
}

type (
	junitSuites struct {
		XMLName  xml.Name     `xml:"testsuites"`
		Name     string       `xml:"name,attr"`
		Tests    int          `xml:"tests,attr"`
		Failures int          `xml:"failures,attr"`
		Errors   int          `xml:"errors,attr"`
		Time     string       `xml:"time,attr"`
		Suites   []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name      string      `xml:"name,attr"`
		Tests     int         `xml:"tests,attr"`
		Failures  int         `xml:"failures,attr"`
		Errors    int         `xml:"errors,attr"`
		Time      string      `xml:"time,attr"`
		Timestamp string      `xml:"timestamp,attr,omitempty"`
		Cases     []junitCase `xml:"testcase"`
		Out       string      `xml:"system-out,omitempty"`
	}
	junitCase struct {
		Name    string      `xml:"name,attr"`
		Class   string      `xml:"classname,attr"`
		File    string      `xml:"file,attr,omitempty"`
		Line    int         `xml:"line,attr,omitempty"`
		Time    string      `xml:"time,attr"`
		Failure *junitFault `xml:"failure"`
		Error   *junitFault `xml:"error"`
	}
	junitFault struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr"`
		Text    string `xml:",chardata"`
	}
)

// JUnit writes duels as test suites whose cases are their claims. A claim that is undecided fails, too, since it is not
// upheld; what could not be measured is an error.
func JUnit(out io.Writer, duels []Duel) error {
	all := junitSuites{Name: "paceduel"}
	took := time.Duration(0)
	for i := range duels {
		d := &duels[i]
		took += d.Took
		s := junitSuite{Name: printable(d.Name), Time: seconds(d.Took), Out: printable(d.sentence())}
		if d.Result != nil {
			s.Timestamp = d.Result.Started.UTC().Format("2006-01-02T15:04:05")
		}
		for _, f := range d.findings() {
			c := junitCase{Name: printable(f.what), Class: printable(d.Name), File: printable(d.File), Line: f.line,
				Time: "0"}
			fault := &junitFault{Message: printable(f.why), Type: string(f.Finding), Text: printable(f.what + ": " + f.why)}
			switch {
			case f.broken:
				fault.Type = "not measured"
				c.Error = fault
				s.Errors++
			case f.Finding != judge.Upheld:
				c.Failure = fault
				s.Failures++
			}
			s.Cases = append(s.Cases, c)
		}
		s.Tests = len(s.Cases)
		all.Tests, all.Failures, all.Errors = all.Tests+s.Tests, all.Failures+s.Failures, all.Errors+s.Errors
		all.Suites = append(all.Suites, s)
	}
	all.Time = seconds(took)
	if _, err := io.WriteString(out, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(out)
	e.Indent("", "  ")
	if err := e.Encode(all); err != nil {
		return err
	}
	_, err := io.WriteString(out, "\n")
	return err
}

func seconds(d time.Duration) string { return fmt.Sprintf("%.3f", d.Seconds()) }

func printable(text string) string { return units.Printable(text) }

// TAP writes duels in the Test Anything Protocol, version 14: a test point for each claim.
func TAP(out io.Writer, duels []Duel) error {
	var text strings.Builder
	n := 0
	for i := range duels {
		d := &duels[i]
		for _, f := range d.findings() {
			n++
			word := "ok"
			if f.Finding != judge.Upheld {
				word = "not ok"
			}
			fmt.Fprintf(&text, "%s %d - %s\n", word, n, tapText(d.Name+": "+f.what))
			said := string(f.Finding)
			if f.broken {
				said = "not measured"
			}
			fmt.Fprintf(&text, "  ---\n  finding: %s\n  why: %s\n  ...\n", said, yamlText(f.why))
		}
	}
	_, err := fmt.Fprintf(out, "TAP version 14\n1..%d\n%s", n, text.String())
	return err
}

// tapText is a description: one line, in which a hash begins no directive.
func tapText(text string) string {
	return strings.NewReplacer("\\", "\\\\", "#", "\\#").Replace(oneLine(text))
}

// yamlText is a scalar in quotes.
func yamlText(text string) string { return "'" + strings.ReplaceAll(oneLine(text), "'", "''") + "'" }

func oneLine(text string) string { return strings.Join(strings.Fields(printable(text)), " ") }

// inLine is a text within a line of Markdown, in which it is nothing else.
func inLine(text string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", "|", "\\|").Replace(oneLine(text))
}

// Summary writes duels for a pull request: a line for all of them, then what was found of each, what it claims, and
// what to beware of.
func Summary(out io.Writer, duels []Duel) error {
	var text strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&text, format+"\n", args...) }
	claims, upheld, broken := 0, 0, 0
	for i := range duels {
		if duels[i].Err != nil {
			broken++
		}
		for _, c := range append(slices.Clone(duels[i].claims()), duels[i].Held...) {
			claims++
			if c.Finding == judge.Upheld {
				upheld++
			}
		}
	}
	said := units.Plural(len(duels), "duel")
	if claims > 0 {
		said = fmt.Sprintf("%d of %s upheld, %s", upheld, units.Plural(claims, "claim"), said)
	}
	if broken > 0 {
		said += fmt.Sprintf(", %d not measured", broken)
	}
	line("## Pace Duel: %s", said)
	for i := range duels {
		d := &duels[i]
		line("\n### %s\n", inLine(d.Name))
		if d.Err != nil {
			line("Not measured: %s", inLine(d.Err.Error()))
			continue
		}
		line("%s", inLine(d.sentence()))
		if d.HeldTo != "" {
			line("\nHeld to %s.", inLine(d.HeldTo))
		}
		if list := append(slices.Clone(d.claims()), d.Held...); len(list) > 0 {
			line("\n| claim | | |\n|---|---|---|")
			for _, c := range list {
				line("| %s | **%s** | %s |", inLine(c.Text), c.Finding, inLine(c.Why))
			}
		}
		d.detail(line)
	}
	_, err := io.WriteString(out, text.String())
	return err
}

// detail is what is folded away: the ladder, and cautions.
func (d *Duel) detail(line func(string, ...any)) {
	if d.Verdict == nil {
		return
	}
	line("\n<details><summary>figures and cautions</summary>\n")
	line("| | %s | | ratio | between | |\n|---|---|---|---|---|---|", inLine(d.Verdict.Baseline))
	for _, face := range d.Verdict.Faces {
		for _, a := range face.Figures {
			if !a.Main {
				continue
			}
			ratio, between := units.None, units.None
			if a.Rounds > 0 {
				ratio, between = a.Factor(), a.Interval()
			}
			line("| %s | %s | %s: %s | %s | %s | %s |", cell(a.Title()), a.Figure.Show(a.Baseline.V),
				inLine(face.Contender), a.Figure.Show(a.Contender.V), ratio, between, cell(a.Say()))
		}
	}
	if len(d.Verdict.Cautions) > 0 {
		line("")
		for _, c := range d.Verdict.Cautions {
			line("- %s", inLine(c.What))
		}
	}
	r := d.Result
	line("\nrun %s, seed %d, %s\n\n</details>", r.ID, r.Seed, r.Started.UTC().Format("2 Jan 2006 15:04 UTC"))
}
