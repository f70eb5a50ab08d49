package chart_test

import (
	"math"
	"testing"

	"paceduel/core/chart"
	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/judge/curve"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/internal/sample"
)

func crossing(t *testing.T, params ...result.Parameter) (*judge.Sweep, *result.Result) {
	t.Helper()
	r := sample.MakeSwept(sample.Swept{
		Duel: sample.Duel{
			Entrants: []sample.Entrant{{Name: "buffered", Bytes: 9}, {Name: "mapped", Bytes: 9}, {Name: "locked", Bytes: 9}},
			Rounds:   14, Shots: 20, Seed: 5,
		},
		Parameters: params, Spread: 0.1, Heats: 0.02,
		Takes: func(way int, at ...float64) float64 {
			return []float64{0.001 * (1 + at[0]), 0.001 * (3.4 + 0.2*at[0]), 0.004 * at[0]}[way]
		},
	})
	s, err := judge.JudgeSweep(r)
	if err != nil {
		t.Fatal(err)
	}
	return s, r
}

func TestLinesOfASweep(t *testing.T) {
	if testing.Short() {
		t.Skip("it computes for long, and starts no goroutine that others do not")
	}
	s, r := crossing(t, sample.Numbers("writers", plan.Threads, 1, 2, 4, 6, 8, 12))
	l := chart.NewSweepLines(s, r, chart.SweepLook{Figure: figure.Mean})
	if !l.LogX || !l.Scale.Log || len(l.Lines) != 3 || len(l.Along) != 6 {
		t.Fatalf("log across %v, upward %v, %d lines over %d points", l.LogX, l.Scale.Log, len(l.Lines), len(l.Along))
	}
	for _, line := range l.Lines {
		for i, p := range line.Points {
			if p.X != l.Along[i].At || p.X < 0 || p.X > 1 || p.Low > p.Y || p.High < p.Y || p.Text == "" {
				t.Errorf("%s at %s: %+v", line.Name, l.Along[i].Text, p)
			}
		}
		if n := len(line.Beyond); n == 0 || line.Beyond[n-1].X > 1 || line.Beyond[0].X != line.Points[5].X {
			t.Errorf("%s: the law goes on at %+v", line.Name, line.Beyond)
		}
	}
	if len(l.Turns) != 1 || l.Turns[0].At <= l.Along[1].At || l.Turns[0].At >= l.Along[2].At {
		t.Errorf("turns %+v; want one between 2 and 4", l.Turns)
	}
	if first, last := l.Leads[0], l.Leads[5]; first.Standing != curve.Ahead || first.Signs[0] != chart.SignOf(0) ||
		last.Signs[0] != chart.SignOf(1) {
		t.Errorf("who leads first %+v, last %+v", first, last)
	}
}

// A hidden contender leaves its room to the others, and a part of the axis fills the picture.
func TestLinesInPart(t *testing.T) {
	if testing.Short() {
		t.Skip("it computes for long, and starts no goroutine that others do not")
	}
	s, r := crossing(t, sample.Numbers("writers", plan.Threads, 1, 2, 4, 6, 8, 12))
	whole := chart.NewSweepLines(s, r, chart.SweepLook{Figure: figure.Mean, Y: chart.Linear})
	fewer := chart.NewSweepLines(s, r, chart.SweepLook{Figure: figure.Mean, Y: chart.Linear, Hidden: 1 << 2})
	if len(fewer.Lines) != 2 || fewer.Scale.Max >= whole.Scale.Max {
		t.Errorf("%d lines up to %g; with all up to %g", len(fewer.Lines), fewer.Scale.Max, whole.Scale.Max)
	}
	part := chart.NewSweepLines(s, r, chart.SweepLook{Figure: figure.Mean, Part: chart.Stretched{From: 0, To: 0.5}})
	if part.Along[0].At != 2*whole.Along[0].At || part.Along[5].At <= 1 {
		t.Errorf("points at %+v", part.Along)
	}
	linear := chart.NewSweepLines(s, r, chart.SweepLook{Figure: figure.Mean, X: chart.Linear})
	if step := linear.Along[2].At - linear.Along[1].At; math.Abs(step/(linear.Along[1].At-linear.Along[0].At)-2) > 1e-6 {
		t.Errorf("from 2 to 4 is not twice as far as from 1 to 2: %+v", linear.Along)
	}
	if n := whole.Nearest(whole.Along[3].At + 0.001); n != 3 {
		t.Errorf("nearest to the fourth point is %d", n)
	}
}

func TestLinesAgainstTheBaseline(t *testing.T) {
	if testing.Short() {
		t.Skip("it computes for long, and starts no goroutine that others do not")
	}
	s, r := crossing(t, sample.Numbers("writers", plan.Threads, 1, 2, 4, 6, 8, 12))
	l := chart.NewSweepLines(s, r, chart.SweepLook{Figure: figure.Mean, Scale: judge.AgainstBaseline})
	for _, p := range l.Lines[0].Points {
		if p.Y != l.One || p.Text != "1x" {
			t.Errorf("the baseline lies at %+v; want %g", p, l.One)
		}
	}
	if first, last := l.Lines[1].Points[0].Y, l.Lines[1].Points[5].Y; first >= l.One || last <= l.One {
		t.Errorf("mapped is from %g to %g; want below, then above %g", first, last, l.One)
	}
	if chart.NewSweepLines(s, r, chart.SweepLook{Figure: figure.P99, Scale: judge.InAll}) != nil {
		t.Error("percentiles are added up")
	}
}

func TestAMapOfTwoParameters(t *testing.T) {
	if testing.Short() {
		t.Skip("it computes for long, and starts no goroutine that others do not")
	}
	s, r := crossing(t, sample.Numbers("writers", plan.Threads, 1, 2, 4, 8), sample.Numbers("rows", plan.Items, 20, 400))
	maps := chart.NewSweepMaps(s, r, figure.Mean)
	if len(maps) != 1 || len(maps[0].Cells) != 2 || len(maps[0].Columns) != 4 || maps[0].Down != "rows" {
		t.Fatalf("%+v", maps)
	}
	most := 0.0
	for _, row := range maps[0].Cells {
		for j, c := range row {
			most = max(most, c.Strength)
			if want := chart.SignOf(j / 2); c.Standing == curve.Ahead && c.Signs[0] != want {
				t.Errorf("at %s %+v leads; want %+v", maps[0].Columns[j], c.Signs[0], want)
			}
			if c.Point < 0 || r.Sweep.Points[c.Point].At.Values()["writers"] != maps[0].Columns[j] {
				t.Errorf("the cell under %s is point %d", maps[0].Columns[j], c.Point)
			}
		}
	}
	if most != 1 {
		t.Errorf("the strongest cell has %g", most)
	}
	one, r := crossing(t, sample.Numbers("writers", plan.Threads, 1, 2))
	if chart.NewSweepMaps(one, r, figure.Mean) != nil {
		t.Error("a sweep over one parameter has a map")
	}
}

// A law that falls below nothing beyond what was measured has no say in the scale.
func TestALawBelowNothingLeavesTheScaleAlone(t *testing.T) {
	if testing.Short() {
		t.Skip("it computes for long, and starts no goroutine that others do not")
	}
	r := sample.MakeSwept(sample.Swept{
		Duel: sample.Duel{
			Entrants: []sample.Entrant{{Name: "falling", Bytes: 9}, {Name: "low", Bytes: 9}}, Rounds: 14, Shots: 20, Seed: 5,
		},
		Parameters: []result.Parameter{sample.Numbers("rows", plan.Items, 10, 20, 30, 40, 50, 60)},
		Spread:     0.01, Heats: 0.001,
		Takes: func(way int, at ...float64) float64 { return []float64{0.0625 - 0.001*at[0], 0.002}[way] },
	})
	s, err := judge.JudgeSweep(r)
	if err != nil {
		t.Fatal(err)
	}
	l := chart.NewSweepLines(s, r, chart.SweepLook{Figure: figure.Mean, X: chart.Linear})
	if l.Curve.Laws[0] == nil || l.Curve.Laws[0].Kind != curve.Each {
		t.Fatalf("falling follows %+v; the test wants a straight line", l.Curve.Laws[0])
	}
	if !l.Scale.Log {
		t.Error("values that differ 21 times are not on a logarithmic scale")
	}
}
