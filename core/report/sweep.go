package report

import (
	"encoding/csv"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"paceduel/core/chart/paper"
	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/units"
)

// ExportSweep is Export of a run with a sweep.
func ExportSweep(r *result.Result, s *judge.Sweep, dir string) (written []string, err error) {
	return export(r, dir, paper.AllSwept(r, s),
		func(out io.Writer) error { return SweptFigures(out, r, s) },
		func(out io.Writer, pictures []paper.Named) error { return SweptMarkdown(out, r, s, pictures) })
}

// export writes pictures, figures, the report and the result to dir.
func export(
	r *result.Result, dir string, pictures []paper.Named, figures func(io.Writer) error,
	report func(io.Writer, []paper.Named) error,
) (written []string, err error) {
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return nil, fmt.Errorf("export to %s: %w", dir, err)
	}
	for _, p := range pictures {
		saved, err := paper.Save(p, dir, p.Name)
		written = append(written, saved...)
		if err != nil {
			return written, err
		}
	}
	name := filepath.Join(dir, paper.Name(r))
	for _, f := range []struct {
		path  string
		write func(io.Writer) error
	}{
		{name + ".csv", figures},
		{name + ".md", func(out io.Writer) error { return report(out, pictures) }},
	} {
		if err := write(f.path, f.write); err != nil {
			return written, err
		}
		written = append(written, f.path)
	}
	if err := r.WriteFile(name + ".json"); err != nil {
		return written, err
	}
	return append(written, name+".json"), nil
}

// number writes a number for a program to read; empty where there is none.
func number(x float64) string {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return ""
	}
	return strconv.FormatFloat(x, 'g', 8, 64)
}

// SweptFigures writes every figure of every contender at every point as CSV, in units of seconds, bytes and shots a
// second. Values are those of the typical heat; ratios say how many times better it is than the baseline.
func SweptFigures(out io.Writer, r *result.Result, s *judge.Sweep) error {
	w := csv.NewWriter(units.PrintableWriter{To: out})
	var head []string
	for i := range r.Sweep.Parameters {
		head = append(head, r.Sweep.Parameters[i].Name)
	}
	w.Write(append(head, "state", "figure", "contender", "value", "value_low", "value_high", "ratio", "ratio_low",
		"ratio_high", "word", "best", "best_stands"))
	for i := range s.Slices {
		of := &s.Slices[i]
		for _, fig := range s.Figures {
			c, against := s.Curve(i, fig, judge.AsMeasured), s.Curve(i, fig, judge.AgainstBaseline)
			for p, point := range of.Points {
				values := r.Sweep.Points[point].At.Values()
				for j, name := range s.Contenders {
					var row []string
					for k := range r.Sweep.Parameters {
						row = append(row, values[r.Sweep.Parameters[k].Name])
					}
					v, ratio := c.Typical[j][p], against.Typical[j][p]
					best := ""
					if leader := c.Places[p].Leader; leader >= 0 {
						best = s.Contenders[leader]
					}
					w.Write(append(row, of.State, string(fig), name, number(v.V), number(v.Low), number(v.High), number(ratio.V),
						number(ratio.Low), number(ratio.High), string(s.Word(of, p, fig, name)), best, c.Places[p].Standing.String()))
				}
			}
		}
	}
	w.Flush()
	return w.Error()
}

// insideOfPoints is what happens in shots at each point where that is known.
func (d *document) insideOfPoints(s *judge.Sweep) error {
	head := "Inside a shot"
	for i := range d.r.Sweep.Points {
		v, err := s.At(i)
		if err != nil {
			return err
		}
		at := &document{r: d.r.AtPoint(i), v: v}
		if at.steps(); at.text.Len() == 0 {
			continue
		}
		if head != "" {
			d.section(head)
			head = ""
		}
		d.line("### %s\n\n%s", d.r.Sweep.Say(d.r.Sweep.Points[i].At), at.text.String())
	}
	return nil
}

// SweptMarkdown writes the report of a sweep: question, sentence, findings, a table of each stretch, what happens
// inside shots, claims, cautions, footing, how to run it again, pictures.
func SweptMarkdown(out io.Writer, r *result.Result, s *judge.Sweep, pictures []paper.Named) error {
	d := &document{r: r, v: &judge.Verdict{Claims: s.Claims, Cautions: s.Cautions}}
	d.line("# %s", r.Plan.Name)
	if r.Plan.Question != "" {
		d.line("\n%s", r.Plan.Question)
	}
	d.line("\n**%s**", s.Sentence)
	kind := judge.RemarkKind("")
	for _, remark := range s.Remarks {
		if remark.Kind != kind {
			kind = remark.Kind
			d.section(strings.ToUpper(string(kind[:1])) + string(kind[1:]))
		}
		d.line("- %s", remark.Text)
	}
	if s.Rounds > 0 {
		d.section("Figures")
		d.line("%s%s; %s at least. Values are those of the typical heat.", strings.ToUpper(s.Note[:1]), s.Note[1:],
			units.Plural(s.Rounds, "round"))
		for i := range s.Slices {
			t := s.Table(i, s.Decides, judge.AsMeasured)
			d.line("")
			d.head(t.Head...)
			for _, row := range t.Rows {
				d.row(row...)
			}
		}
	}
	if err := d.insideOfPoints(s); err != nil {
		return err
	}
	d.claims()
	d.cautions()
	d.footing()
	d.again()
	d.pictures(pictures)
	_, err := io.WriteString(units.PrintableWriter{To: out}, d.text.String())
	return err
}
